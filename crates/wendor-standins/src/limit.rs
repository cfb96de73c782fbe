//! A limit by the minute, as hosted services keep it: told in the headers of every answer, refused beyond it.

use std::time::{Duration, Instant};

use hyper::{HeaderMap, header};

const MINUTE: Duration = Duration::from_secs(60);

/// Requests of the minute that is counted now.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Counted {
    began: Option<Instant>,
    requests: u32,
}

/// Where a request stands in the limit.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Place {
    limit: u32,
    left: Option<u32>,
    whole_in: Duration,
}

impl Counted {
    /// Counts a request.
    pub(crate) fn count(&mut self, limit: u32, now: Instant) -> Place {
        let began = match self.began.filter(|began| now.duration_since(*began) < MINUTE) {
            Some(began) => began,
            None => {
                *self = Self { began: Some(now), requests: 0 };
                now
            }
        };
        let left = limit.checked_sub(self.requests + 1);
        self.requests += u32::from(left.is_some());
        Place { limit, left, whole_in: MINUTE.saturating_sub(now.duration_since(began)) }
    }
}

impl Place {
    /// Whether it is beyond the limit.
    pub(crate) fn is_beyond(self) -> bool {
        self.left.is_none()
    }

    /// Writes limit, rest and reset as headers.
    pub(crate) fn tell(self, headers: &mut HeaderMap) {
        let mut set = |name: &'static str, value: String| {
            headers.extend(value.parse().ok().map(|value| (header::HeaderName::from_static(name), value)));
        };
        set("x-ratelimit-limit-requests", self.limit.to_string());
        set("x-ratelimit-remaining-requests", self.left.unwrap_or(0).to_string());
        set("x-ratelimit-reset-requests", format!("{}ms", self.whole_in.as_millis()));
        if self.is_beyond() {
            set("retry-after", self.whole_in.as_secs().max(1).to_string());
        }
    }
}
