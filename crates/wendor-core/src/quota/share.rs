//! Sharing what there is only so much of at once (memory of bodies, connections, streams of an upstream) among teams.
//!
//! A team may take what is idle, and leaves some for others: of the whole, an eighth for teams that use nothing at the moment, and for
//! every other team that uses less than its even part, so much that it can go on, up to a sixteenth each; together at most half. What a
//! team takes up to its even part is bounded by the whole alone. Nothing is taken back from who has it: as requests end, those below
//! their even part come first.

use std::collections::BTreeMap;

/// What there is of something.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Capacity {
    /// All of it.
    pub whole: u64,
    /// Teams that could come, whether they use something now or not.
    pub teams: usize,
}

/// Why something cannot be had now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoShare {
    /// All of it is taken.
    Full,
    /// What is left is for other teams.
    ForOthers,
}

/// Who has how much.
#[derive(Debug)]
pub struct Shares<Who> {
    used: BTreeMap<Who, u64>,
    total: u64,
}

impl<Who> Default for Shares<Who> {
    fn default() -> Self {
        Self { used: BTreeMap::new(), total: 0 }
    }
}

impl<Who: Ord + Clone> Shares<Who> {
    /// How much is taken by all.
    #[must_use]
    pub fn total(&self) -> u64 {
        self.total
    }

    /// How much one has.
    #[must_use]
    pub fn of(&self, who: &Who) -> u64 {
        self.used.get(who).copied().unwrap_or(0)
    }

    /// Whether `amount` more can be had by `who`.
    ///
    /// # Errors
    /// [`NoShare`], why not.
    pub fn look(&self, who: &Who, amount: u64, capacity: Capacity) -> Result<(), NoShare> {
        let Capacity { whole, teams } = capacity;
        if self.total.saturating_add(amount) > whole {
            return Err(NoShare::Full);
        }
        let own = self.of(who);
        let others = self.used.iter().filter(|(other, _)| *other != who);
        let active = others.clone().count() + 1;
        let idle = if teams > active { whole / 8 } else { 0 };
        let even = (whole - idle) / u64::try_from(active).unwrap_or(u64::MAX);
        if own.saturating_add(amount) <= even {
            return Ok(());
        }
        let of_others: u64 = others.map(|(_, used)| even.saturating_sub(*used).min(whole / 16)).sum();
        let kept = (idle + of_others).min(whole / 2);
        if self.total.saturating_add(amount) > whole - kept { Err(NoShare::ForOthers) } else { Ok(()) }
    }

    /// Takes it.
    ///
    /// # Errors
    /// [`NoShare`]; nothing is taken then.
    pub fn take(&mut self, who: &Who, amount: u64, capacity: Capacity) -> Result<(), NoShare> {
        self.look(who, amount, capacity)?;
        self.take_anyway(who, amount);
        Ok(())
    }

    /// Takes it, whether there is room or not.
    pub fn take_anyway(&mut self, who: &Who, amount: u64) {
        self.total = self.total.saturating_add(amount);
        match self.used.get_mut(who) {
            Some(used) => *used = used.saturating_add(amount),
            None => {
                self.used.insert(who.clone(), amount);
            }
        }
    }

    /// Ends a hold: `amount` is free for others again.
    pub fn give_back(&mut self, who: &Who, amount: u64) {
        self.total = self.total.saturating_sub(amount);
        if let Some(used) = self.used.get_mut(who) {
            *used = used.saturating_sub(amount);
            if *used == 0 {
                self.used.remove(who);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    /// Takes one after the other until it is refused; how many were had.
    fn fill(shares: &mut Shares<u8>, who: u8, capacity: Capacity) -> u64 {
        let mut had = 0;
        while shares.take(&who, 1, capacity).is_ok() {
            had += 1;
        }
        had
    }

    #[rstest]
    #[case::the_only_team(1, 160)]
    #[case::alone_among_others(4, 140)]
    fn who_is_alone_has_what_is_idle(#[case] teams: usize, #[case] had: u64) {
        assert_eq!(fill(&mut Shares::default(), 1, Capacity { whole: 160, teams }), had);
    }

    #[test]
    fn whoever_comes_later_finds_room_and_comes_first_as_places_become_free() {
        let (mut shares, capacity) = (Shares::default(), Capacity { whole: 160, teams: 4 });
        assert_eq!(fill(&mut shares, 1, capacity), 140);
        assert_eq!(fill(&mut shares, 2, capacity), 20);
        assert_eq!(shares.look(&1, 1, capacity), Err(NoShare::Full));
        shares.give_back(&1, 10);
        assert_eq!(shares.look(&1, 1, capacity), Err(NoShare::ForOthers));
        assert_eq!(fill(&mut shares, 2, capacity), 10);
    }

    #[rstest]
    #[case(1, 1)]
    #[case(2, 2)]
    #[case(7, 7)]
    #[case(8, 7)]
    fn of_very_little_nothing_is_left_idle(#[case] whole: u64, #[case] had: u64) {
        assert_eq!(fill(&mut Shares::default(), 1, Capacity { whole, teams: 9 }), had);
    }

    /// One has all that it can get, two others come: as its requests end, theirs begin, until each has its even part.
    #[test]
    fn as_requests_end_all_come_to_an_even_part() {
        let (mut shares, capacity) = (Shares::default(), Capacity { whole: 160, teams: 4 });
        fill(&mut shares, 1, capacity);
        for _ in 0..200 {
            shares.give_back(&1, 1);
            // The greedy one is always first to ask.
            for who in 1..=3 {
                let _refused = shares.take(&who, 1, capacity);
            }
        }
        let had: Vec<u64> = (1..=3).map(|who| shares.of(&who)).collect();
        assert!(
            had[1..].iter().all(|had| *had >= 46),
            "{had:?}: 46 is the even part of what is not kept for the fourth"
        );
        assert!(had[0] >= 40, "{had:?}");
    }

    proptest! {
        /// Never is more taken than there is; what is given back is what was taken; and whoever has more than its even part never takes what is
        /// kept for others.
        #[test]
        fn there_is_never_more_than_the_whole(steps in prop::collection::vec((1u8..=4, 1u64..200, 0u8..10), 1..200)) {
            let (mut shares, capacity) = (Shares::default(), Capacity { whole: 1_600, teams: 6 });
            for (who, amount, choice) in steps {
                if choice < 7 {
                    let before = shares.total();
                    let taken = shares.take(&who, amount, capacity);
                    prop_assert_eq!(shares.total(), before + if taken.is_ok() { amount } else { 0 });
                    if taken.is_ok() && shares.of(&who) > 800 {
                        prop_assert!(shares.total() <= 1_400, "{:?}", shares);
                    }
                } else {
                    shares.give_back(&who, amount.min(shares.of(&who)));
                }
                prop_assert!(shares.total() <= 1_600);
                prop_assert_eq!((1..=4).map(|who| shares.of(&who)).sum::<u64>(), shares.total());
            }
        }
    }

    #[rstest]
    #[case::a_sixteenth_for_one_that_is_active(1, 2, 149)]
    #[case::never_more_than_half_is_kept(8, 12, 72)]
    fn what_is_kept_for_others_is_bounded(#[case] others: u8, #[case] teams: usize, #[case] had: u64) {
        let (mut shares, capacity) = (Shares::default(), Capacity { whole: 160, teams });
        (2..2 + others).for_each(|other| shares.take_anyway(&other, 1));
        assert_eq!(fill(&mut shares, 1, capacity), had);
    }
}
