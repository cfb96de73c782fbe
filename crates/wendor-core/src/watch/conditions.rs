//! Conditions that come and go: what is found time and again becomes an event when it begins and when it ends.
//!
//! What comes and goes from one look to the next is damped: it has ended when it was not found at two looks in a row.

use std::collections::BTreeMap;

use chrono::{DateTime, Utc};

use super::attention::{Finding, notice_of};
use super::event::{Event, EventState, Seen, condition};
use crate::catalog::event_kind::EventKind;

/// Looks in a row at which a condition is not found before it has ended.
const ENDED_AFTER: u32 = 2;

#[derive(Clone, Debug)]
struct Open {
    kind: EventKind,
    subject: String,
    says: String,
    since: DateTime<Utc>,
    seen: Seen,
    missed: u32,
}

/// The conditions of one instance.
#[derive(Clone, Debug, Default)]
pub struct Conditions {
    open: BTreeMap<String, Open>,
}

impl Conditions {
    /// What has changed with what was found now. `instance` tells apart what each instance sees for itself.
    pub fn look(&mut self, instance: &str, findings: &[Finding], now: DateTime<Utc>, currency: &str) -> Vec<Event> {
        let mut events = Vec::new();
        self.open.values_mut().for_each(|open| open.missed += 1);
        for finding in findings {
            let notice = notice_of(finding, now, currency);
            let Some((kind, name, seen)) = condition(finding, &notice) else { continue };
            if let Some(open) = self.open.get_mut(&name) {
                open.missed = 0;
                continue;
            }
            let key = match seen {
                Seen::ByAll => name.clone(),
                Seen::ByEach => format!("{name}/{instance}/{}", now.timestamp_micros()),
            };
            let state = if seen == Seen::ByAll { EventState::Happened } else { EventState::Began };
            let (subject, says) = (notice.subject, notice.says);
            let open = Open { kind, subject: subject.clone(), says: says.clone(), since: now, seen, missed: 0 };
            self.open.insert(name, open);
            events.push(Event { key, at: now, kind, state, subject, says, why: notice.why });
        }
        let is_over = |open: &Open| open.missed >= ENDED_AFTER;
        for (name, open) in self.open.iter().filter(|(_, open)| is_over(open) && open.seen == Seen::ByEach) {
            events.push(Event {
                key: format!("{name}/{instance}/{}", now.timestamp_micros()),
                at: now,
                kind: open.kind,
                state: EventState::Ended,
                subject: open.subject.clone(),
                says: format!("is as usual again; it {}", open.says),
                why: format!("Since {} UTC.", open.since.format("%H:%M:%S")),
            });
        }
        self.open.retain(|_, open| !is_over(open));
        events
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::watch::nearing::Expires;

    fn at(seconds: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_000 + seconds, 0).unwrap()
    }

    fn slowed() -> Finding {
        Finding::Slowed { upstream: "quarry".to_owned(), wait_ms: 9_000, usual_ms: 700 }
    }

    fn told(events: &[Event]) -> Vec<(EventKind, EventState, &str)> {
        events.iter().map(|event| (event.kind, event.state, event.subject.as_str())).collect()
    }

    #[test]
    fn it_is_told_when_it_begins_and_when_it_has_ended() {
        let mut conditions = Conditions::default();
        let mut look = |findings: &[Finding], second| conditions.look("i1", findings, at(second), "EUR");
        let began = look(&[slowed()], 0);
        assert_eq!(told(&began), [(EventKind::Slow, EventState::Began, "quarry")]);
        assert_eq!(look(&[slowed()], 30), []);
        assert_eq!(look(&[], 60), [], "once may be chance");
        assert_eq!(look(&[slowed()], 90), []);
        assert_eq!(look(&[], 120), []);
        let ended = look(&[], 150);
        assert_eq!(told(&ended), [(EventKind::Slow, EventState::Ended, "quarry")]);
        assert_ne!(began[0].key, ended[0].key);
        assert_eq!(look(&[], 180), []);
        let again = look(&[slowed()], 210);
        assert_ne!(again[0].key, began[0].key, "it is told again");
    }

    #[test]
    fn what_all_instances_find_alike_has_one_key_and_no_end() {
        let expires = Expires {
            key: "3f9k2mq7".to_owned(),
            label: "nightly".to_owned(),
            team: "timetables".to_owned(),
            at: at(86_400),
        };
        let findings = [Finding::Expires(expires)];
        let (mut one, mut two) = (Conditions::default(), Conditions::default());
        let (here, there) = (one.look("i1", &findings, at(0), "EUR"), two.look("i2", &findings, at(7), "EUR"));
        assert_eq!(told(&here), [(EventKind::Expiry, EventState::Happened, "timetables")]);
        assert_eq!(here[0].key, there[0].key);
        assert!(one.look("i1", &[], at(30), "EUR").is_empty() && one.look("i1", &[], at(60), "EUR").is_empty());
        assert_eq!(here[0].says, "has a key that expires in 24 hours: nightly (3f9k2mq7)");
    }
}
