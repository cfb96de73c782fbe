//! The table on the terminal, and the page for `docs/`.

use std::io::Write;

use crate::budget::Share;
use crate::kernel::Counted;
use crate::machine;
use crate::verdict::{Against, Found};

fn cells(found: &Found) -> [String; 6] {
    let (low, high) = found.spread();
    let figure = |value: f64| if value.abs() < 10.0 { format!("{value:.2}") } else { format!("{value:.1}") };
    let held = match found.against {
        Against::Ratio => format!("{:.2} times ({:.2} to {:.2})", found.held(), low, high),
        Against::Value => format!("{} {} ({} to {})", figure(found.held()), found.unit, figure(low), figure(high)),
    };
    let has_bar = found.bar.is_finite();
    let bar = match found.against {
        _ if !has_bar => "none".to_owned(),
        Against::Ratio => format!("{} times", found.bar),
        Against::Value => format!("{} {}", found.bar, found.unit),
    };
    [
        found.name.to_owned(),
        found.plain.map_or_else(|| "-".to_owned(), |plain| format!("{} {}", figure(plain), found.unit)),
        format!("{} {}", figure(found.wendor), found.unit),
        held,
        bar,
        if has_bar { found.verdict().words().to_owned() } else { "beside it".to_owned() },
    ]
}

/// One measure in a line.
pub fn line(found: &Found) -> String {
    let [name, plain, wendor, held, _bar, verdict] = cells(found);
    format!("{name}: {wendor} beside {plain}, {held}, {verdict}")
}

const HEADS: [&str; 6] = ["measure", "plain proxy", "Wendor", "median (least to most)", "bar", "verdict"];

/// Prints the table.
pub fn print(found: &[Found]) -> anyhow::Result<()> {
    let rows: Vec<[String; 6]> = std::iter::once(HEADS.map(str::to_owned)).chain(found.iter().map(cells)).collect();
    let width = |column: usize| rows.iter().map(|row| row[column].chars().count()).max().unwrap_or(0);
    let mut out = std::io::stdout().lock();
    for row in &rows {
        let line: Vec<String> =
            row.iter().enumerate().map(|(column, cell)| format!("{cell:<width$}", width = width(column))).collect();
        writeln!(out, "{}", line.join("  ").trim_end())?;
    }
    Ok(())
}

/// Prints what each step of a whole request takes.
pub fn print_budget(shares: &[(&'static str, Share)], plain_us: f64, wendor_us: f64) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    writeln!(out, "A whole request takes {wendor_us:.1} us, the plain proxy's {plain_us:.1} us.\n")?;
    writeln!(out, "{:<20} {:>8} {:>8} {:>10} {:>22}", "step", "own, us", "kernel", "of all", "times the plain proxy")?;
    for (step, share) in shares {
        let Share { own, kernel } = *share;
        let (all, us) = (share.all(), |part: f64| part * wendor_us);
        let times = us(all) / plain_us;
        writeln!(out, "{step:<20} {:>8.1} {:>8.1} {:>9.1}% {times:>22.2}", us(own), us(kernel), all * 100.0)?;
    }
    writeln!(out)?;
    Ok(())
}

/// Prints the system calls of a request.
pub fn print_counts(counted: &[Counted]) -> anyhow::Result<()> {
    let mut out = std::io::stdout().lock();
    for one in counted {
        let Counted { connections, calls, switches, faults } = one;
        writeln!(out, "{connections} connections, each of one request, the drain included:")?;
        writeln!(out, "  {:.2} system calls, {switches:.2} switches, {faults:.2} page faults", one.all_calls())?;
        let mut calls: Vec<(&String, &f64)> = calls.iter().filter(|(_, count)| **count >= 0.01).collect();
        calls.sort_by(|(_, a), (_, b)| b.total_cmp(a));
        let words: Vec<String> = calls.iter().map(|(name, count)| format!("{name} {count:.2}")).collect();
        writeln!(out, "  {}", words.join(", "))?;
    }
    Ok(())
}

/// The page: the table, and how it was measured.
pub fn page(found: &[Found]) -> anyhow::Result<String> {
    let mut text = String::from("# Wendor beside a plain reverse proxy\n\nMade by `scripts/bench`");
    text.push_str(&format!(" on {}, on {}.\n\n", chrono::Utc::now().format("%-d %B %Y"), machine::processor()));
    text.push_str(&format!("| {} |\n|{}\n", HEADS.join(" | "), " --- |".repeat(HEADS.len())));
    for one in found {
        text.push_str(&format!("| {} |\n", cells(one).join(" | ")));
    }
    text.push_str(HOW);
    Ok(text)
}

const HOW: &str = include_str!("how.md");
