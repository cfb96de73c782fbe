//! System calls and switches of a whole request, counted by the kernel itself: the same on every machine but for what depends on who runs
//! when.

use std::collections::BTreeMap;
use std::process::{Command, Stdio};
use std::time::Duration;

use anyhow::{Context, ensure};

use crate::load::{self, Target};
use crate::setup::{Setup, Way};

/// Connections that send requests at once, of which each number is told.
const CONNECTIONS: [usize; 2] = [8, 32];

/// How long requests are counted.
const TIME: Duration = Duration::from_secs(4);

/// Counts of one request.
pub struct Counted {
    /// Connections that asked at once.
    pub connections: usize,
    /// System calls by their names.
    pub calls: BTreeMap<String, f64>,
    /// How often another thread had the processor.
    pub switches: f64,
    /// Pages that the kernel had to give.
    pub faults: f64,
}

impl Counted {
    /// All of them together.
    pub fn all_calls(&self) -> f64 {
        self.calls.values().sum()
    }
}

/// Counts whole requests, the drain included.
pub async fn measure(setup: &Setup, target: &Target) -> anyhow::Result<Vec<Counted>> {
    load::whole_for(target, 32, Duration::from_secs(2)).await?;
    setup.ferry.drained().await;
    let mut counted = Vec::new();
    for connections in CONNECTIONS {
        let counting = Command::new("perf")
            .args(["stat", "-x", ";", "-e", "syscalls:sys_enter_*,context-switches,page-faults", "-p"])
            .arg(setup.process(Way::Wendor)?.to_string())
            .stdout(Stdio::null())
            .stderr(Stdio::piped())
            .spawn()
            .context("perf is needed (Debian's linux-perf)")?;
        let requests = load::whole_for(target, connections, TIME).await?;
        setup.ferry.drained().await;
        Command::new("kill").arg("-INT").arg(counting.id().to_string()).status()?;
        let told = String::from_utf8(counting.wait_with_output()?.stderr)?;
        counted.push(read(&told, connections, f64::from(u32::try_from(requests)?))?);
    }
    Ok(counted)
}

/// What `perf stat` tells: a line for each, the count first and the name third.
fn read(told: &str, connections: usize, requests: f64) -> anyhow::Result<Counted> {
    let mut counted = Counted { connections, calls: BTreeMap::new(), switches: 0.0, faults: 0.0 };
    for line in told.lines() {
        let fields: Vec<&str> = line.split(';').collect();
        let [count, _, name, ..] = fields.as_slice() else { continue };
        let Ok(count) = count.parse::<f64>() else { continue };
        match name.strip_prefix("syscalls:sys_enter_") {
            Some(call) if count > 0.0 => drop(counted.calls.insert(call.to_owned(), count / requests)),
            Some(_) => {}
            None if *name == "context-switches" => counted.switches = count / requests,
            None if *name == "page-faults" => counted.faults = count / requests,
            None => {}
        }
    }
    ensure!(!counted.calls.is_empty(), "the kernel counts no system calls here: {told}");
    Ok(counted)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counts_are_read_by_their_names() {
        let told = "# started\n2000;;syscalls:sys_enter_recvfrom;9;100.00;;\n0;;syscalls:sys_enter_read;9;100.00;;\n\
                    500;;context-switches;9;100.00;;\n<not counted>;;page-faults;0;100.00;;\n";
        let counted = read(told, 8, 1_000.0).unwrap();
        assert_eq!(counted.calls.into_iter().collect::<Vec<_>>(), [("recvfrom".to_owned(), 2.0)]);
        assert!((counted.switches - 0.5).abs() < 1e-9 && counted.faults.abs() < 1e-9);
        assert!(read("500;;context-switches;9;100.00;;", 8, 1_000.0).is_err());
    }
}
