//! What happened of late, in memory: the last settled requests, so that a request can be looked at before it is in the database,
//! and refusals, which are counted by the minute and never fill the ledger.

use std::collections::{BTreeMap, HashMap, VecDeque};
use std::sync::{Arc, Mutex};

use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::metering::entry::Spooled;
use wendor_core::metering::spool_frame::{self, Frame};
use wendor_core::quota::window::Window;
use wendor_core::request_id::RequestId;
use wendor_wire::refusal_code::RefusalCode;

/// Settled requests kept.
const REQUESTS_KEPT: usize = 4_096;

/// Single refusals kept of keys that somebody issued, and of everything else.
const REFUSALS_KEPT: usize = 256;
const STRANGERS_KEPT: usize = 64;

/// How long counts of refusals are kept.
const COUNTS_KEPT: TimeDelta = TimeDelta::hours(1);

/// Different counts kept: an attacker who makes names up must not fill the memory.
const COUNTS_LIMIT: usize = 10_000;

/// Different names counted of one key in an hour: whoever makes names up with a key of theirs must not hide another's.
const NAMES_OF_A_KEY: usize = 50;

/// A refusal as the operator is shown it.
#[derive(Clone, Debug)]
pub struct RefusalSeen {
    /// When.
    pub at: DateTime<Utc>,
    /// Id of the request.
    pub request: RequestId,
    /// Id of the key, if one was presented that could be read.
    pub key: Option<String>,
    /// Whether somebody issued that key.
    pub is_issued: bool,
    /// The route, if the request was read that far and the route exists.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why, in a word.
    pub reason: RefusalCode,
    /// The member of the request that it is about, if it is about one.
    pub param: Option<String>,
}

/// What a count of refusals is kept by.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct RefusalKey {
    /// Start of the minute.
    pub minute: DateTime<Utc>,
    /// Id of the key.
    pub key: Option<String>,
    /// Where the request was read that far and the route exists.
    pub route: Option<String>,
    /// The name that was asked for, if it is no route.
    pub wanted: Option<String>,
    /// Why.
    pub reason: RefusalCode,
}

/// Refusals of issued keys have room of their own: no number of others takes any of it.
#[derive(Debug, Default)]
struct Refusals {
    latest: VecDeque<RefusalSeen>,
    strangers: VecDeque<RefusalSeen>,
    counts: BTreeMap<RefusalKey, u64>,
    /// How many different names are counted, by key.
    names: HashMap<String, usize>,
}

impl Refusals {
    /// What it is counted by. Of what nobody issued the cause alone counts, so that there are as many counts as causes.
    fn counted_by(&self, refusal: &RefusalSeen, minute: DateTime<Utc>) -> RefusalKey {
        let (key, route, wanted) = match &refusal.key {
            Some(key) if refusal.is_issued => {
                let has_room = self.names.get(key).is_none_or(|names| *names < NAMES_OF_A_KEY);
                (Some(key.clone()), refusal.route.clone(), refusal.wanted.clone().filter(|_| has_room))
            }
            Some(_) | None => (None, None, None),
        };
        RefusalKey { minute, key, route, wanted, reason: refusal.reason }
    }

    fn forget_before(&mut self, minute: DateTime<Utc>) {
        // Counts are in the order of their minute, so what is too old stands first.
        while self.counts.first_key_value().is_some_and(|(count, _)| count.minute <= minute - COUNTS_KEPT) {
            let Some((gone, _)) = self.counts.pop_first() else { return };
            let Some(key) = gone.key.filter(|_| gone.wanted.is_some()) else { continue };
            if let Some(names) = self.names.get_mut(&key) {
                *names = names.saturating_sub(1);
            }
        }
        self.names.retain(|_, names| *names > 0);
    }
}

/// The last settled requests.
#[derive(Debug, Default)]
struct Latest {
    kept: VecDeque<(RequestId, Arc<[u8]>)>,
    /// How many there were.
    count: u64,
}

/// The memory of the process.
#[derive(Debug, Default)]
pub struct Recent {
    /// In the order in which they were settled. Looked through from its end: settling is what happens all the time.
    requests: Mutex<Latest>,
    refusals: Mutex<Refusals>,
}

impl Recent {
    /// Remembers a settled request by its frame.
    pub fn settled(&self, id: RequestId, frame: Arc<[u8]>) {
        let mut requests = self.requests.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let oldest = if requests.kept.len() >= REQUESTS_KEPT { requests.kept.pop_front() } else { None };
        requests.kept.push_back((id, frame));
        requests.count += 1;
        drop(requests);
        drop(oldest);
    }

    /// A request that was settled of late.
    #[must_use]
    pub fn request(&self, id: &RequestId) -> Option<Spooled> {
        let frame = {
            let requests = self.requests.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            requests.kept.iter().rev().find(|(known, _)| known == id).map(|(_, frame)| frame.clone())?
        };
        match spool_frame::read(&frame) {
            Frame::Whole(spooled, _) => Some(*spooled),
            Frame::Cut | Frame::Damaged(..) => None,
        }
    }

    /// Those that were settled after the first `after` of all, the oldest first, at most so many, the latest of them; and how many there were.
    #[must_use]
    pub fn since(&self, after: u64, most: usize) -> (Vec<Spooled>, u64) {
        let (frames, count) = {
            let requests = self.requests.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
            let new = usize::try_from(requests.count.saturating_sub(after)).unwrap_or(usize::MAX);
            let newest = requests.kept.iter().rev().take(new.min(most));
            (newest.map(|(_, frame)| frame.clone()).collect::<Vec<_>>(), requests.count)
        };
        let read = |frame: &Arc<[u8]>| match spool_frame::read(frame) {
            Frame::Whole(spooled, _) => Some(*spooled),
            Frame::Cut | Frame::Damaged(..) => None,
        };
        (frames.iter().rev().filter_map(read).collect(), count)
    }

