//! The service's process: the real binary, on a free port, with its log kept for looking into.

use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::os::fd::OwnedFd;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::{Arc, Mutex};

use serde_json::Value;

use crate::waiting::until;

/// The binary, beside the tests' own.
///
/// # Panics
/// When it was not built.
#[must_use]
pub fn binary() -> PathBuf {
    let test = std::env::current_exe().expect("a test is a file");
    let own = test.parent().expect("a file lies in a folder");
    // Tests lie in a folder of their own, below the binaries.
    let folder = if own.ends_with("deps") { own.parent().unwrap_or(own) } else { own };
    let binary = folder.join("wendor");
    assert!(
        binary.exists(),
        "{} is not built: run `cargo build --workspace` first, as scripts/test does",
        binary.display()
    );
    binary
}

/// A running service.
#[derive(Debug)]
pub struct Service {
    process: Child,
    /// Its address for apps.
    pub url: String,
    /// Its address for people; the same unless it was started otherwise.
    pub manage_url: String,
    log: Arc<Mutex<String>>,
}

/// How a service is started.
#[derive(Clone, Debug)]
pub struct Start {
    /// URL of a database that this service has for itself.
    pub database_url: String,
    /// The spool's folder.
    pub spool: PathBuf,
    /// Further settings and variables of its environment.
    pub environment: Vec<(String, String)>,
    /// The message after which nobody reads its log any more, as when whoever started it is gone.
    pub unread_after: Option<&'static str>,
    /// A socket that is held open for it, to listen on.
    pub socket: Option<Arc<TcpListener>>,
    /// Open files that it may have at first, and those that it may ask for.
    pub files: Option<(u32, u32)>,
}

impl Service {
    /// Starts one and waits until it listens.
    ///
    /// # Panics
    /// When it does not.
    pub async fn start(start: &Start) -> Self {
        let mut service = Self::spawn(start);
        let url = until("the service to listen", || {
            let ended = service.process.try_wait().expect("it is ours").is_some();
            assert!(!ended, "the service ended:\n{}", service.log());
            let address = service.listening("listening");
            async move { address }
        })
        .await;
        let is_split = start.environment.iter().any(|(name, _)| name == "WENDOR_MANAGE_LISTEN");
        service.manage_url = if is_split {
            until("the service to listen for people", || {
                let manage = service.listening("listening for management");
                async move { manage }
            })
            .await
        } else {
            url.clone()
        };
        service.url = url;
        service
    }

    fn listening(&self, message: &str) -> Option<String> {
        let line = self.logged(message)?;
        Some(format!("{}://{}", line["scheme"].as_str()?, line["address"].as_str()?))
    }

    /// Starts one that ends by itself; what it says.
    ///
    /// # Panics
    /// When it does not end, or ends well.
    pub async fn refused(start: &Start) -> String {
        let mut service = Self::spawn(start);
        assert!(!service.ended().await, "it ends well:\n{}", service.log());
        until("all that it says", || {
            let log = service.log();
            async move { (!log.is_empty()).then_some(log) }
        })
        .await
    }

    /// Starts one without waiting.
    ///
    /// # Panics
    /// When it cannot be started.
    #[must_use]
    pub fn spawn(start: &Start) -> Self {
        // The socket comes as standard input, and is put where sockets are handed over.
        let hands_over = "exec 3<&0 </dev/null; export LISTEN_FDS=1 LISTEN_PID=$$; ";
        let first = start.socket.is_some().then(|| hands_over.to_owned());
        let first =
            first.or_else(|| start.files.map(|(first, most)| format!("ulimit -Sn {first}; ulimit -Hn {most}; ")));
        let mut command = match first {
            None => Command::new(binary()),
            Some(first) => {
                let mut shell = Command::new("bash");
                shell.arg("-c").arg(format!("{first}exec \"$0\" \"$@\"")).arg(binary());
                shell
            }
        };
        command.arg("serve").arg("--spool").arg(&start.spool);
        command.env("WENDOR_LISTEN", "127.0.0.1:0").env("WENDOR_STOP_NOTICE", "0s");
        command.env("WENDOR_DATABASE_URL", &start.database_url).envs(start.environment.iter().cloned());
        let handed = start.socket.as_ref().map(|socket| socket.try_clone().expect("the socket can be shared"));
        command.stdin(handed.map_or_else(Stdio::null, |socket| Stdio::from(OwnedFd::from(socket))));
        command.stdout(Stdio::null()).stderr(Stdio::piped());
        let mut process = command.spawn().expect("the binary can be started");
        let log = Arc::new(Mutex::new(String::new()));
        let (kept, pipe) = (log.clone(), process.stderr.take().expect("it is piped"));
        let last = start.unread_after.map(|message| format!("\"message\":\"{message}\""));
        // Ends with the process, whose end closes the pipe.
        std::thread::spawn(move || {
            let mut reader = Some(BufReader::new(pipe));
            while let Some(open) = &mut reader {
                let mut line = String::new();
                if !open.read_line(&mut line).is_ok_and(|bytes| bytes > 0) {
                    break;
                }
                if last.as_ref().is_some_and(|last| line.contains(last)) {
                    // Closed before the line is shown to whoever waits for it.
                    reader = None;
                }
                kept.lock().expect("nobody panics with it").push_str(&line);
            }
        });
        Self { process, url: String::new(), manage_url: String::new(), log }
    }

    /// The id of its process.
    #[must_use]
    pub fn pid(&self) -> u32 {
        self.process.id()
    }

    /// All that it has logged.
    ///
    /// # Panics
    /// Never: nobody panics with the log in hand.
    #[must_use]
    pub fn log(&self) -> String {
        self.log.lock().expect("nobody panics with it").clone()
    }

    /// The last line of its log with that message.
    #[must_use]
    pub fn logged(&self, message: &str) -> Option<Value> {
        let log = self.log();
        let lines = log.lines().rev().filter_map(|line| serde_json::from_str::<Value>(line).ok());
        lines.into_iter().find(|line| line["message"] == message)
    }

    /// The last line of its log whose message begins so.
    #[must_use]
    pub fn logged_with(&self, beginning: &str) -> Option<Value> {
        let log = self.log();
        let lines = log.lines().rev().filter_map(|line| serde_json::from_str::<Value>(line).ok());
        lines.into_iter().find(|line| line["message"].as_str().is_some_and(|message| message.starts_with(beginning)))
    }

    /// Ends it at once, as a power cut would.
    ///
    /// # Panics
    /// When it is gone already.
    pub fn kill(&mut self) {
        self.process.kill().expect("it runs");
        self.process.wait().expect("it is ours");
    }

    /// Asks it to stop.
    ///
    /// # Panics
    /// When it cannot be asked.
    pub fn terminate(&self) {
        let asked = Command::new("kill").arg("-TERM").arg(self.process.id().to_string()).status();
        assert!(asked.expect("kill can be run").success());
    }

    /// Waits until it has ended; whether it ended well.
    pub async fn ended(&mut self) -> bool {
        until("the service to end", || {
            let status = self.process.try_wait().expect("it is ours");
            async move { status }
        })
        .await
        .success()
    }
}

impl Drop for Service {
    fn drop(&mut self) {
        // It may have been stopped by the test.
        let _gone = self.process.kill();
        let _reaped = self.process.wait();
    }
}
