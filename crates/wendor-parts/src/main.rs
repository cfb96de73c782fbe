//! What Wendor is built of: `wendor-parts list` writes a CycloneDX document to standard output, `wendor-parts check` says what must not be
//! there. Both read the lock files alone, so that they need no network.

use std::io::Write;
use std::path::Path;

use wendor_parts::{bom, faults, read};

fn main() -> anyhow::Result<()> {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
    let parts = read(&root)?;
    let mut out = std::io::stdout().lock();
    match std::env::args().nth(1).as_deref() {
        Some("list") => writeln!(out, "{}", bom(&parts)?)?,
        Some("check") => {
            let faults = faults(&parts);
            faults.iter().try_for_each(|fault| writeln!(out, "{fault}"))?;
            anyhow::ensure!(faults.is_empty(), "{} parts must not be there", faults.len());
            writeln!(out, "{} parts, all from where they may be, with what they are known by.", parts.len())?;
        }
        Some(_) | None => anyhow::bail!("say `list` or `check`"),
    }
    Ok(())
}
