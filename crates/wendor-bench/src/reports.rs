//! How long reports take over a ledger of a given size, once days and hours are summed up behind it.

use std::time::{Duration, Instant};

use anyhow::{anyhow, ensure};
use chrono::{TimeDelta, Utc};
use serde_json::Value;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::filling::{self, Past};

use crate::machine::resident_kb;
use crate::verdict::{Against, Found};

/// Times that each is asked.
const TIMES: usize = 40;

/// Keys, teams, routes of the past.
const KEYS: u32 = 1_000;
const TEAMS: u32 = 50;
const ROUTES: u32 = 60;

/// Between two looks at how far the service has come.
const LOOKED_AGAIN: Duration = Duration::from_millis(500);

/// Days of the past.
const DAYS: u32 = 62;

/// Of 100 times as many do not take longer than what is told (nearest rank).
const TOLD_PERCENT: usize = 95;

/// What is asked, by what it is called: over the last thirty days where it has a range.
const ASKED: [(&str, &str); 22] = [
    ("the page Now", "/now"),
    ("a month by team", "/usage?{month}&by=team"),
    ("a month by route", "/usage?{month}&by=route"),
    ("a month by offer", "/usage?{month}&by=offer"),
    ("a month by upstream", "/usage?{month}&by=upstream"),
    ("a month by key", "/usage?{month}&by=key"),
    ("a month by day", "/usage?{month}&by=day"),
    ("a month of a team by key", "/usage?{month}&by=key&team=team-007"),
    ("a month by route and day", "/usage?{month}&by=route,day"),
    ("a week by hour", "/usage?{week}&by=hour"),
    ("why a month cost more", "/usage/why?{month}"),
    ("a day by label", "/usage?{day}&by=label:feature"),
    ("a month by label", "/usage?{month}&by=label:feature"),
    ("a month by label and day", "/usage?{month}&by=label:feature,day"),
    ("a month by a label of 300 values", "/usage?{month}&by=label:customer"),
    ("the same of a team", "/usage?{month}&by=label:customer&team=team-007"),
    ("a month by end", "/usage?{month}&by=end"),
    ("a day by run", "/usage?{day}&by=run"),
    ("a day of a team by run", "/usage?{day}&by=run&team=team-007"),
    ("a month of a team by run", "/usage?{month}&by=run&team=team-007"),
    ("24 hours to now by label", "/usage?{last}&by=label:feature"),
    ("the latest requests of a team", "/requests?limit=50&team=team-007"),
];

/// Asks everything over a ledger of so many thousands of entries.
pub async fn measure(thousands: u32) -> anyhow::Result<Vec<Found>> {
    let ferry = Ferry::empty(&Wishes::default()).await;
    ferry.apply(&catalogue()).await;
    let past = Past { entries: thousands * 1_000, days: DAYS, keys: KEYS, teams: TEAMS, routes: ROUTES, seed: 7 };
    eprintln!("Reports over {thousands} thousand entries: filling ...");
    let began = Instant::now();
    let filled = past.fill(&ferry.database.url, Utc::now()).await?;
    eprintln!("  {} entries and {} hourly roll-ups in {:?}", filled.entries, filled.rollups, began.elapsed());
    let began = Instant::now();
    summed(&ferry).await?;
    eprintln!("  summed up in {:?}", began.elapsed());
    let mut found = Vec::new();
    for (name, call) in ASKED {
        let call = with_ranges(call);
        let mut times = Vec::new();
        for _ in 0..TIMES {
            let began = Instant::now();
            let answer: Value = ferry.get(&call).await;
            times.push(began.elapsed().as_secs_f64() * 1_000.0);
            if answer.get("detail").is_some() {
                return Err(anyhow!("{call}: {answer}"));
            }
        }
        times.sort_by(f64::total_cmp);
        let told = times[(times.len() * TOLD_PERCENT).div_ceil(100) - 1];
        eprintln!("  {name}: {told:.0} ms at most in {TOLD_PERCENT} of 100");
        found.push(Found {
            name,
            unit: "ms",
            plain: None,
            wendor: told,
            rounds: vec![told],
            against: Against::Value,
            bar: 300.0,
        });
    }
    exported(&ferry).await?;
    ensure!(!found.is_empty(), "nothing was asked");
    Ok(found)
}

/// Exports the lines of a month, and tells how long that takes and how much memory.
async fn exported(ferry: &Ferry) -> anyhow::Result<()> {
    let megabytes = || Ok::<_, anyhow::Error>(resident_kb(ferry.service.pid())? / 1_024.0);
    let (before, began) = (megabytes()?, Instant::now());
    let url = ferry.manage(&with_ranges("/ledger/export?{month}"));
    let mut answer = ferry.http.get(url).bearer_auth(&ferry.owner).send().await?.error_for_status()?;
    let (mut bytes, mut lines, mut most) = (0, 0, before);
    while let Some(piece) = answer.chunk().await? {
        // Some thousand times, however long it is.
        if bytes >> 20 != (bytes + piece.len()) >> 20 {
            most = megabytes()?.max(most);
        }
        bytes += piece.len();
        lines += piece.iter().filter(|byte| **byte == b'\n').count();
    }
    ensure!(lines > 1, "no line was exported");
    eprintln!(
        "  a month exported: {} lines, {} MB in {:?}; the service takes {before:.0} MB before and {most:.0} MB at most",
        lines - 1,
        bytes >> 20,
        began.elapsed(),
    );
    Ok(())
}

/// Until the days are summed up.
async fn summed(ferry: &Ferry) -> anyhow::Result<()> {
    while filling::days_to_sum(&ferry.database.url).await? > 0 {
        // It is asked, and not waited for, what the service does behind everything else.
        tokio::time::sleep(LOOKED_AGAIN).await;
    }
    Ok(())
}

fn with_ranges(call: &str) -> String {
    let today = Utc::now().date_naive();
    let range = |days: i64| {
        let from = today - TimeDelta::days(days);
        format!("from={from}T00:00:00Z&to={today}T00:00:00Z")
    };
    let now = Utc::now();
    let last = format!("from={}&to={}", (now - TimeDelta::days(1)).format("%FT%TZ"), now.format("%FT%TZ"));
    call.replace("{last}", &last)
        .replace("{month}", &range(30))
        .replace("{week}", &range(7))
        .replace("{day}", &range(1))
}

/// Teams and routes of the past.
fn catalogue() -> String {
    let mut text = String::new();
    for upstream in ["quayside", "quarry", "breakwater", "slipway", "lighthouse"] {
        text.push_str(&format!(
            "[upstreams.{upstream}]\naddress = \"http://127.0.0.1:9\"\nhosting = \"own\"\noffers.dunlin-70b = {{ }}\noffers.fulmar-large = {{ }}\n"
        ));
    }
    (0..ROUTES).for_each(|number| {
        let route = filling::route(number);
        text.push_str(&format!("[routes.{route}]\nstages = [{{ offers = [\"quayside/dunlin-70b\"] }}]\n"));
    });
    (0..TEAMS).for_each(|number| text.push_str(&format!("[teams.{}]\n", filling::team(number))));
    text
}
