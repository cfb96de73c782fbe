//! The deadlines of a stream, and when something is sent so that its connection is kept open.

use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use tokio::time::{Instant, Sleep};
use wendor_wire::failure::{Failure, FailureKind};

/// Without a byte for so long, some proxies between here and the app close the connection; most wait a minute.
const QUIET: Duration = Duration::from_secs(15);

/// What is said when the time of the whole request is over.
pub(super) const WHOLE_TOO_LONG: &str = "the whole request took too long";

/// The deadlines of a stream, and the time of its next heartbeat, in one timer. It is set again only when it fires, not at every event.
pub(super) struct StreamClock {
    timer: Pin<Box<Sleep>>,
    last_event: Instant,
    /// When something was sent last; a heartbeat counts.
    last_sent: Instant,
    /// What keeps the connection open, where the app's dialect has such.
    heartbeat: Option<&'static str>,
    between_events: Duration,
    whole_until: Instant,
}

impl StreamClock {
    /// Begins now, with a heartbeat where the app's dialect has such.
    pub(super) fn begin(
        now: Instant,
        heartbeat: Option<&'static str>,
        between_events: Duration,
        whole_until: Instant,
    ) -> Self {
        let timer = Box::pin(tokio::time::sleep_until(now + between_events.min(QUIET)));
        Self { timer, last_event: now, last_sent: now, heartbeat, between_events, whole_until }
    }

    /// Something came from the upstream.
    pub(super) fn heard(&mut self, now: Instant) {
        self.last_event = now;
    }

    /// Whether the time of the whole request is over.
    pub(super) fn is_over(&self, now: Instant) -> bool {
        now >= self.whole_until
    }

    fn deadline(&self) -> Instant {
        self.whole_until.min(self.last_event + self.between_events)
    }

    fn due(&self) -> Instant {
        match self.heartbeat {
            Some(_) => self.deadline().min(self.last_sent.max(self.last_event) + QUIET),
            None => self.deadline(),
        }
    }

    /// Ready with the failure when a deadline has passed, with a heartbeat when it has been quiet for long.
    pub(super) fn poll_due(&mut self, context: &mut Context<'_>) -> Poll<Result<&'static str, Failure>> {
        loop {
            ready!(self.timer.as_mut().poll(context));
            let (due, now) = (self.deadline(), Instant::now());
            if let Some(heartbeat) = self.heartbeat.filter(|_| due > now && self.due() <= now) {
                self.last_sent = now;
                return Poll::Ready(Ok(heartbeat));
            }
            if due <= now {
                let pause = humantime::format_duration(self.between_events);
                let detail = if due == self.whole_until {
                    WHOLE_TOO_LONG.to_owned()
                } else {
                    format!("no further event within {pause}")
                };
                return Poll::Ready(Err(Failure::new(FailureKind::TimedOut, detail)));
            }
            let next = self.due();
            self.timer.as_mut().reset(next);
        }
    }
}
