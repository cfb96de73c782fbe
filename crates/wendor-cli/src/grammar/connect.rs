//! The grammar of bringing servers in: upstreams, routes, teams, and the guided start.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

use super::changing::{ChangeArgs, QuotaCommand, RouteEditArgs, StageCommand, TeamEditArgs, UpstreamEditArgs};
use super::presets::PresetCommand;

/// What can be done with teams.
#[derive(Debug, Subcommand)]
pub enum TeamCommand {
    /// Teams with their quotas as they stand.
    #[command(after_help = "Example: wendor team list")]
    List,
    /// Make a team; it may use every route and has no quotas until a catalogue file says more.
    #[command(after_help = "Example: wendor team add timetables")]
    Add {
        /// 1 to 64 of a-z, 0-9, `.`, `_` and `-`; it appears in usage and with keys.
        name: String,
    },
    /// Say what a team may use, and whom to ask about it.
    #[command(
        after_help = "Example: wendor team edit data-lab --routes manifests,night-sailings --contact \"lab bench 2\""
    )]
    Edit(Box<TeamEditArgs>),
    /// Change the quotas of a team.
    #[command(subcommand)]
    Quota(QuotaCommand),
    /// Give it another name. Its former name stays known, and records are found under both.
    #[command(after_help = "Example: wendor team rename data-lab tide-lab")]
    Rename {
        /// Its name now.
        name: String,
        /// Its name afterwards.
        to: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove it, after showing what still uses it. Its records stay.
    #[command(after_help = "Example: wendor team remove data-lab --dry-run")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// What can be done with routes.
#[derive(Debug, Subcommand)]
pub enum RouteCommand {
    /// Routes with their stages.
    #[command(after_help = "Example: wendor route list")]
    List,
    /// Make a route of one stage.
    #[command(
        after_help = "Example: wendor route add night-sailings --offers quayside-a/dunlin-7b,quayside-b/dunlin-7b"
    )]
    Add {
        /// The name that apps put in `model`.
        name: String,
        /// Its offers; the one with most room is asked.
        #[arg(long, value_name = "OFFERS", value_delimiter = ',', required = true)]
        offers: Vec<String>,
    },
    /// Say what a route is for, whom to ask about it, when it retires.
    #[command(
        after_help = "Example: wendor route edit manifests --owner \"duty desk\" --retires 2027-03-31 --successor cargo"
    )]
    Edit(Box<RouteEditArgs>),
    /// Who asked for a route in the last 30 days, by key, and under which of its names.
    #[command(after_help = "Example: wendor route callers manifests")]
    Callers {
        /// The route, by its present or a former name.
        name: String,
    },
    /// Change the stages of a route.
    #[command(subcommand)]
    Stage(StageCommand),
    /// What the route adds to requests: standing instructions, example turns, parameters.
    #[command(subcommand)]
    Preset(PresetCommand),
    /// Give it another name. Its former name stays known, and records are found under both.
    #[command(after_help = "Example: wendor route rename manifests cargo-lists")]
    Rename {
        /// Its name now.
        name: String,
        /// Its name afterwards.
        to: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove it, after showing what still uses it. Its records stay.
    #[command(after_help = "Example: wendor route remove manifests --dry-run")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Tell what would become of a request as things are now: every offer, taken or left, and why. Nothing is sent.
    #[command(after_help = "Example: wendor route explain night-sailings --team timetables --request body.json")]
    Explain {
        /// The route.
        name: String,
        /// The team that would ask.
        #[arg(long, value_name = "NAME")]
        team: String,
        /// File with the request's body, `-` for standard input; a short question when absent.
        #[arg(long, value_name = "FILE")]
        request: Option<String>,
        /// The path that it would be sent to.
        #[arg(long, default_value = "/v1/chat/completions", value_name = "PATH")]
        path: String,
    },
    /// Print ready code that asks a route; the key stays in the variable WENDOR_KEY.
    #[command(after_help = "Example: wendor route code night-sailings --language python --streamed > ask.py")]
    Code {
        /// The route.
        name: String,
        /// shell, python or javascript.
        #[arg(long, default_value = "shell", value_name = "LANGUAGE")]
        language: String,
        /// Take the answer piece by piece.
        #[arg(long)]
        streamed: bool,
    },
    /// Print a file of environment variables for an app: address, route, and the key's, empty.
    #[command(after_help = "Example: wendor route env night-sailings > app.env")]
    Env {
        /// The route.
        name: String,
    },
}

