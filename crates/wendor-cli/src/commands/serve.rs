//! `wendor serve`: settings from all layers, the log, the signals, then [`wendor_gateway::serve`].

use std::net::{SocketAddr, TcpListener};
use std::os::unix::process::CommandExt;

use rustix::process::{Resource, Rlimit};
use serde::Serialize;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::watch;
use tracing_subscriber::EnvFilter;
use wendor_gateway::clock::Clock;
use wendor_gateway::settings::listening::{For, Listening};
use wendor_gateway::settings::{KNOWN, Layers, Settings};
use wendor_gateway::{Listeners, World, serve};
use wendor_store::Store;

use crate::failure::Failure;
use crate::grammar::ServeArgs;
use crate::output::{self, Column, Reader};

/// The allocator's variable for how long it keeps what was freed, in milliseconds.
const KEEPS_FREED: &str = "MIMALLOC_PURGE_DELAY";

/// By how much the service's tasks stand behind its workers.
const BEHIND: i32 = 10;

/// Open files of a connection of an app, with the one to an upstream that it may need; and those of everything else: the database, the
/// spool, the log.
const FILES_A_CONNECTION: u64 = 2;
const OTHER_FILES: u64 = 200;

/// Connections that the system keeps until the service takes them, while many come at once. What a listener has otherwise, 128, is soon full,
/// and an app whose connection is dropped tries again after a second.
const NOT_YET_TAKEN: i32 = 4_096;

/// What must be set before the service runs.
///
/// 1. The allocator gives memory back when something else happens in the same thread some time later, which in a quiet night it
///    does not: after two thousand streams fifty megabytes stayed. It reads its settings before `main`, so the process is begun
///    once more with the one that gives back at once, unless someone has set it.
/// 2. The tasks (drain, watch) work through what requests left behind, in bursts. Their threads give way to the workers, so that no
///    first token waits for them.
/// 3. It may open as many files as the system allows it at most, not the thousand that processes begin with: connections are files, and one
///    more than that would look like an upstream's failure.
pub(super) fn prepare(threads: &mut tokio::runtime::Builder) {
    if std::env::var_os(KEEPS_FREED).is_none()
        && let Ok(own) = std::env::current_exe()
    {
        let mut again = std::process::Command::new(own);
        // Comes back only when it fails, and then the service does without.
        let _failed = again.args(std::env::args_os().skip(1)).env(KEEPS_FREED, "0").exec();
    }
    let files = rustix::process::getrlimit(Resource::Nofile);
    // Up to the second limit everybody may.
    let _as_before = rustix::process::setrlimit(Resource::Nofile, Rlimit { current: files.maximum, ..files });
    threads.on_thread_start(|| {
        // On Linux this is the priority of the thread alone. Where it is not allowed all are equal.
        let _unchanged = rustix::process::nice(BEHIND);
    });
}

pub(super) async fn run(args: ServeArgs, reader: Reader) -> Result<(), Failure> {
    let check = args.check;
    let settings = settings(args)?;
    if check {
        return tell(&settings, reader).await;
    }
    if !settings.access.plain_database && wendor_store::crosses_network_plainly(settings.database_url.expose()) {
        return Err(Failure::NotUnderstood(
            "The database is on another machine, and nothing says that the way to it is encrypted: add ?sslmode=verify-full to \
             database_url, or allow it (database_plain = allowed)."
                .to_owned(),
        ));
    }
    settings.listening.must_be_safe().map_err(Failure::NotUnderstood)?;
    log(&settings);
    warn_of_few_files(settings.connections);
    // What it writes is for nobody else on this machine.
    rustix::process::umask(rustix::fs::Mode::from_raw_mode(0o077));
    wendor_gateway::data_plane::fault::log_panics();
    let listeners = listeners(&settings.listening)?;
    let store = Store::new(settings.database_url.expose())?;
    let (stopping, stop) = watch::channel(false);
    tokio::spawn(stop_on_signal(stopping));
    let world = World { settings, listeners, store, clock: Clock::system(), process: rand::random(), stop };
    serve(world).await.map_err(|error| Failure::Own(error.to_string()))
}

/// Says so where the system allows too few open files for the connections that the settings allow.
fn warn_of_few_files(connections: usize) {
    let needed = FILES_A_CONNECTION * u64::try_from(connections).unwrap_or(u64::MAX / 4) + OTHER_FILES;
    if let Some(most) = rustix::process::getrlimit(Resource::Nofile).maximum
        && most < needed
    {
        tracing::warn!(
            connections,
            open_files_most = most,
            "so many connections may take {needed} open files, and the system allows {most}: raise that (`ulimit -Hn`, `LimitNOFILE=` of \
             a unit), or set `connections` to {}; beyond it connections, and attempts at upstreams, fail",
            most.saturating_sub(OTHER_FILES) / FILES_A_CONNECTION
        );
    }
}

