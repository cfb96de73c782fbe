//! The spool's disk is filled and freed at random: requests are refused while it is full, and go on by themselves.

use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Duration;

use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::waiting::until;

use super::load::{Load, check_recorded};
use super::{of, tell};

const QUOTAS: &str = r#"{ measure = "requests", per = "month", limit = 100000000 }"#;

/// A small disk in memory, gone with this.
struct SmallDisk(PathBuf);

impl SmallDisk {
    /// `None` where nobody lets us mount one: only root may.
    fn mount(folder: &Path, mebibytes: u32) -> Option<Self> {
        std::fs::create_dir_all(folder).ok()?;
        let size = format!("size={mebibytes}m");
        let mounted = Command::new("mount").args(["-t", "tmpfs", "-o", &size, "none"]).arg(folder).output().ok()?;
        mounted.status.success().then(|| Self(folder.to_owned()))
    }

    /// Fills it but for so many kibibytes.
    fn fill(&self, left: u64) {
        let free = Command::new("df").args(["--output=avail", "-k"]).arg(&self.0).output().expect("df is there");
        let text = String::from_utf8_lossy(&free.stdout).into_owned();
        let free: u64 = text.lines().last().and_then(|line| line.trim().parse().ok()).expect("df tells a number");
        let bytes = free.saturating_sub(left) * 1_024;
        // The service may take some of it meanwhile: then it is as full as can be.
        let _full = std::fs::write(self.0.join("ballast"), vec![7; usize::try_from(bytes).unwrap()]);
    }

    fn free(&self) {
        std::fs::remove_file(self.0.join("ballast")).ok();
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _gone = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

#[tokio::test]
async fn a_full_disk_heals_by_itself() {
    let rounds = of(4, 20);
    let folder = tempfile::tempdir().unwrap();
    let Some(disk) = SmallDisk::mount(&folder.path().join("disk"), 12) else {
        tell("disk: not done: a small disk cannot be mounted here, since only root may");
        return;
    };
    let settings = vec![
        ("WENDOR_SPOOL_SEGMENT", "512KiB".to_owned()),
        ("WENDOR_SPOOL_KEEP_FREE", "2MiB".to_owned()),
        ("WENDOR_SPOOL_SYNC", "never".to_owned()),
    ];
    let mut ferry = Ferry::with(Wishes { quotas: QUOTAS.to_owned(), settings, ..Wishes::default() }).await;
    ferry.service.terminate();
    ferry.service.ended().await;
    ferry.start.spool = disk.0.join("spool");
    ferry.restart().await;
    let load = Load::begin(&ferry, 8, Duration::from_millis(1));
    let mut random = SmallRng::seed_from_u64(20);
    let mut refused = 0;
    for round in 0..rounds {
        // To the last byte, to somewhere below the mark, or to just above it.
        let left = [0, random.random_range(0..2_048), random.random_range(2_048..3_000)][round % 3];
        disk.fill(left);
        let asked = load.asked();
        until("some more to be asked", || async { (load.asked() > asked + 200).then_some(()) }).await;
        if left < 2_000 {
            until("requests to be refused", || async {
                (!ferry.get("/spool").await["writable"].as_bool().unwrap()).then_some(())
            })
            .await;
            refused += 1;
        }
        tokio::time::sleep(Duration::from_millis(random.random_range(0..200))).await;
        disk.free();
        let answered = load.answered();
        until("requests to be answered again", || async { (load.answered() > answered + 50).then_some(()) }).await;
    }
    let seen = load.end().await;
    assert!(
        refused > 0 && seen.refused.iter().all(|(status, text)| *status == 503 && text.contains("no_spool")),
        "{:?}",
        seen.refused.first()
    );
    check_recorded(&ferry, &seen).await;
    tell(&format!(
        "disk: filled and freed {rounds} times, {} answers recorded, {} refused while it was full, recovered each time",
        seen.whole.len(),
        seen.refused.len()
    ));
}
