//! The command line as people run it.

use std::process::{Command, Stdio};

use crate::service::binary;

/// What a command printed, and how it ended.
#[derive(Debug)]
pub struct Ran {
    /// Standard output.
    pub out: String,
    /// Standard error.
    pub err: String,
    /// Exit status.
    pub status: i32,
}

/// Runs `wendor` with `args` and variables, with nothing else of the test's environment; `input` goes to its standard input.
///
/// # Panics
/// When it cannot be run.
pub async fn wendor(args: &[&str], environment: &[(&str, &str)], input: &str) -> Ran {
    use std::io::Write;
    let mut command = Command::new(binary());
    command.args(args).env_clear().envs(environment.iter().copied());
    command.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::piped());
    let input = input.to_owned();
    let ran = tokio::task::spawn_blocking(move || {
        let mut process = command.spawn().expect("the binary can be started");
        // A command that does not read may be gone by now.
        let _unread = process.stdin.take().expect("it is piped").write_all(input.as_bytes());
        process.wait_with_output().expect("it is ours")
    });
    let ran = ran.await.expect("nothing panics there");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("commands print UTF-8");
    Ran { out: text(ran.stdout), err: text(ran.stderr), status: ran.status.code().unwrap_or(-1) }
}
