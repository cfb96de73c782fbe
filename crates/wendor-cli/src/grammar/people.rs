//! People, their tokens, and the service's secret.

use clap::Subcommand;

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
        /// Their name.
        name: String,
    },
    /// Who there is.
    #[command(after_help = "Example: wendor person list")]
    List,
    /// Give a person another role.
    #[command(after_help = "Example: wendor person change duty-desk --role lead --team timetables")]
    Change {
        /// Their name.
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
        /// Their name.
        name: String,
    },
    /// Let a disabled person sign in again.
    #[command(after_help = "Example: wendor person enable lookout")]
    Enable {
        /// Their name.
        name: String,
    },
    /// Take a person's password and tokens away; prints a one-time sign-in for them.
    #[command(after_help = "Example: wendor person reset lookout")]
    Reset {
        /// Their name.
        name: String,
    },
    /// End every session and token of a person.
    #[command(after_help = "Example: wendor person sign-out lookout")]
    SignOut {
        /// Their name.
        name: String,
    },
}

/// Tokens.
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
    },
    /// Your tokens and sessions.
    #[command(after_help = "Example: wendor token list")]
    List,
    /// End a token or session.
    #[command(after_help = "Example: wendor token end 3f9k2mq7")]
    End {
        /// Its id.
        id: String,
    },
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
