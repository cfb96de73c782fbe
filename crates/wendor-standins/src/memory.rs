//! What a stand-in is and remembers: its profile, the fault that it shows, its tally, every answer, the replies to be given word for
//! word, and the last request as it came.

use std::collections::VecDeque;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, MutexGuard};
use std::time::SystemTime;

use bytes::Bytes;
use serde::{Deserialize, Serialize};
use wendor_wire::dialect::Dialect;

use crate::fault::Fault;
use crate::limit::Counted;
use crate::manners::Manners;

/// Answers remembered one by one; a long demo must not grow without end.
pub(crate) const REMEMBERED: usize = 20_000;

/// How a stand-in is.
#[derive(Clone, Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Profile {
    /// As its faults are set by.
    pub name: String,
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The models that it serves.
    pub models: Vec<String>,
    /// What it speaks.
    #[serde(default = "usual_dialect")]
    pub dialect: Dialect,
    /// The credential that it demands, if any.
    #[serde(default)]
    pub credential: Option<String>,
    /// Wait for a first token, in milliseconds, from..to.
    #[serde(default)]
    pub first_token_ms: (u64, u64),
    /// Tokens a second once it streams; 0 is as fast as it can.
    #[serde(default)]
    pub tokens_per_second: u32,
    /// Length of an answer in tokens, from..to.
    pub answer_tokens: (usize, usize),
    /// What its texts are chosen by.
    #[serde(default)]
    pub seed: u64,
    /// How it differs from a plain one.
    #[serde(default)]
    pub manners: Manners,
}

fn usual_dialect() -> Dialect {
    Dialect::ChatCompletions
}

impl Profile {
    /// A quick one for tests: no waits, short answers, a free port.
    #[must_use]
    pub fn quick(name: &str, models: &[&str]) -> Self {
        Self {
            name: name.to_owned(),
            listen: SocketAddr::from(([127, 0, 0, 1], 0)),
            models: models.iter().map(ToString::to_string).collect(),
            dialect: usual_dialect(),
            credential: None,
            first_token_ms: (0, 0),
            tokens_per_second: 0,
            answer_tokens: (12, 24),
            seed: 1,
            manners: Manners::default(),
        }
    }
}

/// How an answer went, as the stand-in saw it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Outcome {
    /// Sent to its end.
    Served,
    /// The client left before the end.
    ClientLeft,
    /// A fault was shown instead.
    Fault,
}

/// One answer.
#[derive(Clone, Debug)]
pub struct Served {
    /// The request that it belongs to: what the UUID in its `x-request-id` leads back to, or that UUID.
    pub request: Option<String>,
    /// How it went.
    pub outcome: Outcome,
    /// Counted by the stand-in's own rule.
    pub input_tokens: u64,
    /// Output tokens sent.
    pub output_tokens: u64,
    /// When the last byte was handed over.
    pub ended_at: SystemTime,
}

/// Sums of what was served.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Requests that came.
    pub requests: u64,
    /// Answers sent to their end.
    pub served: u64,
    /// Answers that the client left.
    pub client_left: u64,
    /// Input tokens of the answers sent to their end.
    pub input_tokens: u64,
    /// Output tokens of these.
    pub output_tokens: u64,
}

/// A reply to be given word for word.
#[derive(Clone, Debug)]
pub struct Replay {
    /// Status code of HTTP.
    pub status: u16,
    /// Sent in this order.
    pub headers: Vec<(String, String)>,
    /// Sent byte for byte.
    pub body: Bytes,
}

/// A request as it came.
#[derive(Clone, Debug)]
pub struct Seen {
    /// Path with query.
    pub path: String,
    /// Headers in lower case.
    pub headers: Vec<(String, String)>,
    /// Byte for byte, as it arrived.
    pub body: Bytes,
}

/// What changes.
#[derive(Debug, Default)]
pub(crate) struct State {
    pub(crate) fault: Fault,
    pub(crate) tally: Tally,
    pub(crate) served: VecDeque<Served>,
    pub(crate) replays: VecDeque<Replay>,
    pub(crate) last_seen: Option<Seen>,
    pub(crate) last_look: Option<Seen>,
    pub(crate) manners: Manners,
    pub(crate) models: Vec<String>,
    pub(crate) has_loaded: bool,
    pub(crate) of_minute: Counted,
    pub(crate) events: VecDeque<Seen>,
    pub(crate) asked_since: Option<std::time::Instant>,
    /// Listings that came, of those that end streams.
    pub(crate) listings: u64,
}

/// A stand-in's profile and state, shared by its connections.
pub(crate) struct Shared {
    pub(crate) profile: Profile,
    pub(crate) state: Mutex<State>,
    /// Held by the one request that a server serves that serves one at a time.
    pub(crate) turn: Arc<tokio::sync::Mutex<()>>,
}

impl Shared {
    pub(crate) fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }

    pub(crate) fn manners(&self) -> Manners {
        self.state().manners.clone()
    }

    pub(crate) fn ended(&self, served: Served) {
        let mut state = self.state();
        match served.outcome {
            Outcome::Served => {
                state.tally.served += 1;
                state.tally.input_tokens += served.input_tokens;
                state.tally.output_tokens += served.output_tokens;
            }
            Outcome::ClientLeft => state.tally.client_left += 1,
            Outcome::Fault => {}
        }
        if state.served.len() == REMEMBERED {
            state.served.pop_front();
        }
        state.served.push_back(served);
    }
}
