//! How long the service takes for what the page Now asks, with thirty days of made-up history.

use std::time::Instant;

use anyhow::anyhow;
use serde_json::Value;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::traffic::TrafficFile;

use crate::verdict::{Against, Found, median};

const CATALOGUE: &str = include_str!("../../../demo/catalogue.toml");
const TRAFFIC: &str = include_str!("../../../demo/traffic.toml");

/// What the page asks when it opens.
const CALLS: [&str; 4] = ["/me", "/service", "/now", "/requests?limit=8"];

/// Times that it is opened in a round.
const OPENINGS: usize = 20;

/// Opens it over a filled ledger and times the calls, in so many rounds.
pub async fn measure(rounds: usize) -> anyhow::Result<Found> {
    eprintln!("Now with thirty days of history ...");
    let mut ferry = Ferry::empty(&Wishes::default()).await;
    ferry.apply(CATALOGUE).await;
    let traffic: TrafficFile = toml::from_str(TRAFFIC)?;
    ferry.remember(CATALOGUE, &traffic.ask, 30).await;
    let mut medians = Vec::new();
    for _ in 0..rounds {
        let mut openings = Vec::new();
        for _ in 0..OPENINGS {
            let mut together = 0.0;
            for call in CALLS {
                let began = Instant::now();
                let answer: Value = ferry.get(call).await;
                together += began.elapsed().as_secs_f64() * 1_000.0;
                if answer.get("detail").is_some() {
                    return Err(anyhow!("{call}: {answer}"));
                }
            }
            openings.push(together);
        }
        medians.push(median(&openings));
    }
    Ok(Found {
        name: "Now with thirty days of history",
        unit: "ms",
        plain: None,
        wendor: median(&medians),
        rounds: medians,
        against: Against::Value,
        bar: 300.0,
    })
}
