//! The grammar of the command line: `wendor <thing> <action>`, and a few verbs alone where people type them all day.
//!
//! Text enters through clap, typed commands leave for [`crate::commands`]. Each help text has an example; secrets never come as
//! arguments, where other people of the machine could read them.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};
use clap_complete::Shell;
use wendor_wire::dialect::Dialect;

pub mod changing;
pub mod connect;
mod narrow;
pub mod people;
pub mod presets;
pub mod serve;

use changing::{OfferCommand, RateCommand};
use connect::{RouteCommand, StartArgs, TeamCommand, UpstreamCommand};

pub use changing::CatalogueCommand;
pub use narrow::{NarrowArgs, RangeArgs};
pub use people::{AuditCommand, AuditListArgs, MeCommand, PersonCommand, SecretCommand, TokenCommand};
pub use serve::ServeArgs;

const AFTER_HELP: &str = concat!(
    "Where it finds the service: WENDOR_URL (http://127.0.0.1:7420 when unset), WENDOR_TOKEN (a person's token), ",
    "WENDOR_KEY (an app's key, for `ask`), or what `wendor sign-in` has kept.\n\n",
    "Exit status: 0 done; 1 an internal error; 2 the command or a value is invalid; 3 not signed in, or not allowed; ",
    "4 not found; 5 over a quota; 6 the upstreams failed; 7 Wendor cannot be reached. Conventions: docs/client.md."
);

/// A shared gateway to language models: routes, keys, quotas, and what each team used.
#[derive(Debug, Parser)]
#[command(name = "wendor", version, after_help = AFTER_HELP, propagate_version = true, max_term_width = 110)]
pub struct Wendor {
    /// Print JSON for programs instead of columns for people.
    #[arg(long, global = true)]
    pub json: bool,
    #[command(subcommand)]
    pub command: Option<Command>,
}

/// What is to be done.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Run the service.
    #[command(
        after_help = "Example: WENDOR_DATABASE_URL=postgres://wendor@127.0.0.1/wendor wendor serve --listen 127.0.0.1:7420"
    )]
    Serve(Box<ServeArgs>),
    /// Guide an empty installation to its first answer: upstream, offer, route, team, key, question.
    #[command(after_help = "Example: wendor start http://127.0.0.1:8000")]
    Start(Box<StartArgs>),
    /// Ask a route a question; the answer streams.
    #[command(
        after_help = "Example: wendor ask night-sailings \"When does the last boat to Stack Isle leave on Sundays?\""
    )]
    Ask(AskArgs),
    /// What needs attention, and yesterday by team beside what was expected of it.
    #[command(after_help = "Example: wendor now")]
    Now,
    /// What teams, routes, offers or keys used and cost.
    #[command(
        after_help = "Examples:\n  wendor usage --last 7d --by team\n  wendor usage --month 2026-10 --by route --csv > october.csv"
    )]
    Usage(UsageArgs),
    /// Requests: what happened to each.
    #[command(subcommand)]
    Request(RequestCommand),
    /// Keys of apps.
    #[command(subcommand)]
    Key(KeyCommand),
    /// Teams and their quotas.
    #[command(subcommand)]
    Team(TeamCommand),
    /// Routes and their stages.
    #[command(subcommand)]
    Route(RouteCommand),
    /// Upstreams and their health.
    #[command(subcommand)]
    Upstream(UpstreamCommand),
    /// Offers: what each can do.
    #[command(subcommand)]
    Offer(OfferCommand),
    /// Rates: what each offer costs, from which day.
    #[command(subcommand)]
    Rate(RateCommand),
    /// The catalogue (upstreams, routes, teams, quotas, rates) as a file, its single values, and its revisions.
    #[command(subcommand)]
    Catalogue(CatalogueCommand),
    /// People who manage Wendor.
    #[command(subcommand)]
    Person(PersonCommand),
    /// Your own tokens.
    #[command(subcommand)]
    Token(TokenCommand),
    /// Yourself: password, authenticator app.
    #[command(subcommand)]
    Me(MeCommand),
    /// Sign in with a one-time sign-in, read from standard input, or with your password, and keep a token for this machine.
    #[command(
        after_help = "Examples: wendor sign-in --url http://127.0.0.1:7420 < one-time.txt\n          wendor sign-in --name duty-desk"
    )]
    SignIn(SignInArgs),
    /// The audit: what was done, by whom, and whether the record is intact.
    #[command(subcommand)]
    Audit(AuditCommand),
    /// Events: an upstream rests, a quota is near its limit, a key expires.
    #[command(subcommand)]
    Event(EventCommand),
    /// Receivers of events.
    #[command(subcommand)]
    Webhook(WebhookCommand),
    /// Entries on their way into the database.
    #[command(subcommand)]
    Spool(SpoolCommand),
    /// What the service's secret protects, and moving it to another one.
    #[command(subcommand)]
    Secret(SecretCommand),
    /// The ledger: its lines for other programs, and its tables.
    #[command(subcommand)]
    Ledger(LedgerCommand),
    /// Print a script that completes commands in your shell.
    #[command(after_help = "Example: wendor completions bash > /etc/bash_completion.d/wendor")]
    Completions {
        /// The shell that will read the script.
        shell: Shell,
    },
}

