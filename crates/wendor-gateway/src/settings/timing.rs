//! How long things may take: what comes in, what goes out, and the end of the service.

use std::time::Duration;

use super::Check;
use super::values::{some_time, time};

/// Times of the service.
#[derive(Clone, Copy, Debug)]
pub struct Timing {
    /// For a request's head.
    pub head: Duration,
    /// For an app to take what there is of its answer.
    pub take: Duration,
    /// After how long the head of a streamed answer goes out that nobody gives yet.
    pub head_after: Duration,
    /// How often connections to upstreams are tried that nobody asks.
    pub probe_every: Duration,
    /// How often it is looked whether something needs attention, for events.
    pub look_every: Duration,
    /// How long the state of before is served while changes cannot be looked for.
    pub serve_stale: Duration,
    /// From the signal to stop until no new connections are taken: `/readyz` says so meanwhile.
    pub stop_notice: Duration,
    /// How long open streams may go on after that.
    pub grace: Duration,
}

impl Check<'_> {
    pub(super) fn timing(&mut self) -> Option<Timing> {
        let [head, take, head_after, probe_every, look_every] =
            ["head_time", "take_time", "head_after", "probe_every", "look_every"]
                .map(|name| self.value(name, some_time));
        let [serve_stale, stop_notice, grace] =
            ["serve_stale", "stop_notice", "grace"].map(|name| self.value(name, time));
        Some(Timing {
            head: head?,
            take: take?,
            head_after: head_after?,
            probe_every: probe_every?,
            look_every: look_every?,
            serve_stale: serve_stale?,
            stop_notice: stop_notice?,
            grace: grace?,
        })
    }
}
