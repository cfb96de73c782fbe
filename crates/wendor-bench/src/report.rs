//! The table on the terminal, and the page for `docs/`.

use std::io::Write;

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