/// A question.
#[derive(Debug, Args)]
pub struct AskArgs {
    /// A route that the key's team may use; `wendor route list` shows them.
    pub route: String,
    /// The question; `-` or nothing reads it from standard input.
    pub question: Vec<String>,
    /// A system text before the question.
    #[arg(long, value_name = "TEXT")]
    pub system: Option<String>,
    /// An image that belongs to the question; may be given several times.
    #[arg(long, value_name = "FILE")]
    pub image: Vec<PathBuf>,
    /// A JSON Schema that the answer has to keep to.
    #[arg(long, value_name = "FILE")]
    pub schema: Option<PathBuf>,
    /// The dialect to ask in: chat-completions, responses, messages, generate-content or local-chat.
    #[arg(long, default_value = "chat-completions", value_name = "DIALECT")]
    pub dialect: DialectArg,
    /// Show request and reply as they go over the wire, without secrets.
    #[arg(long)]
    pub show_wire: bool,
    /// Write the answer as it came, control characters included; not to a terminal.
    #[arg(long, conflicts_with = "show_wire")]
    pub raw: bool,
    /// The most tokens of the answer.
    #[arg(long, value_name = "NUMBER")]
    pub max_tokens: Option<u32>,
    /// Counts it as part of this run.
    #[arg(long, value_name = "ID")]
    pub run: Option<String>,
    /// Labels, such as `feature=search,env=prod`.
    #[arg(long, value_name = "LABELS")]
    pub labels: Option<String>,
}

/// A dialect by its name.
#[derive(Clone, Copy, Debug)]
pub struct DialectArg(pub Dialect);

impl std::str::FromStr for DialectArg {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let known = Dialect::ALL.into_iter().find(|dialect| dialect.as_str() == text);
        let names = Dialect::ALL.map(Dialect::as_str).join(", ");
        known.map(Self).ok_or_else(|| format!("there is {names}"))
    }
}

/// Figures.
#[derive(Debug, Args)]
pub struct UsageArgs {
    /// What to tell apart by: team, route, offer, key, upstream, day, hour, minute, run, end, `label:NAME`; or two of them, such as
    /// `route,day`.
    #[arg(long, default_value = "team", value_name = "WHAT")]
    pub by: String,
    #[command(flatten)]
    pub range: RangeArgs,
    #[command(flatten)]
    pub narrow: NarrowArgs,
    /// Tell why it cost more or less than the previous period: by volume, price and mix.
    #[arg(long, conflicts_with_all = ["csv", "by"])]
    pub why: bool,
    /// Print comma-separated values for a spreadsheet: amounts with all their digits, times in milliseconds.
    #[arg(long, conflicts_with = "json")]
    pub csv: bool,
}

