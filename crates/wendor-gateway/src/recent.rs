//! What happened of late, in memory: the last settled requests, so that a request can be looked at before it is in the database,
//! and refusals, which are counted by the minute and never fill the ledger.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Mutex;

use bytes::Bytes;
use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::metering::entry::Spooled;
use wendor_core::metering::spool_frame::{self, Frame};
use wendor_core::quota::window::Window;
use wendor_core::request_id::RequestId;

/// Settled requests kept.
const REQUESTS_KEPT: usize = 4_096;

/// Single refusals kept.
const REFUSALS_KEPT: usize = 256;

/// How long counts of refusals are kept.
const COUNTS_KEPT: TimeDelta = TimeDelta::hours(1);

/// Different counts kept: an attacker who makes names up must not fill the memory.
const COUNTS_LIMIT: usize = 10_000;

/// One refusal.
#[derive(Clone, Debug)]
pub struct RefusalSeen {
    /// When.
    pub at: DateTime<Utc>,
    /// Id of the request.
    pub request: RequestId,
    /// Id of the key, if one was presented that could be read.
    pub key: Option<String>,
    /// The route, if the request was read that far and the route exists.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why, in a word.
    pub reason: &'static str,
}

/// What a count of refusals is kept by.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct RefusalKey {
    /// Start of the minute.
    pub minute: DateTime<Utc>,
    /// Id of the key.
    pub key: Option<String>,
    /// The route.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why.
    pub reason: &'static str,
}

#[derive(Debug, Default)]
struct Refusals {
    latest: VecDeque<RefusalSeen>,
    counts: BTreeMap<RefusalKey, u64>,
}

/// The memory of the process.
#[derive(Debug, Default)]
pub struct Recent {
    /// In the order in which they were settled. Looked through from its end: settling is what happens all the time.
    requests: Mutex<VecDeque<(RequestId, Bytes)>>,
    refusals: Mutex<Refusals>,
}

impl Recent {
    /// Remembers a settled request by its frame.
    pub fn settled(&self, id: RequestId, frame: Bytes) {
        let mut requests = self.requests.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let oldest = if requests.len() >= REQUESTS_KEPT { requests.pop_front() } else { None };
        requests.push_back((id, frame));
        drop(requests);
        drop(oldest);
    }

    /// A request that was settled of late.
    #[must_use]
    pub fn request(&self, id: &RequestId) -> Option<Spooled> {
        let frame = {
            let requests = self.requests.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            requests.iter().rev().find(|(known, _)| known == id).map(|(_, frame)| frame.clone())?
        };
        match spool_frame::read(&frame) {
            Frame::Whole(spooled, _) => Some(*spooled),
            Frame::Cut | Frame::Damaged(..) => None,
        }
    }

    /// Remembers a refusal.
    pub fn refused(&self, refusal: RefusalSeen) {
        let mut refusals = self.refusals.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let minute = Window::Minute.around(refusal.at).start;
        let key = RefusalKey {
            minute,
            key: refusal.key.clone(),
            route: refusal.route.clone(),
            wanted: refusal.wanted.clone(),
            reason: refusal.reason,
        };
        // Counts are in the order of their minute, so what is too old stands first.
        while refusals.counts.first_key_value().is_some_and(|(count, _)| count.minute <= minute - COUNTS_KEPT) {
            refusals.counts.pop_first();
        }
        if refusals.counts.len() < COUNTS_LIMIT || refusals.counts.contains_key(&key) {
            *refusals.counts.entry(key).or_default() += 1;
        }
        if refusals.latest.len() >= REFUSALS_KEPT {
            refusals.latest.pop_back();
        }
        refusals.latest.push_front(refusal);
    }

    /// The latest refusals, newest first, and the counts of the last hour.
    #[must_use]
    pub fn refusals(&self) -> (Vec<RefusalSeen>, Vec<(RefusalKey, u64)>) {
        let refusals = self.refusals.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let counts = refusals.counts.iter().rev().map(|(key, count)| (key.clone(), *count)).collect();
        (refusals.latest.iter().cloned().collect(), counts)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wendor_core::metering::detail::RequestDetail;
    use wendor_core::metering::entry::{LedgerEntry, Settled};
    use wendor_core::name::Name;

    fn refusal(number: u32, minutes: i64, key: &str) -> RefusalSeen {
        let at = DateTime::UNIX_EPOCH + TimeDelta::minutes(minutes);
        let request = RequestId::mint(at, 1, number);
        RefusalSeen { at, request, key: Some(key.to_owned()), route: None, wanted: None, reason: "over_quota" }
    }

    #[test]
    fn refusals_are_counted_by_the_minute_and_forgotten_after_an_hour() {
        let recent = Recent::default();
        for (number, minute) in [(1, 0), (2, 0), (3, 1), (4, 59)] {
            recent.refused(refusal(number, minute, "k1"));
        }
        let counts = |recent: &Recent| recent.refusals().1.iter().map(|(_, count)| *count).collect::<Vec<_>>();
        assert_eq!(counts(&recent), [1, 1, 2], "newest first");
        recent.refused(refusal(5, 60, "k1"));
        assert_eq!(counts(&recent), [1, 1, 1], "the first minute is an hour ago");
        assert_eq!(recent.refusals().0.len(), 5);
    }

    fn entry(number: u32) -> LedgerEntry {
        let (team, route) = (Name::parse("timetables").unwrap(), Name::parse("night-sailings").unwrap());
        LedgerEntry::of_request(DateTime::UNIX_EPOCH, RequestId::mint(DateTime::UNIX_EPOCH, 1, number), team, route)
    }

    #[test]
    fn requests_are_remembered_as_they_were_settled_and_the_oldest_forgotten() {
        let recent = Recent::default();
        let settle = |number: u32| {
            let settled = Settled { entry: entry(number), detail: Some(RequestDetail::default()), quotas: vec![] };
            let mut frame = Vec::new();
            spool_frame::write_settled(&settled, &mut frame);
            recent.settled(settled.entry.request.clone(), Bytes::from(frame));
            settled.spooled()
        };
        let first = settle(0);
        assert_eq!(recent.request(&first.entry.request), Some(first.clone()));
        let kept = u32::try_from(REQUESTS_KEPT).unwrap();
        let later: Vec<Spooled> = (1..=kept).map(settle).collect();
        assert_eq!(recent.request(&first.entry.request), None);
        assert_eq!(recent.request(&later[0].entry.request).as_ref(), Some(&later[0]));
        assert_eq!(recent.request(&entry(kept + 1).request), None, "one that never was");
    }

    #[test]
    fn someone_who_makes_keys_up_does_not_fill_the_memory() {
        let recent = Recent::default();
        for number in 0..20_000 {
            recent.refused(refusal(number, 0, &format!("k{number}")));
        }
        let (latest, counts) = recent.refusals();
        assert_eq!((latest.len(), counts.len()), (REFUSALS_KEPT, COUNTS_LIMIT));
        recent.refused(refusal(1, 0, "k5"));
        let known = recent.refusals().1.into_iter().find(|(key, _)| key.key.as_deref() == Some("k5"));
        assert_eq!(known.map(|(_, count)| count), Some(2), "what is counted already goes on being counted");
    }
}
