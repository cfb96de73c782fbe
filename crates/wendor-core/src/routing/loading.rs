//! A model that its server loads: who asks meanwhile and who waits, and how long such cold starts take.
//!
//! That a server loads is no failure of it. While it does, one request at a time asks again, after waits that grow up to a limit; the others
//! wait for what comes of that, or go elsewhere.

use chrono::{DateTime, TimeDelta, Utc};

/// The first wait before it is asked again.
const FIRST_WAIT: TimeDelta = TimeDelta::milliseconds(250);

/// Waits between two tries double up to this.
const LONGEST_WAIT: TimeDelta = TimeDelta::seconds(2);

/// Nothing was heard for so long after it was to be asked again: nobody wants it any more, and what is known of it is old.
const OLD: TimeDelta = TimeDelta::seconds(60);

/// A load that has ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct ColdStart {
    /// When it was done, as far as was seen.
    pub at: DateTime<Utc>,
    /// How long it took from when it was first seen, in milliseconds.
    pub took_ms: u64,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Load {
    since: DateTime<Utc>,
    tries: u32,
    next_try: DateTime<Utc>,
}

/// What is known of a model's loading.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Loading {
    now: Option<Load>,
    cold_starts: u64,
    last: Option<ColdStart>,
}

impl Loading {
    /// Since when it loads.
    #[must_use]
    pub fn since(&self, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        self.current(now).map(|load| load.since)
    }

    fn current(&self, now: DateTime<Utc>) -> Option<Load> {
        self.now.filter(|load| now < load.next_try + OLD)
    }

    /// Asks it now, if that may be: then nobody else asks until the next time.
    ///
    /// # Errors
    /// When it may be asked again.
    pub fn begin(&mut self, now: DateTime<Utc>) -> Result<(), DateTime<Utc>> {
        let Some(load) = self.current(now) else { return Ok(()) };
        if now < load.next_try {
            return Err(load.next_try);
        }
        let tries = load.tries.saturating_add(1);
        self.now = Some(Load { tries, next_try: now + wait(tries), ..load });
        Ok(())
    }

    /// It has said that it loads.
    pub fn loads(&mut self, now: DateTime<Utc>) {
        match &mut self.now {
            Some(load) if now < load.next_try + OLD => load.next_try = load.next_try.max(now + wait(load.tries)),
            Some(_) | None => self.now = Some(Load { since: now, tries: 0, next_try: now + wait(0) }),
        }
    }

    /// It has answered. Tells of the load that has ended with it.
    pub fn answered(&mut self, now: DateTime<Utc>) -> Option<ColdStart> {
        let load = self.now.take().filter(|load| now < load.next_try + OLD)?;
        let took_ms = u64::try_from((now - load.since).num_milliseconds()).unwrap_or_default();
        self.cold_starts = self.cold_starts.saturating_add(1);
        self.last = Some(ColdStart { at: now, took_ms });
        self.last
    }

    /// How many loads have ended.
    #[must_use]
    pub fn cold_starts(&self) -> u64 {
        self.cold_starts
    }

    /// The newest start that was seen, if any.
    #[must_use]
    pub fn last(&self) -> Option<ColdStart> {
        self.last
    }
}

fn wait(tries: u32) -> TimeDelta {
    (FIRST_WAIT * (1 << tries.min(8))).min(LONGEST_WAIT)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(millis: i64) -> DateTime<Utc> {
        DateTime::from_timestamp_millis(1_790_000_000_000 + millis).unwrap()
    }

    #[test]
    fn one_asks_at_a_time_until_it_answers() {
        let mut loading = Loading::default();
        assert_eq!(loading.begin(at(0)), Ok(()));
        assert_eq!(loading.answered(at(5)), None, "it did not load");
        loading.loads(at(10));
        assert_eq!(loading.begin(at(20)), Err(at(260)));
        assert_eq!(loading.begin(at(260)), Ok(()));
        assert_eq!(loading.begin(at(261)), Err(at(760)), "another asks");
        loading.loads(at(300));
        assert_eq!(loading.begin(at(800)), Ok(()));
        assert_eq!(loading.since(at(900)), Some(at(10)));
        assert_eq!(loading.answered(at(4_010)), Some(ColdStart { at: at(4_010), took_ms: 4_000 }));
        assert_eq!((loading.begin(at(4_011)), loading.cold_starts()), (Ok(()), 1));
    }

    #[test]
    fn one_that_nobody_wants_any_more_is_forgotten() {
        let mut loading = Loading::default();
        loading.loads(at(0));
        assert_eq!(loading.since(at(59_000)), Some(at(0)));
        assert_eq!(loading.since(at(61_000)), None);
        assert_eq!(loading.answered(at(61_000)), None, "nobody knows how long it took");
        loading.loads(at(70_000));
        assert_eq!(loading.since(at(70_001)), Some(at(70_000)));
    }

    #[test]
    fn waits_grow_with_each_try_up_to_a_limit() {
        let mut loading = Loading::default();
        loading.loads(at(0));
        let mut waits = Vec::new();
        let mut now = loading.begin(at(0)).unwrap_err();
        for _ in 0..5 {
            assert_eq!(loading.begin(now), Ok(()));
            let next = loading.begin(now).unwrap_err();
            waits.push((next - now).num_milliseconds());
            now = next;
        }
        assert_eq!(waits, [500, 1_000, 2_000, 2_000, 2_000]);
    }

    #[test]
    fn each_time_it_says_so_it_is_left_alone_anew() {
        let mut loading = Loading::default();
        loading.loads(at(0));
        loading.loads(at(200));
        assert_eq!(loading.begin(at(300)), Err(at(450)));
    }

    /// It is to be asked again after 250 ms, and forgotten a minute later.
    #[test]
    fn it_is_forgotten_to_the_millisecond() {
        let loads = || {
            let mut loading = Loading::default();
            loading.loads(at(0));
            loading
        };
        assert_eq!((loads().since(at(60_249)), loads().since(at(60_250))), (Some(at(0)), None));
        assert_eq!(loads().answered(at(60_249)), Some(ColdStart { at: at(60_249), took_ms: 60_249 }));
        assert_eq!(loads().answered(at(60_250)), None);
        let mut again = loads();
        again.loads(at(60_250));
        assert_eq!(again.since(at(60_251)), Some(at(60_250)), "another load");
    }

    #[test]
    fn cold_starts_are_counted_and_the_last_is_kept() {
        let mut loading = Loading::default();
        assert_eq!((loading.cold_starts(), loading.last()), (0, None));
        for start in [0, 10_000] {
            loading.loads(at(start));
            loading.answered(at(start + 700));
        }
        assert_eq!((loading.cold_starts(), loading.last()), (2, Some(ColdStart { at: at(10_700), took_ms: 700 })));
    }
}