/// Which lines of the ledger.
#[derive(Debug, Args)]
pub struct ExportArgs {
    #[command(flatten)]
    pub range: RangeArgs,
    #[command(flatten)]
    pub narrow: NarrowArgs,
}

/// What can be asked of single requests.
#[derive(Debug, Subcommand)]
pub enum RequestCommand {
    /// The latest requests, newest first.
    #[command(after_help = "Example: wendor request list --team freight-desk --end not-answered --last 24h")]
    List(Box<RequestListArgs>),
    /// One request: attempts with reasons, tokens, cost as a sum, where its time went.
    #[command(after_help = "Example: wendor request show 01JDF3-7QK2M0XZ4T")]
    Show {
        /// The id that the app got in its answer, or one from `wendor request list`.
        id: String,
    },
    /// Requests while they are under way: a line at each step and one at the end, until Ctrl-C or until the one that is named has ended.
    #[command(
        after_help = "Examples:\n  wendor request follow --route harbour-assistant\n  wendor request follow 01JDF3-7QK2M0XZ4T"
    )]
    Follow(FollowArgs),
    /// Refused before admission, which the ledger does not hold: the latest, and counts of the last hour.
    #[command(after_help = "Example: wendor request refusals")]
    Refusals,
}

/// Which requests that are under way.
#[derive(Debug, Args)]
pub struct FollowArgs {
    /// Only this one.
    pub id: Option<String>,
    /// Only of this team.
    #[arg(long, value_name = "NAME")]
    pub team: Option<String>,
    /// Only to this route.
    #[arg(long, value_name = "NAME")]
    pub route: Option<String>,
    /// Only at this upstream.
    #[arg(long, value_name = "NAME")]
    pub upstream: Option<String>,
}

/// Narrows a list of requests; without any of it, the newest of all.
#[derive(Debug, Args)]
pub struct RequestListArgs {
    #[command(flatten)]
    pub range: RangeArgs,
    #[command(flatten)]
    pub narrow: NarrowArgs,
    /// Only this run.
    #[arg(long, value_name = "ID")]
    pub run: Option<String>,
    /// Only those with this label, as `name=value`.
    #[arg(long, value_name = "LABEL")]
    pub label: Option<String>,
    /// Only those that ended so: proper, output-cap, cancelled, cut-off, rejected, not-answered, not-taken, or failed
    /// (cut-off and not-answered).
    #[arg(long, value_name = "END")]
    pub end: Option<String>,
    /// Only those with an attempt that failed in this way.
    #[arg(long, value_name = "KIND")]
    pub failure: Option<String>,
    /// Only those with so many attempts: `2`, or `2+` for two or more.
    #[arg(long, value_name = "NUMBER")]
    pub attempts: Option<String>,
    /// Which attempts count for --offer, --upstream and --failure: any of them, or the last [default: any].
    #[arg(long, value_name = "WHICH")]
    pub tried: Option<String>,
    /// At most so many.
    #[arg(long, default_value_t = 20, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub limit: u32,
}

/// What can be done with keys.
#[derive(Debug, Subcommand)]
pub enum KeyCommand {
    /// Issue a key; it is shown once.
    #[command(
        after_help = "Example: wendor key issue --team timetables --label \"departure board\" --routes night-sailings --expires 90d"
    )]
    Issue {
        /// Team that the requests are counted for.
        #[arg(long, value_name = "NAME")]
        team: String,
        /// What it is for.
        #[arg(long, value_name = "TEXT")]
        label: String,
        /// The routes it may use; all of its team's when absent.
        #[arg(long, value_name = "NAMES", value_delimiter = ',')]
        routes: Option<Vec<String>>,
        /// Until when it works: a day, an instant, or a time from now such as `90d`.
        #[arg(long, value_name = "TIME")]
        expires: Option<String>,
        /// `batch`: all its requests wait behind interactive ones.
        #[arg(long, value_name = "LANE")]
        lane: Option<String>,
    },
    /// Keys and their state.
    #[command(after_help = "Example: wendor key list --team timetables")]
    List {
        /// Only this team.
        #[arg(long, value_name = "NAME")]
        team: Option<String>,
    },
    /// Revoke a key; it is refused everywhere within a second.
    #[command(after_help = "Example: wendor key revoke 3f9k2mq7")]
    Revoke {
        /// Id of the key, from `wendor key list`; not the key itself.
        id: String,
    },
}

