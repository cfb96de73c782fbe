//! Looking a chain of entries through, from its first to its last.

use std::fmt;

use super::{Entry, Head, hash};

/// Entries that do not fit whose own place is looked for; beyond that each is called edited.
const MOVED_LOOKED_FOR: usize = 200;

/// What is wrong with a chain.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Fault {
    /// Entries are missing, from the first to the last of these numbers.
    Missing {
        /// The first.
        from: i64,
        /// The last.
        to: i64,
    },
    /// Its fields are not those that its hash was made of.
    Edited(i64),
    /// It stands at a place that is not its own.
    Moved {
        /// Where it stands.
        number: i64,
        /// Sequence number that the entry should have.
        belongs_at: i64,
    },
    /// It does not follow the entry before, although both fit their own hashes: the one before was replaced as a whole.
    Replaced {
        /// The entry that does not follow.
        number: i64,
    },
    /// The chain ends elsewhere than where it is known to have been.
    OtherHead {
        /// Head of the chain that somebody wrote down earlier.
        known: Head,
    },
}

impl fmt::Display for Fault {
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing { from, to } if from == to => write!(formatter, "entry {from} is missing"),
            Self::Missing { from, to } => write!(formatter, "entries {from} to {to} are missing"),
            Self::Edited(number) => {
                write!(formatter, "entry {number} was edited: its fields are not those of its hash")
            }
            Self::Moved { number, belongs_at } => {
                write!(formatter, "what stands as entry {number} was moved there: it is entry {belongs_at}")
            }
            Self::Replaced { number } => {
                let before = number - 1;
                write!(formatter, "entry {before} was replaced: entry {number} was written after another one")
            }
            Self::OtherHead { known } => write!(
                formatter,
                "entry {} had the hash {} and has another one now, or is gone: entries were replaced or cut off",
                known.number, known.hash
            ),
        }
    }
}

/// Looks entries through as they come, by their numbers.
#[derive(Debug)]
pub struct Verifier {
    known: Option<Head>,
    known_seen: bool,
    head: Head,
    seen: u64,
    faults: Vec<Fault>,
    unfit: Vec<Entry>,
}

/// What came of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Verdict {
    /// Entries looked at.
    pub entries: u64,
    /// Where the chain ends.
    pub head: Head,
    /// What is wrong, by place.
    pub faults: Vec<Fault>,
}

impl Verifier {
    /// For a chain of which a head may be known from elsewhere.
    #[must_use]
    pub fn new(known: Option<Head>) -> Self {
        Self { known, known_seen: false, head: Head::NONE, seen: 0, faults: Vec::new(), unfit: Vec::new() }
    }

    /// The next entry.
    pub fn look(&mut self, entry: &Entry) {
        self.seen += 1;
        let is_next = entry.number == self.head.number + 1;
        if !is_next {
            self.faults.push(Fault::Missing { from: self.head.number + 1, to: entry.number - 1 });
        }
        if hash(entry, entry.number) != entry.hash {
            self.unfit.push(entry.clone());
        } else if is_next && entry.previous != self.head.hash && !self.is_unfit(self.head.number) {
            self.faults.push(Fault::Replaced { number: entry.number });
        }
        self.known_seen |= self.known == Some(entry.head());
        self.head = entry.head();
    }

    fn is_unfit(&self, number: i64) -> bool {
        self.unfit.last().is_some_and(|entry| entry.number == number)
    }

    /// All have come; `kept` is where the chain ends by what is kept beside it.
    #[must_use]
    pub fn end(mut self, kept: Option<Head>) -> Verdict {
        if let Some(kept) = kept.filter(|kept| *kept != self.head) {
            self.faults.push(if kept.number > self.head.number {
                Fault::Missing { from: self.head.number + 1, to: kept.number }
            } else {
                Fault::OtherHead { known: kept }
            });
        }
        if let Some(known) = self.known.filter(|known| !self.known_seen && *known != Head::NONE) {
            self.faults.push(Fault::OtherHead { known });
        }
        let places: Vec<i64> = self.unfit.iter().map(|entry| entry.number).collect();
        // One that was removed and put back elsewhere belongs into a gap.
        let gaps = self
            .faults
            .iter()
            .filter_map(|fault| if let Fault::Missing { from, .. } = fault { Some(*from) } else { None });
        let places: Vec<i64> = places.into_iter().chain(gaps).take(MOVED_LOOKED_FOR).collect();
        for entry in &self.unfit {
            let own = places.iter().find(|place| hash(entry, **place) == entry.hash);
            self.faults.push(match own {
                Some(own) => Fault::Moved { number: entry.number, belongs_at: *own },
                None => Fault::Edited(entry.number),
            });
        }
        self.faults.sort_by_key(place);
        Verdict { entries: self.seen, head: self.head, faults: self.faults }
    }
}