/// The sockets that the service listens on: those that whoever started it holds open for it (`LISTEN_FDS`, the apps' first), so that another
/// instance takes its place without a connection refused; otherwise its own.
fn listeners(listening: &Listening) -> Result<Listeners, Failure> {
    let mut held = listenfd::ListenFd::from_env();
    let mut take = |place: usize| {
        held.take_tcp_listener(place)
            .map_err(|error| Failure::Own(format!("the socket {place} that was inherited is invalid: {error}")))
    };
    let Some(apps) = take(0)? else {
        let apps = listener("listen", listening.listen)?;
        let management = listening.manage_listen.map(|address| listener("manage-listen", address)).transpose()?;
        return Ok(Listeners { apps, management });
    };
    let management = match (listening.manage_listen, take(1)?) {
        (Some(_), Some(handed)) => Some(handed),
        (Some(address), None) => Some(listener("manage-listen", address)?),
        (None, None) => None,
        (None, Some(_)) => {
            return Err(Failure::NotUnderstood(
                "Two sockets were handed over (LISTEN_FDS), and `manage_listen` is not set: set it, or hand over one."
                    .to_owned(),
            ));
        }
    };
    Ok(Listeners { apps, management })
}

fn listener(flag: &str, address: SocketAddr) -> Result<TcpListener, Failure> {
    let bound = TcpListener::bind(address).and_then(|bound| {
        // Once more, for room that is larger.
        rustix::net::listen(&bound, NOT_YET_TAKEN)?;
        Ok(bound)
    });
    bound.map_err(|error| {
        Failure::Own(format!(
            "Cannot listen on {address}: {error}. Is another process using it? Choose another address with --{flag}."
        ))
    })
}

/// The first SIGTERM or SIGINT stops in order; a second one of SIGINT ends at once, as people expect of Ctrl-C.
async fn stop_on_signal(stopping: watch::Sender<bool>) {
    let (Ok(mut terminate), Ok(mut interrupt)) = (signal(SignalKind::terminate()), signal(SignalKind::interrupt()))
    else {
        return tracing::error!("cannot handle signals; the service can only be killed");
    };
    tokio::select! {
        _signal = terminate.recv() => {}
        _signal = interrupt.recv() => {}
    }
    stopping.send_replace(true);
    if interrupt.recv().await.is_some() {
        std::process::exit(130);
    }
}

fn settings(args: ServeArgs) -> Result<Settings, Failure> {
    let mut layers = Layers::default();
    if let Some(path) = &args.settings {
        let unreadable =
            |error| Failure::NotUnderstood(format!("the settings file {} cannot be read: {error}", path.display()));
        let text = std::fs::read_to_string(path).map_err(unreadable)?;
        layers.read_file(&text).map_err(|error| Failure::NotUnderstood(error.to_string()))?;
    }
    for known in KNOWN {
        let variable = format!("WENDOR_{}", known.name.to_ascii_uppercase());
        if let Ok(value) = std::env::var(variable) {
            layers.environment.insert(known.name.to_owned(), value);
        }
    }
    let flags = [
        ("listen", args.listen),
        ("manage_listen", args.manage_listen),
        ("certificate", args.certificate),
        ("certificate_key", args.certificate_key),
        ("public_url", args.public_url),
        ("manage_url", args.manage_url),
        ("trusted_proxies", args.trusted_proxies),
        ("database_url", args.database_url),
        ("spool", args.spool),
        ("spool_sync", args.spool_sync),
        ("spool_segment", args.spool_segment),
        ("spool_keep_free", args.spool_keep_free),
        ("spool_adopt_after", args.spool_adopt_after),
        ("keep_ledger", args.keep_ledger),
        ("keep_details", args.keep_details),
        ("keep_rollups", args.keep_rollups),
        ("workers", args.workers),
        ("body_limit", args.body_limit),
        ("bodies_limit", args.bodies_limit),
        ("grace", args.grace),
        ("authorities", args.authorities),
        ("hosts", args.hosts),
        ("check_tokens", args.check_tokens),
        ("inventory_every", args.inventory_every),
        ("log", args.log),
    ];
    layers.flags.extend(flags.into_iter().filter_map(|(name, value)| Some((name.to_owned(), value?))));
    layers.check().map_err(|problems| {
        let lines: Vec<String> = problems.iter().map(ToString::to_string).collect();
        Failure::NotUnderstood(format!("Invalid settings:\n  {}", lines.join("\n  ")))
    })
}

