//! What a process used of the machine, and what others took of it meanwhile. Read from `/proc`.

use std::process::Command;

use anyhow::{Context, anyhow};

/// Microseconds of a clock tick, in which the kernel counts a process' time.
const TICK_US: f64 = 10_000.0;

/// The gateways run on the first processor alone.
const GATEWAY_CPUS: &str = "0";

/// Time that a process took, in microseconds of CPU, with that of its threads.
pub fn cpu_us(pid: u32) -> anyhow::Result<f64> {
    let stat =
        std::fs::read_to_string(format!("/proc/{pid}/stat")).with_context(|| format!("process {pid} is gone"))?;
    // The name stands in parentheses and may hold anything.
    let rest = stat.rsplit_once(')').map_or("", |(_, rest)| rest);
    let field = |index: usize| rest.split_whitespace().nth(index).and_then(|text| text.parse::<f64>().ok());
    let (user, system) = (field(11).context("no user time")?, field(12).context("no system time")?);
    Ok((user + system) * TICK_US)
}

/// Resident memory of a process, in kilobytes.
pub fn resident_kb(pid: u32) -> anyhow::Result<f64> {
    let status = std::fs::read_to_string(format!("/proc/{pid}/status"))?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).ok_or_else(|| anyhow!("no VmRSS"))?;
    Ok(line.trim().trim_end_matches(" kB").parse()?)
}

/// Handles that this process may have open.
pub fn open_files() -> anyhow::Result<usize> {
    let limits = std::fs::read_to_string("/proc/self/limits")?;
    let line = limits.lines().find_map(|line| line.strip_prefix("Max open files")).context("no limit of open files")?;
    Ok(line.split_whitespace().next().context("no limit of open files")?.parse()?)
}

/// The machine's time so far, in ticks: all of it, and what the host gave to others.
#[derive(Clone, Copy, Debug)]
pub struct Ticks {
    all: f64,
    stolen: f64,
}

impl Ticks {
    /// Up to now.
    pub fn now() -> anyhow::Result<Self> {
        let stat = std::fs::read_to_string("/proc/stat")?;
        let first = stat.lines().next().unwrap_or_default();
        let ticks: Vec<f64> = first.split_whitespace().skip(1).filter_map(|text| text.parse().ok()).collect();
        Ok(Self { all: ticks.iter().take(8).sum(), stolen: ticks.get(7).copied().unwrap_or(0.0) })
    }

    /// The part that was stolen since then, of one.
    pub fn stolen_since(self) -> anyhow::Result<f64> {
        let now = Self::now()?;
        let all = now.all - self.all;
        Ok(if all > 0.0 { (now.stolen - self.stolen) / all } else { 0.0 })
    }
}

/// Puts this process, and what it starts, on every processor but the gateways' one.
pub fn pin_all_but_gateways() -> anyhow::Result<()> {
    let count = std::thread::available_parallelism()?.get();
    if count < 2 {
        return Err(anyhow!("two processors are needed: one for the gateway, one for everything else"));
    }
    pin(std::process::id(), &format!("1-{}", count - 1))
}

/// Puts a gateway on its processor.
pub fn pin_gateway(pid: u32) -> anyhow::Result<()> {
    pin(pid, GATEWAY_CPUS)
}

fn pin(pid: u32, cpus: &str) -> anyhow::Result<()> {
    let done = Command::new("taskset")
        .args(["-a", "-c", "-p", cpus, &pid.to_string()])
        .output()
        .context("taskset is needed")?;
    if done.status.success() { Ok(()) } else { Err(anyhow!("taskset: {}", String::from_utf8_lossy(&done.stderr))) }
}

/// The processor's name, for the page.
pub fn processor() -> String {
    let info = std::fs::read_to_string("/proc/cpuinfo").unwrap_or_default();
    let count = info.lines().filter(|line| line.starts_with("processor")).count();
    format!("{count} processors of a virtual machine")
}
