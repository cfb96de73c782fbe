//! Changes of single things of the catalogue. Each is shown as a difference first; with `--dry-run` nothing else happens.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// How a change is made.
#[derive(Clone, Debug, Args)]
pub struct ChangeArgs {
    /// Show what would change, and what that means, and change nothing.
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask, even where a key stops working or something is removed.
    #[arg(long)]
    pub yes: bool,
    /// Why, for whoever reads the revisions.
    #[arg(long, default_value = "", value_name = "TEXT")]
    pub note: String,
    /// Undo it by itself if more than so many of a hundred requests fail, once there were 5.
    #[arg(long, value_name = "PERCENT")]
    pub undo_if_failed: Option<u32>,
    /// Undo it by itself if its requests cost more than that.
    #[arg(long, value_name = "AMOUNT")]
    pub undo_if_cost: Option<String>,
    /// For how long it may undo itself, such as `10m` or `2h`.
    #[arg(long, default_value = "10m", value_name = "TIME")]
    pub undo_within: humantime::Duration,
}

/// What is said of a route. An empty text takes a value away.
#[derive(Debug, Args)]
pub struct RouteEditArgs {
    /// The route.
    pub name: String,
    /// What it is for.
    #[arg(long, value_name = "TEXT")]
    pub purpose: Option<String>,
    /// Whom to ask about it.
    #[arg(long, value_name = "TEXT")]
    pub owner: Option<String>,
    /// From this day on, UTC, it takes no requests.
    #[arg(long, value_name = "DAY")]
    pub retires: Option<String>,
    /// The route to use instead once it has retired.
    #[arg(long, value_name = "NAME")]
    pub successor: Option<String>,
    /// Whether only offers are asked that take a request exactly as it is.
    #[arg(long, value_name = "true|false")]
    pub strict: Option<bool>,
    /// Web pages that may ask it from a browser; empty for none.
    #[arg(long, value_name = "ORIGINS", value_delimiter = ',')]
    pub origins: Option<Vec<String>>,
    #[command(flatten)]
    pub how: ChangeArgs,
}

