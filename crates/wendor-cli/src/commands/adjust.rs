//! `wendor rate adjust`: what requests were priced with, corrected.

use wendor_core::words::{change, money};
use wendor_gateway::admin::adjusting::{Adjusted, AdjustmentAsk};

use super::change::confirm;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::changing::RateAdjustArgs;
use crate::output::{self, Column, Reader};
use crate::words;

pub(super) async fn run(args: RateAdjustArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let RateAdjustArgs { offer, input, output, input_cached, cache_written, image, from, reason, dry_run, yes } = args;
    let ask = AdjustmentAsk { offer, from, input, input_cached, cache_written, output, image, reason, apply: false };
    let seen: Adjusted = management.post("/rates/adjustment", &ask).await?;
    if reader == Reader::Person {
        show(&seen)?;
    }
    if dry_run || seen.requests == 0 {
        return match reader {
            Reader::Program => output::json(&seen),
            Reader::Person if dry_run => output::line("Nothing was recorded: --dry-run."),
            Reader::Person => Ok(()),
        };
    }
    if !yes {
        confirm("Record this?")?;
    }
    let done: Adjusted = management.post("/rates/adjustment", &AdjustmentAsk { apply: true, ..ask }).await?;
    match reader {
        Reader::Program => output::json(&done),
        Reader::Person => {
            output::line(&format!("Recorded: {}. Rates stay as they are.", words::many(done.requests, "adjustment")))
        }
    }
}

fn show(seen: &Adjusted) -> Result<(), Failure> {
    let range = format!("{} to {}", words::instant(seen.from), words::instant(seen.to));
    if seen.requests == 0 {
        return output::sentence(&format!("{range}: every request at {} cost that already.", seen.offer));
    }
    let difference = change(&seen.cost_after, &seen.cost_before);
    output::sentence(&format!(
        "{range}: {} at {} cost {} {} and would have cost {} ({difference}).",
        words::many(seen.requests, "request"),
        seen.offer,
        money(&seen.cost_before, 4),
        seen.currency,
        money(&seen.cost_after, 4),
    ))?;
    let columns =
        [Column::Text("team"), Column::Number("requests"), Column::Money("difference", seen.currency.clone())];
    let rows = seen
        .teams
        .iter()
        .map(|team| vec![team.team.clone(), words::grouped(team.requests), money(&team.difference, 4)]);
    output::table(&columns, rows.collect(), "")
}