fn place(fault: &Fault) -> i64 {
    match fault {
        Fault::Missing { from, .. } => *from,
        Fault::Edited(number) | Fault::Moved { number, .. } | Fault::Replaced { number } => *number,
        Fault::OtherHead { known } => known.number,
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Action, Deed, Doer};
    use super::*;
    use chrono::DateTime;
    use rstest::rstest;

    fn chain(length: i64) -> Vec<Entry> {
        let mut head = Head::NONE;
        let next = |number: i64| {
            let doer = Doer::service(DateTime::from_timestamp(1_790_000_000 + number, 0).unwrap());
            let entry = Entry::following(head, &doer, &Deed::of(Action::KeyIssued, format!("key {number}")));
            head = entry.head();
            entry
        };
        (1..=length).map(next).collect()
    }

    fn verdict(entries: &[Entry], known: Option<Head>, kept: Option<Head>) -> Vec<Fault> {
        let mut verifier = Verifier::new(known);
        entries.iter().for_each(|entry| verifier.look(entry));
        verifier.end(kept).faults
    }

    fn edited(entries: &mut [Entry]) {
        entries[4].subject = "key of somebody else".to_owned();
    }

    fn rehashed(entries: &mut [Entry]) {
        edited(entries);
        entries[4].hash = hash(&entries[4], 5);
    }

    fn swapped(entries: &mut [Entry]) {
        entries.swap(2, 6);
        (entries[2].number, entries[6].number) = (3, 7);
    }

    fn whole_tail_anew(entries: &mut [Entry]) {
        edited(entries);
        for index in 4..entries.len() {
            entries[index].previous = entries[index - 1].hash;
            entries[index].hash = hash(&entries[index], entries[index].number);
        }
    }

    #[rstest]
    #[case::untouched(|_: &mut [Entry]| (), &[])]
    #[case::edited(edited, &[Fault::Edited(5)])]
    #[case::edited_with_its_hash(rehashed, &[Fault::Replaced { number: 6 }])]
    #[case::swapped(swapped, &[Fault::Moved { number: 3, belongs_at: 7 }, Fault::Moved { number: 7, belongs_at: 3 }])]
    fn what_was_touched_is_named(#[case] touch: fn(&mut [Entry]), #[case] expected: &[Fault]) {
        let mut entries = chain(10);
        let head = entries[9].head();
        touch(&mut entries);
        assert_eq!(verdict(&entries, Some(head), Some(head)), expected);
    }

    #[test]
    fn what_is_gone_is_named() {
        let entries = chain(10);
        let head = entries[9].head();
        let without = |gone: std::ops::Range<i64>| -> Vec<Entry> {
            entries.iter().filter(|entry| !gone.contains(&entry.number)).cloned().collect()
        };
        assert_eq!(verdict(&without(4..6), None, Some(head)), [Fault::Missing { from: 4, to: 5 }]);
        assert_eq!(verdict(&without(1..2), None, Some(head)), [Fault::Missing { from: 1, to: 1 }]);
        assert_eq!(verdict(&without(9..11), None, Some(head)), [Fault::Missing { from: 9, to: 10 }]);
        assert_eq!(verdict(&[], None, Some(head)), [Fault::Missing { from: 1, to: 10 }]);
    }

    #[test]
    fn a_chain_made_anew_is_found_by_a_head_kept_elsewhere_alone() {
        let mut entries = chain(10);
        let known = entries[7].head();
        whole_tail_anew(&mut entries);
        let kept = Some(entries[9].head());
        assert_eq!(verdict(&entries, None, kept), []);
        assert_eq!(verdict(&entries, Some(known), kept), [Fault::OtherHead { known }]);
        assert_eq!(verdict(&chain(10), Some(known), None), [], "an earlier head is in the chain");
    }
}
