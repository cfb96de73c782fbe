//! What was judged, in a line that tests compare.

use super::finding::{Finding, Weight};
use super::remedy::Act;
use super::report::Judged;

/// Its findings, each with its weight and who can do what about it; `-` where nothing is the matter.
pub fn of(judged: &Judged) -> String {
    if judged.findings.is_empty() {
        return "-".to_owned();
    }
    judged.findings.iter().map(finding).collect::<Vec<_>>().join(" + ")
}

/// Code, sentence and remedies of a finding, one a line.
pub fn finding(finding: &Finding) -> String {
    let remedies = finding.remedies.iter().map(|remedy| match &remedy.act {
        Act::Wendor { change } => serde_json::to_string(change).unwrap(),
        Act::Operator => "operator".to_owned(),
        Act::Owner => "owner".to_owned(),
    });
    let weight = if finding.weight == Weight::Failing { "failing" } else { "noted" };
    format!("{} {weight}: {}", finding.kind.code(), remedies.collect::<Vec<_>>().join(", "))
}
