//! What `wendor serve` takes: a flag for each setting of the service, but for secrets, which do not belong where other people of the
//! machine could read them.

use std::path::PathBuf;

use clap::Args;

/// Settings of the service; each is also a variable (`WENDOR_LISTEN`) and a line of the settings file (`listen`).
#[derive(Debug, Args)]
pub struct ServeArgs {
    /// Settings file (TOML), with the same names as the flags.
    #[arg(long, value_name = "FILE")]
    pub settings: Option<PathBuf>,
    /// Print version, schema, addresses and the source of each setting; start nothing.
    #[arg(long)]
    pub check: bool,
    /// Address and port to listen on [default: 127.0.0.1:7420].
    #[arg(long, value_name = "ADDRESS")]
    pub listen: Option<String>,
    /// Address and port for console, management API and metrics; then `--listen` is for apps alone.
    #[arg(long, value_name = "ADDRESS")]
    pub manage_listen: Option<String>,
    /// PEM file of the certificate that connections are encrypted with.
    #[arg(long, value_name = "FILE")]
    pub certificate: Option<String>,
    /// PEM file of its key.
    #[arg(long, value_name = "FILE")]
    pub certificate_key: Option<String>,
    /// Address under which apps reach the service from outside.
    #[arg(long, value_name = "URL")]
    pub public_url: Option<String>,
    /// The same of console and management API, where they have a listener of their own.
    #[arg(long, value_name = "URL")]
    pub manage_url: Option<String>,
    /// Ranges of proxies in front of the service whose word counts on where a call comes from.
    #[arg(long, value_name = "RANGES")]
    pub trusted_proxies: Option<String>,
    /// PostgreSQL, as postgres://user@host:port/database; a password belongs in WENDOR_DATABASE_URL.
    #[arg(long, value_name = "URL")]
    pub database_url: Option<String>,
    /// Folder of the spool [default: wendor-spool].
    #[arg(long, value_name = "FOLDER")]
    pub spool: Option<String>,
    /// When an entry is durable: always, batch:TIME or never [default: always].
    #[arg(long, value_name = "WHEN")]
    pub spool_sync: Option<String>,
    /// Size of the spool's files [default: 16MiB].
    #[arg(long, value_name = "SIZE")]
    pub spool_segment: Option<String>,
    /// Requests are refused while less than this is free on the spool's disk [default: 64MiB].
    #[arg(long, value_name = "SIZE")]
    pub spool_keep_free: Option<String>,
    /// An instance beside ours that is gone for so long has its spool drained by us [default: 10m].
    #[arg(long, value_name = "TIME")]
    pub spool_adopt_after: Option<String>,
    /// How long lines of the ledger are kept [default: forever].
    #[arg(long, value_name = "TIME")]
    pub keep_ledger: Option<String>,
    /// How long plans and attempts are kept [default: 90d].
    #[arg(long, value_name = "TIME")]
    pub keep_details: Option<String>,
    /// How long hourly sums are kept [default: forever].
    #[arg(long, value_name = "TIME")]
    pub keep_rollups: Option<String>,
    /// Threads that serve requests [default: 2].
    #[arg(long, value_name = "NUMBER")]
    pub workers: Option<String>,
    /// Largest request body [default: 20MiB].
    #[arg(long, value_name = "SIZE")]
    pub body_limit: Option<String>,
    /// Largest sum of the bodies under way [default: 512MiB].
    #[arg(long, value_name = "SIZE")]
    pub bodies_limit: Option<String>,
    /// How long open streams may go on after SIGTERM [default: 30s].
    #[arg(long, value_name = "TIME")]
    pub grace: Option<String>,
    /// PEM file of further authorities whose certificates upstreams may have.
    #[arg(long, value_name = "FILE")]
    pub authorities: Option<String>,
    /// File of names and addresses that goes before the system's resolver, as /etc/hosts.
    #[arg(long, value_name = "FILE")]
    pub hosts: Option<String>,
    /// Tokens that checks of upstreams may take a day [default: 200000].
    #[arg(long, value_name = "NUMBER")]
    pub check_tokens: Option<String>,
    /// How often the models of upstreams are listed [default: 5m].
    #[arg(long, value_name = "TIME")]
    pub inventory_every: Option<String>,
    /// What is logged: error, warn, info, debug [default: info].
    #[arg(long, value_name = "LEVEL")]
    pub log: Option<String>,
}