/// What can be done with the stages of a route. They are counted from 1.
#[derive(Debug, Subcommand)]
pub enum StageCommand {
    /// Add a stage: the last one, or at a place.
    #[command(after_help = "Example: wendor route stage add manifests --offers quarry/fulmar-mini --at 2")]
    Add {
        /// The route.
        route: String,
        /// Its offers.
        #[arg(long, value_name = "OFFERS", value_delimiter = ',', required = true)]
        offers: Vec<String>,
        /// How one of them is picked: share, room, speed, cost or together.
        #[arg(long, default_value = "room", value_name = "HOW")]
        pick: String,
        /// Its place, from 1; the last when absent.
        #[arg(long, value_name = "NUMBER")]
        at: Option<usize>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Change the offers of a stage, or how one of them is picked.
    #[command(after_help = "Example: wendor route stage set manifests 1 --pick cost")]
    Set {
        /// The route.
        route: String,
        /// Which, from 1.
        number: usize,
        /// Its offers, all of them.
        #[arg(long, value_name = "OFFERS", value_delimiter = ',')]
        offers: Option<Vec<String>>,
        /// How one of them is picked: share, room, speed, cost or together.
        #[arg(long, value_name = "HOW")]
        pick: Option<String>,
        /// How long a first token is waited for, such as `10s`.
        #[arg(long, value_name = "TIME")]
        first_event: Option<String>,
        /// How long the whole may take, such as `2m`; the first stage's counts.
        #[arg(long, value_name = "TIME")]
        whole: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Move a stage to another place.
    #[command(after_help = "Example: wendor route stage move manifests 2 1")]
    Move {
        /// The route.
        route: String,
        /// Which, from 1.
        number: usize,
        /// Its place afterwards, from 1.
        to: usize,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove a stage.
    #[command(after_help = "Example: wendor route stage remove manifests 2")]
    Remove {
        /// The route.
        route: String,
        /// Which, from 1.
        number: usize,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// What is said of a team. An empty text takes a value away.
#[derive(Debug, Args)]
pub struct TeamEditArgs {
    /// The team.
    pub name: String,
    /// Whom to ask about it.
    #[arg(long, value_name = "TEXT")]
    pub contact: Option<String>,
    /// The routes that it may use; `all` for every one there is and will be.
    #[arg(long, value_name = "ROUTES", value_delimiter = ',')]
    pub routes: Option<Vec<String>>,
    /// The route of requests that name none.
    #[arg(long, value_name = "NAME")]
    pub default_route: Option<String>,
    /// How much of a full upstream's room it gets beside teams of weight 1.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub weight: Option<String>,
    #[command(flatten)]
    pub how: ChangeArgs,
}

/// What can be done with the quotas of a team.
#[derive(Debug, Subcommand)]
pub enum QuotaCommand {
    /// Set a quota, new or instead of the one with the same measure and window.
    #[command(after_help = "Example: wendor team quota set timetables --measure cost --per month --limit 200")]
    Set {
        /// The team.
        team: String,
        /// requests, input-tokens, output-tokens, tokens, cost or streams.
        #[arg(long, value_name = "MEASURE")]
        measure: String,
        /// minute, hour, day or month; of streams: team or key.
        #[arg(long, value_name = "WINDOW")]
        per: String,
        /// How much; of cost in the currency of the catalogue.
        #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
        limit: String,
        /// What happens when it is reached: refuse or warn; as before when absent, and refuse for a new one.
        #[arg(long, value_name = "WHAT")]
        at_limit: Option<String>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove a quota.
    #[command(after_help = "Example: wendor team quota remove timetables --measure requests --per minute")]
    Remove {
        /// The team.
        team: String,
        /// Of this measure.
        #[arg(long, value_name = "MEASURE")]
        measure: String,
        /// Of this window.
        #[arg(long, value_name = "WINDOW")]
        per: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// What is said of an upstream. An empty text takes a value away.
#[derive(Debug, Args)]
pub struct UpstreamEditArgs {
    /// The upstream.
    pub name: String,
    /// A label of where it stands, such as `on-site`.
    #[arg(long, value_name = "TEXT")]
    pub place: Option<String>,
    /// How many streams it can carry at once.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub streams: Option<String>,
    /// How many requests may wait for room there.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub queue: Option<String>,
    /// How many requests it takes in a minute.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub requests_a_minute: Option<String>,
    /// How many tokens it takes in a minute.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub tokens_a_minute: Option<String>,
    #[command(flatten)]
    pub how: ChangeArgs,
}

/// What can be done with offers.
#[derive(Debug, Subcommand)]
pub enum OfferCommand {
    /// Say what an offer can do. An empty text takes a value away.
    #[command(after_help = "Example: wendor offer edit quarry/fulmar-mini --output-cap 8192 --abilities chat,tools")]
    Edit {
        /// The offer, as `upstream/model`.
        offer: String,
        /// The most output tokens for one answer.
        #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
        output_cap: Option<String>,
        /// Tokens that prompt and answer may have together.
        #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
        context_window: Option<String>,
        /// What it can do, all of it.
        #[arg(long, value_name = "ABILITIES", value_delimiter = ',')]
        abilities: Option<Vec<String>>,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove an offer; routes lose it too.
    #[command(after_help = "Example: wendor offer remove quarry/fulmar-mini --dry-run")]
    Remove {
        /// The offer, as `upstream/model`.
        offer: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// What can be done with rates. They are only added.
#[derive(Debug, Subcommand)]
pub enum RateCommand {
    /// Set what an offer costs from a day on, per million tokens.
    #[command(
        after_help = "Example: wendor rate set quarry/fulmar-large --input 3.1 --input-cached 0.31 --output 14.4 --from 2027-01-01"
    )]
    Set(Box<RateSetArgs>),
    /// Correct what requests were priced with since a day of the past. The rates stay; the difference is recorded as adjustments.
    #[command(
        after_help = "Example: wendor rate adjust quarry/fulmar-large --input 3.1 --output 14.4 --from 2026-11-20 --reason \"invoice of November\""
    )]
    Adjust(Box<RateAdjustArgs>),
    /// The rates of every offer, with their days.
    #[command(after_help = "Example: wendor rate list quarry/fulmar-large")]
    List {
        /// Only this offer.
        offer: Option<String>,
    },
}

/// A rate.
#[derive(Debug, Args)]
pub struct RateSetArgs {
    /// The offer, as `upstream/model`.
    pub offer: String,
    /// Per million input tokens.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub input: String,
    /// Per million output tokens.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub output: String,
    /// Per million input tokens read from the cache; as `--input` when absent.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub input_cached: Option<String>,
    /// Per million input tokens written to the cache; as `--input` when absent.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub cache_written: Option<String>,
    /// Per image.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub image: Option<String>,
    /// First day in force, UTC, such as 2027-01-01.
    #[arg(long, value_name = "DAY")]
    pub from: String,
    #[command(flatten)]
    pub how: ChangeArgs,
}

/// What can be done with the catalogue.
#[derive(Debug, Subcommand)]
pub enum CatalogueCommand {
    /// Print the catalogue in force as a file.
    #[command(after_help = "Example: wendor catalogue export > catalogue.toml")]
    Export,
    /// Check a file without the service: every problem at once, with its place.
    #[command(after_help = "Example: wendor catalogue check catalogue.toml")]
    Check {
        /// Catalogue to check (TOML).
        file: PathBuf,
    },
    /// What a file would change, or what changed between two revisions.
    #[command(after_help = "Examples:\n  wendor catalogue diff catalogue.toml\n  wendor catalogue diff 12 14")]
    Diff {
        /// Catalogue to compare with the one in force (TOML), or a revision to compare with another.
        #[arg(value_name = "FILE|REVISION")]
        what: String,
        /// The later revision; the one in force when absent.
        revision: Option<i64>,
        /// The two files line by line, instead of things and their values.
        #[arg(long)]
        lines: bool,
    },
    /// Apply a file as a new revision, after showing what changes.
    #[command(after_help = "Example: wendor catalogue apply catalogue.toml --note \"quarry joins\"")]
    Apply {
        /// Catalogue to apply (TOML).
        file: PathBuf,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Edit the catalogue in force with your editor: it is checked, its difference shown, and applied.
    #[command(after_help = "Example: EDITOR=vi wendor catalogue edit")]
    Edit {
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Set one value, given as in a file.
    #[command(after_help = "Example: wendor catalogue set upstreams.quayside-a.offers.dunlin-7b.output_cap 8192")]
    Set {
        /// Its place, as messages name it; `[-]` is the end of a list.
        place: String,
        /// The value, as in a file.
        #[arg(allow_negative_numbers = true)]
        value: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Take one value or thing away.
    #[command(after_help = "Example: wendor catalogue unset teams.timetables.weight")]
    Unset {
        /// Its place, as messages name it.
        place: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// What still uses a thing: routes, teams, keys, and who asked in the last 30 days.
    #[command(after_help = "Example: wendor catalogue uses routes.manifests")]
    Uses {
        /// Its place: `upstreams.NAME`, `upstreams.NAME.offers.MODEL`, `routes.NAME` or `teams.NAME`.
        place: String,
    },
    /// Revisions, newest first.
    #[command(after_help = "Example: wendor catalogue revisions")]
    Revisions,
    /// The catalogue as it was at a revision.
    #[command(after_help = "Example: wendor catalogue show 12")]
    Show {
        /// Its number; the one in force when absent.
        revision: Option<i64>,
    },
    /// Put a revision in force again, as a new one. Rates stay: they are only added.
    #[command(after_help = "Example: wendor catalogue restore 12 --note \"the new stage was slow\"")]
    Restore {
        /// Its number.
        revision: i64,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// What an offer should have cost.
#[derive(Debug, Args)]
pub struct RateAdjustArgs {
    /// The offer, as `upstream/model`.
    pub offer: String,
    /// Per million input tokens.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub input: String,
    /// Per million output tokens.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub output: String,
    /// Per million cached input tokens; as input when absent.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub input_cached: Option<String>,
    /// Per million input tokens written to a cache; as input when absent.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub cache_written: Option<String>,
    /// An image; images are not corrected when absent.
    #[arg(long, value_name = "AMOUNT", allow_negative_numbers = true)]
    pub image: Option<String>,
    /// From this day on, UTC.
    #[arg(long, value_name = "DAY")]
    pub from: chrono::NaiveDate,
    /// Why, for whoever asks what the lines are.
    #[arg(long, default_value = "", value_name = "TEXT")]
    pub reason: String,
    /// Show what it would come to, and record nothing.
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask.
    #[arg(long)]
    pub yes: bool,
}
