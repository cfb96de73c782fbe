//! People, oneself, tokens, what was done, and the service's secret.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::RangeArgs;

/// People.
#[derive(Debug, Subcommand)]
pub enum PersonCommand {
    /// Add a person, on the server itself (WENDOR_DATABASE_URL); prints their one-time sign-in.
    #[command(after_help = "Example: wendor person add duty-desk --role operator")]
    Add {
        /// Their name: a-z, 0-9, `.`, `_`, `-`.
        name: String,
        /// owner, operator, lead or viewer.
        #[arg(long, value_name = "ROLE")]
        role: String,
        /// The team of a lead or viewer.
        #[arg(long, value_name = "NAME")]
        team: Option<String>,
    },
    /// Print a further one-time sign-in for a person, on the server itself (WENDOR_DATABASE_URL).
    #[command(after_help = "Example: wendor person sign-in duty-desk")]
    SignIn {
        /// 1 to 64 of a-z, 0-9, `.`, `_` and `-`; they sign in with it.
        name: String,
    },
    /// List people.
    #[command(after_help = "Example: wendor person list")]
    List,
    /// Give a person another role.
    #[command(after_help = "Example: wendor person change duty-desk --role lead --team timetables")]
    Change {
        /// Name of the person, from `wendor person list`.
        name: String,
        /// owner, operator, lead or viewer.
        #[arg(long, value_name = "ROLE")]
        role: String,
        /// The team of a lead or viewer.
        #[arg(long, value_name = "NAME")]
        team: Option<String>,
    },
    /// Refuse what a person presents, from now on and everywhere.
    #[command(after_help = "Example: wendor person disable lookout")]
    Disable {
        /// Name of the person, from `wendor person list`.
        name: String,
    },
    /// Let a disabled person sign in again.
    #[command(after_help = "Example: wendor person enable lookout")]
    Enable {
        /// Name of the person, from `wendor person list`.
        name: String,
    },
    /// Take a person's password and tokens away; prints a one-time sign-in for them.
    #[command(after_help = "Example: wendor person reset lookout")]
    Reset {
        /// Name of the person, from `wendor person list`.
        name: String,
    },
    /// Ask for codes of an authenticator app of every person of these roles.
    #[command(after_help = "Example: wendor person require-codes owner operator")]
    RequireCodes {
        /// owner, operator, lead, viewer.
        #[arg(value_name = "ROLE", required_unless_present = "nobody")]
        roles: Vec<String>,
        /// Of no role, from now on.
        #[arg(long, conflicts_with = "roles")]
        nobody: bool,
    },
    /// End every session and token of a person.
    #[command(after_help = "Example: wendor person sign-out lookout")]
    SignOut {
        /// Name of the person, from `wendor person list`.
        name: String,
    },
}

/// What can be done with one's own tokens.
#[derive(Debug, Subcommand)]
pub enum TokenCommand {
    /// Issue a token for programs; it is shown once.
    #[command(after_help = "Example: wendor token issue --label \"nightly report\" --expires 30d")]
    Issue {
        /// What it is for.
        #[arg(long, value_name = "TEXT")]
        label: String,
        /// Until when it works: a day, an instant, or a time from now such as `90d`.
        #[arg(long, value_name = "TIME")]
        expires: Option<String>,
        /// Programs may touch keys of others, people and secrets with it, for which people are asked to sign in again.
        #[arg(long)]
        unasked: bool,
    },
    /// Your tokens and sessions.
    #[command(after_help = "Example: wendor token list")]
    List,
    /// End a token or session.
    #[command(after_help = "Example: wendor token end 3f9k2mq7")]
    End {
        /// Id of the token, from `wendor token list`; not the token itself.
        id: String,
    },
}

/// Yourself.
#[derive(Debug, Subcommand)]
pub enum MeCommand {
    /// Show who you are, and how you sign in.
    #[command(after_help = "Example: wendor me show")]
    Show,
    /// Set your password; it is asked for, or read from standard input: the new one, then the one before if there is one.
    #[command(after_help = "Example: wendor me password")]
    Password,
    /// Set up an authenticator app, whose codes are asked for at every sign-in from then on.
    #[command(after_help = "Example: wendor me set-up-codes")]
    SetUpCodes,
    /// Take your authenticator app away.
    #[command(after_help = "Example: wendor me remove-codes")]
    RemoveCodes,
}

/// What was done.
#[derive(Debug, Subcommand)]
pub enum AuditCommand {
    /// What was done, newest first: by whom, from where, what was before and after.
    #[command(after_help = "Example: wendor audit list --action key-issued --last 7d")]
    List(Box<AuditListArgs>),
    /// Verify the whole audit: names each entry that was edited, removed or moved. Exit status 1 if there is one.
    #[command(after_help = "Example: wendor audit verify --head 120:9f2c..")]
    Verify {
        /// The head that this command printed earlier: finds a rewritten tail too.
        #[arg(long, value_name = "NUMBER:HASH")]
        head: Option<String>,
        /// Verify an exported file instead, without the service.
        #[arg(long, value_name = "FILE")]
        file: Option<PathBuf>,
    },
    /// Print all of it, a line of JSON for each entry, oldest first.
    #[command(after_help = "Example: wendor audit export > audit.jsonl")]
    Export,
}

/// Which entries.
#[derive(Debug, Args)]
pub struct AuditListArgs {
    #[command(flatten)]
    pub range: RangeArgs,
    /// Only what this person did.
    #[arg(long, value_name = "NAME")]
    pub by: Option<String>,
    /// Only of this kind, such as key-issued.
    #[arg(long, value_name = "WORD")]
    pub action: Option<String>,
    /// Only what was done to this, such as `person clerk`.
    #[arg(long, value_name = "WHAT")]
    pub subject: Option<String>,
    /// At most so many.
    #[arg(long, default_value_t = 20, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub limit: u32,
}

/// What can be done with the service's secret.
#[derive(Debug, Subcommand)]
pub enum SecretCommand {
    /// Which secret is in force, and how many kept credentials are under which.
    #[command(after_help = "Example: wendor secret show")]
    Show,
    /// Move kept credentials to the secret in force. An owner's; broken off, it goes on where it was left.
    #[command(
        after_help = "Example: wendor secret rotate\n\nStart the service with the new secret as WENDOR_SECRET and the old one as \
                      WENDOR_SECRET_BEFORE first."
    )]
    Rotate,
}
