//! A trickle of live requests, as the teams ask: who asks how much stands in a file, keys in the environment.

use std::time::Duration;

use futures_util::StreamExt;
use rand::rngs::SmallRng;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};
use serde::Deserialize;
use serde_json::json;

use crate::text::QUESTIONS;

/// What teams ask, as it stands in a file.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrafficFile {
    /// Each kind.
    pub ask: Vec<Ask>,
}

/// One kind of request of one team.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Ask {
    /// With whose key it is sent.
    pub team: String,
    /// What is asked for.
    pub route: String,
    /// Requests on a working day of today.
    pub a_day: u32,
    /// Drawn evenly from..to.
    pub input_tokens: (u64, u64),
    /// Drawn evenly from..to.
    pub output_tokens: (u64, u64),
    /// Part of the input that the upstream has in its cache.
    #[serde(default)]
    pub cached: f64,
    /// A day of the week-end beside a working day.
    pub weekend: f64,
    /// Whether it is asked live too, or only in the made-up past.
    #[serde(default = "is_live")]
    pub live: bool,
}

fn is_live() -> bool {
    true
}

/// Asks until stopped.
///
/// # Errors
/// When a team's key is not in the environment.
pub async fn run(client: &reqwest::Client, url: &str, asks: &[Ask], every: Duration) -> anyhow::Result<()> {
    let mut random = SmallRng::from_rng(&mut rand::rng());
    let asks: Vec<&Ask> = asks.iter().filter(|ask| ask.live).collect();
    loop {
        tokio::time::sleep(every.mul_f64(random.random_range(0.3..1.7))).await;
        let Ok(ask) = asks.choose_weighted(&mut random, |ask| ask.a_day) else { return Ok(()) };
        let variable = format!("WENDOR_KEY_{}", ask.team.to_ascii_uppercase().replace('-', "_"));
        let key = std::env::var(&variable).map_err(|_| anyhow::anyhow!("{variable} is not set"))?;
        let question = QUESTIONS.choose(&mut random).copied().unwrap_or_default();
        let body = json!({
            "model": ask.route, "stream": random.random_bool(0.8),
            "messages": [{ "role": "system", "content": "You answer for Tern Isles Ferries." },
                         { "role": "user", "content": format!("{question} (ticket {})", random.random_range(1000..9999)) }],
        });
        let request = client.post(format!("{url}/v1/chat/completions")).bearer_auth(key).json(&body);
        // One in forty loses patience; each is a task of its own that ends with its answer or within its patience.
        let patience = if random.random_bool(0.025) { Duration::from_millis(600) } else { Duration::from_secs(60) };
        tokio::spawn(tokio::time::timeout(patience, ask_once(request)));
    }
}

/// Reads an answer to its end. Whether it was a good one is the gateway's record, not ours.
async fn ask_once(request: reqwest::RequestBuilder) {
    if let Ok(response) = request.send().await {
        let mut pieces = response.bytes_stream();
        while let Some(Ok(_piece)) = pieces.next().await {}
    }
}