/// What can be done with upstreams.
#[derive(Debug, Subcommand)]
pub enum UpstreamCommand {
    /// Upstreams with state, offers and last failure.
    #[command(after_help = "Example: wendor upstream list")]
    List,
    /// Add a model server: detect its dialect, list its models, show what will be written, write it.
    #[command(after_help = "Example: wendor upstream add http://quayside-c:8000 --models dunlin-7b")]
    Add(Box<UpstreamAddArgs>),
    /// Say why an upstream does not answer, layer by layer, and what to do.
    #[command(after_help = "Example: wendor upstream check quayside-a --mend 1")]
    Check(Box<UpstreamCheckArgs>),
    /// Say how much an upstream can carry, and where it stands.
    #[command(after_help = "Example: wendor upstream edit quayside-a --streams 16")]
    Edit(Box<UpstreamEditArgs>),
    /// Give it another name. Its former name stays known, and records are found under both.
    #[command(after_help = "Example: wendor upstream rename quayside-b quayside-c")]
    Rename {
        /// Its name now.
        name: String,
        /// Its name afterwards.
        to: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Remove it, after showing what still uses it. Its records stay.
    #[command(after_help = "Example: wendor upstream remove quayside-b --dry-run")]
    Remove {
        /// Its name.
        name: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// What upstreams serve beside what is offered, what is loaded, what is proven, what changed.
    #[command(after_help = "Example: wendor upstream models chartroom --refresh")]
    Models {
        /// Only this upstream.
        name: Option<String>,
        /// Check now, instead of showing the last check.
        #[arg(long)]
        refresh: bool,
    },
    /// Offer further models of an upstream.
    #[command(after_help = "Example: wendor upstream offer chartroom dunlin-7b:small")]
    Offer {
        /// The upstream.
        name: String,
        /// Its names for the models.
        #[arg(required = true)]
        models: Vec<String>,
        /// Do not ask.
        #[arg(long)]
        yes: bool,
    },
    /// Let an upstream take no new requests; those under way go on.
    #[command(after_help = "Example: wendor upstream drain quayside-a --wait")]
    Drain {
        /// The upstream.
        name: String,
        /// Come back when nothing is under way there any more.
        #[arg(long)]
        wait: bool,
    },
    /// Let a drained upstream take requests again.
    #[command(after_help = "Example: wendor upstream resume quayside-a")]
    Resume {
        /// The upstream.
        name: String,
    },
    /// Give an upstream another credential, read from standard input; Wendor keeps it encrypted.
    #[command(after_help = "Example: wendor upstream credential quarry --overlap 1h < key.txt")]
    Credential {
        /// The upstream.
        name: String,
        /// For how long the one before is used where this one is refused.
        #[arg(long, default_value = "0s", value_name = "TIME")]
        overlap: String,
    },
}

/// How long a check may take.
fn check_time(text: &str) -> Result<Duration, String> {
    let time = humantime::parse_duration(text).map_err(|error| error.to_string())?;
    let bounds = Duration::from_secs(1)..=Duration::from_secs(600);
    bounds.contains(&time).then_some(time).ok_or_else(|| "a check takes from 1s to 10m".to_owned())
}

/// A server and how it is reached.
#[derive(Clone, Debug, Default, Args)]
pub struct ServerArgs {
    /// What it speaks; found out when absent.
    #[arg(long, value_name = "DIALECT")]
    pub dialect: Option<String>,
    /// `own` hardware, or `hosted` and paid for by use; guessed from the address when absent.
    #[arg(long, value_name = "WHICH")]
    pub hosting: Option<String>,
    /// Its key is in this variable of the service, WENDOR_UPSTREAM_...
    #[arg(long, value_name = "NAME", group = "key")]
    pub key_env: Option<String>,
    /// Its key is in this file of the service's folder of credentials.
    #[arg(long, value_name = "PATH", group = "key")]
    pub key_file: Option<String>,
    /// Its key is read from standard input; Wendor keeps it encrypted.
    #[arg(long, group = "key")]
    pub key_stdin: bool,
    /// How the key is sent: bearer, header:NAME or query:NAME.
    #[arg(long, value_name = "WAY")]
    pub auth: Option<String>,
    /// A further request header, as NAME=VALUE; may be given several times.
    #[arg(long, value_name = "HEADER")]
    pub header: Vec<String>,
    /// The key may cross a network unencrypted.
    #[arg(long)]
    pub plain_http: bool,
    /// The one certificate that is accepted, by its SHA-256.
    #[arg(long, value_name = "SHA256")]
    pub certificate: Option<String>,
    /// A file of the service's folder of credentials with the certificate by which Wendor says who it is.
    #[arg(long, value_name = "PATH")]
    pub client_certificate: Option<String>,
    /// How long a check may take, 1s to 10m [10s; 60s with --prove].
    #[arg(long, value_name = "TIME", value_parser = check_time)]
    pub timeout: Option<Duration>,
    /// The other host that may be asked and get the key, where a remedy leads to one.
    #[arg(long, value_name = "HOST")]
    pub to_host: Option<String>,
}

/// A server to be brought in.
#[derive(Debug, Args)]
pub struct UpstreamAddArgs {
    /// Its address, as you would paste it into a browser or an app.
    pub address: String,
    /// A name for it; made from the address when absent.
    #[arg(long, value_name = "NAME")]
    pub name: Option<String>,
    #[command(flatten)]
    pub server: ServerArgs,
    /// The models to offer; all that it lists when absent.
    #[arg(long, value_name = "MODELS", value_delimiter = ',')]
    pub models: Option<Vec<String>>,
    /// A label such as on-site.
    #[arg(long, value_name = "TEXT")]
    pub place: Option<String>,
    /// Streams that it can carry at once.
    #[arg(long, value_name = "NUMBER")]
    pub streams: Option<u32>,
    /// Apply the first remedy of each finding, and go on.
    #[arg(long)]
    pub mend: bool,
    /// Do not ask.
    #[arg(long)]
    pub yes: bool,
}

/// What to check, and how far.
#[derive(Debug, Args)]
pub struct UpstreamCheckArgs {
    /// An upstream of the catalogue, or an address.
    pub upstream: String,
    #[command(flatten)]
    pub server: ServerArgs,
    /// Apply the remedy of this number, and check again.
    #[arg(long, value_name = "NUMBER")]
    pub mend: Option<usize>,
    /// The value that a remedy needs.
    #[arg(long, value_name = "TEXT", requires = "mend")]
    pub value: Option<String>,
    /// Ask on where that costs something: some plain questions, and one for each ability.
    #[arg(long)]
    pub prove: bool,
    /// Ask an offer without a rate all the same.
    #[arg(long)]
    pub unpriced: bool,
    /// The model to be asked; one that is offered when absent.
    #[arg(long, value_name = "MODEL")]
    pub model: Option<String>,
    /// The team that pays; yours when absent.
    #[arg(long, value_name = "NAME")]
    pub team: Option<String>,
    /// Do not ask before something is spent.
    #[arg(long)]
    pub yes: bool,
}

/// The guided start.
#[derive(Debug, Args)]
pub struct StartArgs {
    /// The address of a model server; asked for when absent.
    pub address: Option<String>,
    #[command(flatten)]
    pub server: ServerArgs,
    /// The model to offer; the first that is listed when absent.
    #[arg(long, value_name = "MODEL")]
    pub model: Option<String>,
    /// A name for the route.
    #[arg(long, value_name = "NAME")]
    pub route: Option<String>,
    /// A name for the team.
    #[arg(long, value_name = "NAME")]
    pub team: Option<String>,
    /// Where to write the file of environment variables for the app, key included; printed without it when absent.
    #[arg(long, value_name = "FILE")]
    pub env: Option<PathBuf>,
}
