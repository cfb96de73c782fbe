//! `wendor now`: the morning look: what needs attention, and yesterday by team beside what was expected of it.

use wendor_gateway::admin::findings::NoticeLine;
use wendor_gateway::admin::now::{Now, TeamYesterday};
use wendor_gateway::admin::teams::QuotaLine;

use crate::client::Management;
use crate::failure::Failure;
use crate::output::{self, Column, Reader};
use crate::words;

pub(super) async fn run(management: &Management, reader: Reader) -> Result<(), Failure> {
    let now: Now = management.get("/now", &[]).await?;
    if reader == Reader::Program {
        return output::json(&now);
    }
    match now.attention.as_slice() {
        [] => output::line("Nothing needs attention.\n")?,
        notices => {
            let columns = [Column::Text("state"), Column::Text("needs attention")];
            output::table(&columns, notices.iter().map(notice).collect(), "")?;
            output::line("")?;
        }
    }
    let columns = [
        Column::Text("team"),
        Column::Money("cost", now.currency.clone()),
        Column::Number("expected"),
        Column::Number("requests"),
        Column::Number("not answered"),
        Column::Number("first token p50"),
        Column::Number("p95"),
        Column::Text("budget of the month"),
    ];
    let mut teams: Vec<&TeamYesterday> = now.teams.iter().collect();
    if teams.len() > 1 {
        teams.push(&now.together);
    }
    output::table(
        &columns,
        teams.into_iter().map(row).collect(),
        "There is no team yet. Apply a catalogue: wendor catalogue apply FILE",
    )?;
    let day = now.yesterday.format("%A %-d %B");
    output::line(&format!(
        "Yesterday, {day}, UTC; expected is what {} cost. Behind a line: wendor usage --last 7d --by day --team NAME",
        now.compared_with
    ))
}

fn notice(notice: &NoticeLine) -> Vec<String> {
    vec![notice.state.clone(), format!("{} {}\n{}", notice.subject, notice.says, notice.why)]
}

fn row(team: &TeamYesterday) -> Vec<String> {
    let figures = &team.figures;
    let expected = team.expected.as_ref().map_or_else(
        || "-".to_owned(),
        |range| format!("{} to {}", words::money(&range.low, 2), words::money(&range.high, 2)),
    );
    vec![
        team.name.clone(),
        words::money(&figures.cost, 2),
        expected,
        words::grouped(figures.requests),
        words::share(figures.not_answered, figures.requests),
        words::wait(figures.first_token.typical_ms),
        words::wait(figures.first_token.slow_ms),
        team.budget.as_ref().map_or_else(String::new, budget),
    ]
}

fn budget(quota: &QuotaLine) -> String {
    let expected =
        quota.expected.as_ref().map_or_else(String::new, |by_end| format!(", {} expected", words::money(by_end, 2)));
    format!("{} of {} used{expected}", words::money(&quota.used, 2), words::money(&quota.limit, 2))
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn a_team_is_told_beside_what_was_expected_of_it() {
        let team: TeamYesterday = serde_json::from_value(json!({
            "name": "freight-desk", "cost": "58.02", "unpriced": 0, "requests": 3902, "not_answered": 4, "cancelled": 0, "estimated": 0,
            "tokens": { "input": 1, "input_cached": 2, "cache_written": 3, "all_input": 6, "output": 4, "reasoning": 0, "preset": 0 },
            "images": 0, "checks": 0,
            "failed_attempts": { "count": 0, "cost": "0",
                                 "tokens": { "input": 0, "input_cached": 0, "cache_written": 0, "all_input": 0, "output": 0, "reasoning": 0, "preset": 0 } },
            "first_token": { "typical_ms": 710, "slow_ms": 3_900 }, "whole": { "typical_ms": 1, "slow_ms": 2 },
            "expected": { "low": "34", "high": "41.5" }, "days": [], "requests_query": "",
            "budget": { "id": "freight-desk/cost/month", "measure": "cost", "window": "month", "limit": "1200", "at_limit": "refuse",
                        "used": "1092", "reserved": "0", "expected": "1410", "resets_at": "2026-12-01T00:00:00Z" },
        }))
        .unwrap();
        let lines = [
            "freight-desk",
            "58.02",
            "34.00 to 41.50",
            "3,902",
            "0.10%",
            "0.71 s",
            "3.90 s",
            "1,092.00 of 1,200.00 used, 1,410.00 expected",
        ];
        assert_eq!(row(&team), lines);
        assert_eq!(row(&TeamYesterday { expected: None, budget: None, ..team })[2], "-");
    }
}
