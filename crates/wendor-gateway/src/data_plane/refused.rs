//! What is known of a request that was refused: the parts of a [`Refusal`](super::refusal::Refusal).

use std::fmt;

use chrono::{DateTime, Utc};
use wendor_core::catalog::retirement::Gone;
use wendor_core::name::{Name, OfferName};
use wendor_core::routing::failure::{AllFailed, FailedAttempt};
use wendor_core::serving::fit::Unfit;

use crate::allowances::OverQuota;

/// What is told and kept of a name that someone sent: it may be anything, and a name is at most 64 characters.
pub(super) const KEPT_OF_A_NAME: usize = 80;

/// A secret in a body, as far as it is told.
#[derive(Debug)]
pub enum SecretHeld {
    /// The live key of this id.
    Key(String),
    /// The live token of this id.
    Token(String),
    /// The credential of an upstream, of which apps learn no more.
    Credential,
}

/// A name that is no route of a key.
#[derive(Debug)]
pub struct UnknownRoute {
    /// Id of the key that asked.
    pub key: String,
    /// What the app wrote.
    pub wanted: String,
    /// The nearest route that the key may use.
    pub nearest: Option<String>,
    /// All that it may use.
    pub known: Vec<String>,
}

/// A request for a name that is served no more.
#[derive(Debug)]
pub struct RouteGone {
    /// Id of the key that asked.
    pub key: String,
    /// The route.
    pub route: Name,
    /// The name that the app wrote.
    pub asked: String,
    /// Since when, and what to use instead.
    pub gone: Gone,
}

/// A request that no offer of its route can serve.
#[derive(Debug)]
pub struct CannotServe {
    /// Id of the key that asked.
    pub key: String,
    /// As the app asked for it.
    pub route: String,
    /// Its offers, and why each cannot.
    pub unfit: Vec<(OfferName, Unfit)>,
}

/// A quota without room.
#[derive(Debug)]
pub struct QuotaFull {
    /// Whose.
    pub team: String,
    /// Which, and what it holds.
    pub over: OverQuota,
    /// When it was asked.
    pub now: DateTime<Utc>,
    /// For whom.
    pub caller: Caller,
}

/// A request that no offer answered.
#[derive(Debug)]
pub struct GivenUp {
    /// Status and time to come back.
    pub answer: AllFailed,
    /// What was tried.
    pub attempts: Vec<FailedAttempt>,
    /// What was not, and why.
    pub left_out: Vec<String>,
    /// The revision in force.
    pub revision: i64,
}

/// Who was refused, as far as it is known.
#[derive(Clone, Debug, Default)]
pub struct Caller {
    /// Id of the key.
    pub key: Option<String>,
    /// Where the request was read that far.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
}

/// As many requests under way as may be at once.
#[derive(Debug)]
pub struct StreamsFull {
    /// Whose.
    pub team: Name,
    /// Whether the limit is that of the key alone.
    pub is_of_key: bool,
    /// Streams that may be open at once.
    pub limit: u32,
    /// Who was refused.
    pub caller: Caller,
}

impl fmt::Display for StreamsFull {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { team, limit, .. } = self;
        let (whose, whom) = match (self.is_of_key, &self.caller.key) {
            (true, Some(key)) => (format!("This key ({key}) of team {team}"), "each key"),
            (_, _) => (format!("Team {team}"), "the team"),
        };
        let requests = if *limit == 1 { "1 request".to_owned() } else { format!("{limit} requests") };
        write!(
            formatter,
            "{whose} has {requests} under way, as many as {whom} may at once. Try again when one has ended."
        )
    }
}