fn log(settings: &Settings) {
    // The store's notices at each start and the TLS layer's details are nobody's news.
    let filter = format!("{},sqlx=warn,rustls=warn,hyper=warn,sqlx::postgres::notice=warn", settings.log);
    let subscriber = tracing_subscriber::fmt().json().flatten_event(true).with_env_filter(EnvFilter::new(filter));
    // Where nobody reads the log any more there is nobody to tell; telling it on the same pipe would be a panic in whatever logs, the
    // task that stops the service among them.
    subscriber.with_writer(std::io::stderr).log_internal_errors(false).init();
}

#[derive(Serialize)]
struct CheckedSetting<'a> {
    name: &'a str,
    value: &'a str,
    source: &'a str,
}

#[derive(Serialize)]
struct Checked<'a> {
    version: &'a str,
    schema_known: i64,
    schema_found: Option<i64>,
    database: Option<String>,
    console: String,
    settings: Vec<CheckedSetting<'a>>,
}

/// Where the console would be.
fn console_of(listening: &Listening) -> String {
    if let Some(url) = listening.url_of_people() {
        return url.as_str().to_owned();
    }
    let (address, whom) = match listening.manage_listen {
        Some(address) => (address, For::Management),
        None => (listening.listen, For::Everybody),
    };
    let scheme = if listening.certificate_of(whom).is_some() { "https" } else { "http" };
    format!("{scheme}://{address}")
}

/// How long whoever listens on a port may take to say that it is a Wendor.
const PATIENCE: std::time::Duration = std::time::Duration::from_secs(1);

/// `--check`: what would run, and where each setting came from.
async fn tell(settings: &Settings, reader: Reader) -> Result<(), Failure> {
    let store = Store::new(settings.database_url.expose())?;
    let schema = store.schema().await;
    let as_line = |told: &'_ wendor_gateway::settings::ShownSetting| {
        vec![told.name.to_owned(), told.value.clone(), told.source.as_str().to_owned()]
    };
    let version = env!("CARGO_PKG_VERSION");
    match reader {
        Reader::Program => output::json(&Checked {
            version,
            schema_known: Store::known_schema(),
            schema_found: schema.as_ref().ok().map(|schema| schema.found),
            database: schema.as_ref().err().map(ToString::to_string),
            console: format!("{}/", console_of(&settings.listening)),
            settings: settings
                .told
                .iter()
                .map(|told| CheckedSetting { name: told.name, value: &told.value, source: told.source.as_str() })
                .collect(),
        })?,
        Reader::Person => {
            output::line(&format!("Wendor {version}, schema {}.", Store::known_schema()))?;
            match &schema {
                Ok(schema) if schema.found == 0 => output::line("The database is empty; starting makes its schema.")?,
                Ok(schema) => output::line(&format!("The database has schema {}.", schema.found))?,
                Err(error) => output::line(&format!("{error}."))?,
            }
            let Listening { listen, manage_listen, certificate, .. } = &settings.listening;
            let scheme = if certificate.is_some() { "https" } else { "http" };
            let console = console_of(&settings.listening);
            output::line(&match manage_listen {
                None => format!("It would listen on {scheme}://{listen}, the console is at {console}/console/.\n"),
                Some(_) => {
                    format!("It would listen on {scheme}://{listen} for apps; the console is at {console}/console/.\n")
                }
            })?;
            let columns = [Column::Text("setting"), Column::Text("value"), Column::Text("from")];
            output::table(&columns, settings.told.iter().map(as_line).collect(), "")?;
        }
    }
    let ports = ports_are_free(&settings.listening).await;
    if let (Err(taken), Reader::Person) = (&ports, reader) {
        output::line(&format!("\n{taken}"))?;
    }
    schema?;
    ports
}

/// Whether the service could listen where it should. A Wendor that runs there already is no obstacle to looking at settings.
async fn ports_are_free(listening: &Listening) -> Result<(), Failure> {
    for (flag, address) in [("listen", Some(listening.listen)), ("manage-listen", listening.manage_listen)] {
        let Some(address) = address else { continue };
        let Err(taken) = listener(flag, address) else { continue };
        let livez = crate::client::http()?.get(format!("http://{address}/livez")).timeout(PATIENCE).send();
        let said = match livez.await {
            Ok(answer) => answer.text().await.unwrap_or_default(),
            Err(_) => String::new(),
        };
        if said.trim() != "alive" {
            return Err(taken);
        }
    }
    Ok(())
}