/// Where to sign in, and with which link.
#[derive(Debug, Args)]
pub struct SignInArgs {
    /// Where the service is; kept with the token.
    #[arg(long, value_name = "URL")]
    pub url: Option<String>,
    /// Your name; the password is asked for, or read from standard input, and a code after it where you have an authenticator app.
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
}

/// What can be done with the spool, without a running service.
#[derive(Debug, Subcommand)]
pub enum SpoolCommand {
    /// What is pending, and what is set aside with the reason.
    #[command(after_help = "Example: wendor spool show")]
    Show,
    /// Try again to record what was set aside.
    #[command(after_help = "Example: wendor spool retry")]
    Retry,
}

/// What can be asked of events.
#[derive(Debug, Subcommand)]
pub enum EventCommand {
    /// The latest events, newest first.
    #[command(after_help = "Example: wendor event list --kind health")]
    List {
        /// Only of this kind: health, slow, spool, quota, expiry, models, fault, revision, test.
        #[arg(long, value_name = "KIND")]
        kind: Option<String>,
        /// How many, 200 at most.
        #[arg(long, default_value_t = 20, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
        limit: u32,
    },
}

/// Webhooks, which the catalogue file names.
#[derive(Debug, Subcommand)]
pub enum WebhookCommand {
    /// The webhooks: the events that each receives, what is pending, and its last delivery.
    #[command(after_help = "Example: wendor webhook list")]
    List,
    /// The latest deliveries to one, newest first.
    #[command(after_help = "Example: wendor webhook deliveries on-call")]
    Deliveries {
        /// Name of the webhook, as messages and events call it.
        name: String,
        /// How many, 200 at most.
        #[arg(long, default_value_t = 20, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
        limit: u32,
    },
    /// Send it an event of the kind `test` now, and tell what came of that.
    #[command(after_help = "Example: wendor webhook try on-call")]
    Try {
        /// Name of the webhook, from `wendor webhook list`.
        name: String,
    },
}

/// The ledger: its lines for other programs, and its tables.
#[derive(Debug, Subcommand)]
pub enum LedgerCommand {
    /// Every line of a range as comma-separated values, oldest first: requests, attempts that used something, checks, corrections.
    #[command(
        after_help = "Examples:\n  wendor ledger export --month 2026-10 > october.csv\n  wendor ledger export --last 24h --team freight-desk > freight.csv"
    )]
    Export(Box<ExportArgs>),
    /// The months that are kept, with their sizes.
    #[command(after_help = "Example: wendor ledger partitions")]
    Partitions,
}

#[cfg(test)]
mod tests {
    use super::*;
    use clap::CommandFactory;

    #[test]
    fn every_action_has_an_example() {
        fn check(command: &clap::Command) {
            let children: Vec<_> = command.get_subcommands().filter(|child| child.get_name() != "help").collect();
            for child in &children {
                check(child);
            }
            if children.is_empty() {
                let example = command.get_after_help().map(ToString::to_string).unwrap_or_default();
                assert!(
                    example.starts_with("Example") && example.contains("wendor"),
                    "{} has no example",
                    command.get_name()
                );
            }
        }
        let mut command = Wendor::command();
        command.build();
        check(&command);
    }
}
