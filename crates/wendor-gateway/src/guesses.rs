//! Wrong passwords: each makes the next try wait longer, for the name and for the address that it came from. In memory, by instance; what
//! is kept is bounded.

use std::collections::HashMap;
use std::sync::Mutex;

use chrono::{DateTime, TimeDelta, Utc};

/// Wrong ones that cost nothing: people mistype.
const FREE: u32 = 4;

/// The longest wait for a name: anybody can make it wait, so it must not shut its person out.
const LONGEST_FOR_A_NAME: TimeDelta = TimeDelta::seconds(30);

/// The longest wait for an address.
const LONGEST_FOR_AN_ADDRESS: TimeDelta = TimeDelta::minutes(15);

/// After so long without a wrong one it is forgotten.
const FORGOTTEN: TimeDelta = TimeDelta::hours(24);

/// Names and addresses kept.
const KEPT: usize = 20_000;

/// Of whom wrong ones are counted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Guesser {
    /// Of a person's name.
    Name(String),
    /// All from one client, whatever name they try.
    Address(String),
}

impl Guesser {
    fn longest(&self) -> TimeDelta {
        match self {
            Self::Name(_) => LONGEST_FOR_A_NAME,
            Self::Address(_) => LONGEST_FOR_AN_ADDRESS,
        }
    }
}

#[derive(Clone, Copy, Debug)]
struct Wrong {
    count: u32,
    last: DateTime<Utc>,
}

impl Wrong {
    /// The wait after the last wrong one: none at first, then twice as long with each.
    fn wait(self, longest: TimeDelta) -> TimeDelta {
        match self.count.checked_sub(FREE + 1) {
            None => TimeDelta::zero(),
            Some(doublings) => TimeDelta::seconds(1 << doublings.min(20)).min(longest),
        }
    }
}

/// Wrong passwords of late.
#[derive(Debug, Default)]
pub struct Guesses(Mutex<HashMap<Guesser, Wrong>>);

impl Guesses {
    /// How long the next try has to wait from `now` on; zero where it need not.
    #[must_use]
    pub fn wait(&self, guessers: &[Guesser], now: DateTime<Utc>) -> TimeDelta {
        let wrongs = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        let wait = |guesser: &Guesser| {
            let wrong = wrongs.get(guesser)?;
            Some(wrong.last + wrong.wait(guesser.longest()) - now)
        };
        guessers.iter().filter_map(wait).max().unwrap_or_default().max(TimeDelta::zero())
    }

    /// A wrong one. Gives how many of the first of `guessers` there are by now.
    pub fn wrong(&self, guessers: &[Guesser], now: DateTime<Utc>) -> u32 {
        let mut wrongs = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if wrongs.len() >= KEPT {
            wrongs.retain(|_, wrong| now - wrong.last < FORGOTTEN);
        }
        for guesser in guessers {
            if wrongs.len() < KEPT || wrongs.contains_key(guesser) {
                let wrong = wrongs.entry(guesser.clone()).or_insert(Wrong { count: 0, last: now });
                let count = if now - wrong.last < FORGOTTEN { wrong.count.saturating_add(1) } else { 1 };
                *wrong = Wrong { count, last: now };
            }
        }
        guessers.first().and_then(|guesser| wrongs.get(guesser)).map_or(0, |wrong| wrong.count)
    }

    /// Wrong ones of that guesser.
    #[must_use]
    pub fn count(&self, guesser: &Guesser) -> u32 {
        let wrongs = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        wrongs.get(guesser).map_or(0, |wrong| wrong.count)
    }

    /// A right one. Gives how many wrong ones there were of that guesser before it.
    pub fn right(&self, guesser: &Guesser) -> u32 {
        let mut wrongs = self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        wrongs.remove(guesser).map_or(0, |wrong| wrong.count)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn name() -> Guesser {
        Guesser::Name("helm".to_owned())
    }

    fn address() -> Guesser {
        Guesser::Address("192.0.2.7".to_owned())
    }

    #[rstest]
    #[case::mistyped(4, 0, 0)]
    #[case::once_more(5, 1, 1)]
    #[case::twice_as_long(7, 4, 4)]
    #[case::a_name_waits_no_longer(12, 30, 128)]
    #[case::nor_does_an_address(60, 30, 900)]
    fn waits_grow(#[case] wrong: u32, #[case] of_name: i64, #[case] of_address: i64) {
        let (guesses, now) = (Guesses::default(), DateTime::UNIX_EPOCH);
        (0..wrong).for_each(|_| {
            guesses.wrong(&[name(), address()], now);
        });
        assert_eq!(guesses.wait(&[name()], now), TimeDelta::seconds(of_name));
        assert_eq!(guesses.wait(&[name(), address()], now), TimeDelta::seconds(of_name.max(of_address)));
        assert_eq!(guesses.wait(&[address()], now + TimeDelta::hours(1)), TimeDelta::zero());
    }

    #[test]
    fn a_right_one_ends_it_and_tells_how_many_there_were() {
        let (guesses, now) = (Guesses::default(), DateTime::UNIX_EPOCH);
        assert_eq!((0..6).map(|_| guesses.wrong(&[name()], now)).last(), Some(6));
        assert_eq!((guesses.right(&name()), guesses.right(&name())), (6, 0));
        assert_eq!(guesses.wait(&[name()], now), TimeDelta::zero());
    }

    #[test]
    fn what_is_kept_is_bounded() {
        let (guesses, now) = (Guesses::default(), DateTime::UNIX_EPOCH);
        for number in 0..30_000 {
            guesses.wrong(&[Guesser::Name(number.to_string())], now);
        }
        assert_eq!(guesses.0.lock().unwrap().len(), KEPT);
        guesses.wrong(&[name()], now + TimeDelta::days(2));
        assert_eq!(guesses.0.lock().unwrap().len(), 1, "what is old makes room");
    }
}
