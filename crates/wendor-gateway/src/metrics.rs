//! Every metric, with its unit, labels and meaning. Labels come from closed sets or configured names, never from a path or text
//! that someone sent.

use prometheus::core::Collector;
use prometheus::{Encoder, HistogramOpts, HistogramVec, IntCounterVec, IntGauge, Opts, Registry, TextEncoder};
use wendor_core::metering::entry::LedgerEntry;

const FIRST_TOKEN: &str = "From a request's arrival to its first token.";
const COLD_STARTS: &str = "Loads of models while requests came.";

/// Loads take from some seconds for a small model to minutes for a large one from a slow disk.
const LOAD_BUCKETS: [f64; 9] = [0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 60.0, 120.0, 300.0];

/// Seconds: from an answer out of a cache to one that a large model thought about for minutes.
const FIRST_TOKEN_BUCKETS: [f64; 12] = [0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0, 60.0];

const HEALTH_CHANGES: &str = "Offers and upstreams that came to rest or became well again.";
const TOGETHER: &str = "Answers where turns of a conversation are kept together.";

/// All metrics of the process.
#[derive(Debug)]
pub struct Metrics {
    registry: Registry,
    /// Admitted requests that ended, by route and end.
    pub requests: IntCounterVec,
    /// Requests refused before admission, by reason.
    pub refusals: IntCounterVec,
    /// Failed attempts, by upstream and failure kind.
    pub attempt_failures: IntCounterVec,
    /// Offers and upstreams that came to rest or became well again, by upstream and state.
    pub health_changes: IntCounterVec,
    /// Answers where turns of a conversation are kept together, by route and whether its own offer gave them.
    pub together: IntCounterVec,
    /// Seconds that requests waited for room at an upstream, by upstream.
    pub room_wait: HistogramVec,
    /// Seconds that models were loaded while requests came, by upstream and model.
    pub cold_starts: HistogramVec,
    /// Seconds from a request's arrival to its first token, by route.
    pub first_token: HistogramVec,
    /// Tokens, by team and kind (`input`, `input-cached`, `cache-written`, `output`).
    pub tokens: IntCounterVec,
    /// Images, by team.
    pub images: IntCounterVec,
    /// Streams open to apps.
    pub streams_open: IntGauge,
    /// Connections of apps and people.
    pub connections_open: IntGauge,
    /// Entries that the database does not have yet.
    pub spool_pending: IntGauge,
    /// What was set aside of the spool.
    pub spool_aside: IntGauge,
}

impl Metrics {
    /// Makes and registers them.
    ///
    /// # Panics
    /// Never: names and labels are constants that fit the rules.
    #[must_use]
    pub fn new() -> Self {
        let registry = Registry::new();
        let counter = |name: &str, help: &str, labels: &[&str]| {
            let made = IntCounterVec::new(Opts::new(name, help), labels).expect("name and labels fit the rules");
            registered(&registry, made)
        };
        let gauge =
            |name: &str, help: &str| registered(&registry, IntGauge::new(name, help).expect("the name fits the rules"));
        let seconds = |name: &str, help: &str, buckets: &[f64], labels: &[&str]| {
            let options = HistogramOpts::new(name, help).buckets(buckets.to_vec());
            registered(&registry, HistogramVec::new(options, labels).expect("name and labels fit the rules"))
        };
        let requests = counter("wendor_requests_total", "Admitted requests that ended.", &["route", "end"]);
        let refusals = counter("wendor_refusals_total", "Requests refused before admission.", &["reason"]);
        let attempt_failures = counter("wendor_attempt_failures_total", "Failed attempts.", &["upstream", "kind"]);
        let health_changes = counter("wendor_health_changes_total", HEALTH_CHANGES, &["upstream", "state"]);
        let together = counter("wendor_together_answers_total", TOGETHER, &["route", "kept"]);
        let tokens = counter("wendor_tokens_total", "Tokens by kind.", &["team", "kind"]);
        let images = counter("wendor_images_total", "Images in answers.", &["team"]);
        let streams_open = gauge("wendor_streams_open", "Streams open to apps.");
        let connections_open = gauge("wendor_connections_open", "Connections of apps and people that are open.");
        let spool_pending = gauge("wendor_spool_pending_entries", "Entries that the database does not have yet.");
        let spool_aside = gauge(
            "wendor_spool_set_aside",
            "Entries the database refuses, and parts of the spool that cannot be read.",
        );
        let (waits, loads) = (&FIRST_TOKEN_BUCKETS, &LOAD_BUCKETS);
        let first_token = seconds("wendor_first_token_seconds", FIRST_TOKEN, waits, &["route"]);
        let room_wait = seconds("wendor_room_wait_seconds", "Waits for room at an upstream.", waits, &["upstream"]);
        let cold_starts = seconds("wendor_cold_start_seconds", COLD_STARTS, loads, &["upstream", "model"]);
        Self {
            registry,
            requests,
            refusals,
            attempt_failures,
            health_changes,
            together,
            room_wait,
            cold_starts,
            first_token,
            tokens,
            images,
            streams_open,
            connections_open,
            spool_pending,
            spool_aside,
        }
    }

    /// Counts the tokens and images of a line.
    pub fn count_tokens(&self, entry: &LedgerEntry) {
        let (team, tokens) = (entry.team.as_str(), entry.tokens);
        for (kind, count) in [
            ("input", tokens.input),
            ("input-cached", tokens.input_cached),
            ("cache-written", tokens.cache_written),
            ("output", tokens.output),
        ] {
            if count > 0 {
                self.tokens.with_label_values(&[team, kind]).inc_by(count);
            }
        }
        if !entry.images.is_none() {
            self.images.with_label_values(&[team]).inc_by(entry.images.count.into());
        }
    }

    /// The Prometheus text form.
    #[must_use]
    pub fn text(&self) -> Vec<u8> {
        let mut out = Vec::new();
        // Writing into memory fails only for a metric without a name.
        if let Err(error) = TextEncoder::new().encode(&self.registry.gather(), &mut out) {
            tracing::error!(%error, "metrics cannot be written");
        }
        out
    }
}

/// The same, after it is registered.
fn registered<M: Collector + Clone + 'static>(registry: &Registry, made: M) -> M {
    registry.register(Box::new(made.clone())).expect("each name is registered once");
    made
}

impl Default for Metrics {
    fn default() -> Self {
        Self::new()
    }
}