    /// Remembers a refusal.
    pub fn refused(&self, refusal: RefusalSeen) {
        let mut refusals = self.refusals.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let minute = Window::Minute.around(refusal.at).start;
        refusals.forget_before(minute);
        let key = refusals.counted_by(&refusal, minute);
        if let Some(count) = refusals.counts.get_mut(&key) {
            *count += 1;
        } else if refusals.counts.len() < COUNTS_LIMIT {
            if let (Some(id), Some(_)) = (&key.key, &key.wanted) {
                *refusals.names.entry(id.clone()).or_default() += 1;
            }
            refusals.counts.insert(key, 1);
        }
        let (latest, kept) = if refusal.is_issued {
            (&mut refusals.latest, REFUSALS_KEPT)
        } else {
            (&mut refusals.strangers, STRANGERS_KEPT)
        };
        if latest.len() >= kept {
            latest.pop_back();
        }
        latest.push_front(refusal);
    }

    /// The refusal of that request, while it is remembered.
    #[must_use]
    pub fn refusal(&self, request: &RequestId) -> Option<RefusalSeen> {
        let refusals = self.refusals.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        refusals.latest.iter().chain(&refusals.strangers).find(|seen| seen.request == *request).cloned()
    }

    /// The latest refusals, newest first, and the counts of the last hour.
    #[must_use]
    pub fn refusals(&self) -> (Vec<RefusalSeen>, Vec<(RefusalKey, u64)>) {
        let refusals = self.refusals.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let counts = refusals.counts.iter().rev().map(|(key, count)| (key.clone(), *count)).collect();
        let mut latest: Vec<RefusalSeen> = refusals.latest.iter().chain(&refusals.strangers).cloned().collect();
        latest.sort_by_key(|seen| std::cmp::Reverse(seen.at));
        (latest, counts)
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
        RefusalSeen {
            at,
            request,
            key: Some(key.to_owned()),
            is_issued: true,
            route: None,
            wanted: None,
            reason: RefusalCode::OverQuota,
            param: None,
        }
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
            recent.settled(settled.entry.request, Arc::from(frame));
            settled.spooled()
        };
        let first = settle(0);
        assert_eq!(recent.request(&first.entry.request), Some(first.clone()));
        let kept = u32::try_from(REQUESTS_KEPT).unwrap();
        let later: Vec<Spooled> = (1..=kept).map(settle).collect();
        assert_eq!(recent.request(&first.entry.request), None);
        assert_eq!(recent.request(&later[0].entry.request).as_ref(), Some(&later[0]));
        assert_eq!(recent.request(&entry(kept + 1).request), None, "one that never was");
        let all = u64::from(kept) + 1;
        assert_eq!(recent.since(all, 10), (vec![], all), "nothing new");
        assert_eq!(recent.since(u64::MAX, 10).1, all, "whoever looks first hears where it is");
        assert_eq!(recent.since(all - 2, 10).0, later[later.len() - 2..], "in the order in which they ended");
        assert_eq!(recent.since(0, 3).0.len(), 3, "the latest of more");
    }

    #[test]
    fn someone_who_makes_keys_up_takes_no_room_of_those_who_have_one() {
        let recent = Recent::default();
        recent.refused(refusal(0, 0, "k1"));
        for number in 1..20_000 {
            let made_up = RefusalSeen {
                is_issued: false,
                reason: RefusalCode::UnknownKey,
                ..refusal(number, 0, &format!("k{number}"))
            };
            recent.refused(made_up);
        }
        let (latest, counts) = recent.refusals();
        assert_eq!((latest.len(), counts.len()), (1 + STRANGERS_KEPT, 2));
        assert_eq!(latest.iter().filter(|seen| seen.is_issued).count(), 1);
        let of = |reason: RefusalCode| {
            counts.iter().find(|(key, _)| key.reason == reason).map(|(key, count)| (key.key.clone(), *count))
        };
        assert_eq!(of(RefusalCode::OverQuota), Some((Some("k1".to_owned()), 1)));
        assert_eq!(of(RefusalCode::UnknownKey), Some((None, 19_999)));
    }

    #[test]
    fn someone_who_makes_names_up_takes_no_room_of_others() {
        let recent = Recent::default();
        let asked = |number: u32, minutes: i64, key: &str| RefusalSeen {
            wanted: Some(format!("route-{number}")),
            reason: RefusalCode::RouteNotFound,
            ..refusal(number, minutes, key)
        };
        (0..20_000).for_each(|number| recent.refused(asked(number, 0, "k1")));
        recent.refused(asked(1, 0, "k2"));
        let counts = recent.refusals().1;
        assert_eq!(counts.len(), NAMES_OF_A_KEY + 2, "its names, what they have together, and the other's");
        assert_eq!(
            counts.iter().filter(|(key, _)| key.key.as_deref() == Some("k1")).map(|(_, count)| count).sum::<u64>(),
            20_000
        );
        recent.refused(asked(7, 61, "k1"));
        assert!(recent.refusals().1.iter().any(|(key, _)| key.wanted.as_deref() == Some("route-7")), "an hour later");
    }
}
