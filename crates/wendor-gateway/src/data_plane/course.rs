//! Whose turn it is: the offers of a plan one after the other, as what is learnt on the way changes it.
//!
//! - One without room is waited for once the others of its stage have had their turn, and one of a stage alone.
//! - One whose server loads the model is waited for, before the others or after them, as its stage says.
//! - One that rests after failures is asked when nothing else is left.
//! - When a request was too long for an offer, those with a larger window alone have their turn.

use std::num::NonZeroU32;
use std::time::Duration;

use smallvec::SmallVec;
use tokio::time::Instant;
use wendor_core::routing::health::Asking;
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};
use wendor_core::routing::reason::Reason;

use super::refusal::Refusal;

/// How an offer has its turn.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// As planned: where there is no room, the next.
    Usual,
    /// It is waited for room.
    Waiting,
    /// Though it rests after failures: nothing else is left.
    LastResort,
    /// Its server loads the model: it is waited for until then, or for as long as for a first event.
    Held(Option<Instant>),
}

/// An offer's turn.
#[derive(Clone, Debug)]
pub struct Turn {
    /// The offer.
    pub planned: PlannedOffer,
    /// How.
    pub mode: Mode,
}

impl Turn {
    /// The same; where it is waited for a load without a time of its own, for so long.
    #[must_use]
    pub fn held_for(self, time: Duration) -> Self {
        match self.mode {
            Mode::Held(None) => Self { mode: Mode::Held(Some(Instant::now() + time)), ..self },
            Mode::Usual | Mode::Waiting | Mode::LastResort | Mode::Held(Some(_)) => self,
        }
    }
}

/// Why an attempt did not begin.
#[derive(Debug)]
pub enum NotBegun {
    /// Its offer is left out.
    LeftOut(Reason),
    /// There is no room at its upstream now.
    NoRoom,
    /// There is no room for it in quotas or spool.
    Refused(Refusal),
}

/// Whether an offer may be asked, where it is the last that is left or not.
///
/// # Errors
/// Why it may not.
pub fn may_be_asked(asking: Asking, is_last: bool) -> Result<(), NotBegun> {
    match asking {
        Asking::Freely | Asking::OnTrial => Ok(()),
        Asking::Rests(_) | Asking::IsTried(_) if is_last => Ok(()),
        Asking::Rests(until) => Err(NotBegun::LeftOut(Reason::Rests { until })),
        Asking::IsTried(_) => Err(NotBegun::LeftOut(Reason::IsTried)),
        Asking::LeftAlone(until) => Err(NotBegun::LeftOut(Reason::LeftAlone { until })),
    }
}

/// The turns of one request.
#[derive(Debug)]
pub struct Course {
    turns: SmallVec<[Turn; 2]>,
    /// What rests, by its place in the plan.
    resting: Vec<PlannedOffer>,
    /// Whose servers load their models, to be waited for when nothing else is left.
    loading: Vec<PlannedOffer>,
    /// The stage in which it was waited for room last.
    waited_in: Option<usize>,
    /// The window that was too small.
    larger_than: Option<u32>,
}

impl Course {
    /// The course of a plan.
    #[must_use]
    pub fn of(plan: &Plan) -> Self {
        let turns = plan.taken().map(|planned| Turn { planned: planned.clone(), mode: Mode::Usual }).collect();
        let resting = plan.offers.iter().filter(|planned| is_resting(&planned.reason)).cloned().collect();
        let is_loading = |planned: &&PlannedOffer| {
            planned.standing == Standing::LeftOut && matches!(planned.reason, Reason::Loads { .. })
        };
        let loading = plan.offers.iter().filter(is_loading).cloned().collect();
        Self { turns, resting, loading, waited_in: None, larger_than: None }
    }

    /// The next turn.
    pub fn pop(&mut self) -> Option<Turn> {
        let first = |of: &mut Vec<PlannedOffer>| if of.is_empty() { None } else { Some(of.remove(0)) };
        let turn = |mode| move |planned| Turn { planned, mode };
        let usual = if self.turns.is_empty() { None } else { Some(self.turns.remove(0)) };
        usual
            .or_else(|| first(&mut self.resting).map(turn(Mode::LastResort)))
            .or_else(|| first(&mut self.loading).map(turn(Mode::Held(None))))
    }

    /// At an offer's turn its server loads the model: it is waited for at once for so long, later where no time is set, or not at all.
    pub fn loads(&mut self, turn: &Turn, time: Option<Duration>, now: Instant) {
        let planned = turn.planned.clone();
        match (turn.mode, time) {
            (_, Some(Duration::ZERO)) => {}
            (Mode::Held(Some(until)), _) if now < until => {
                self.turns.insert(0, Turn { planned, mode: Mode::Held(Some(until)) });
            }
            (Mode::Held(_), _) => {}
            (_, Some(time)) => self.turns.insert(0, Turn { planned, mode: Mode::Held(Some(now + time)) }),
            (_, None) => self.loading.push(planned),
        }
    }

    /// The next turn of an offer that is neither waited for nor rests.
    pub fn pop_usual(&mut self) -> Option<Turn> {
        let usual = self.turns.iter().position(|turn| turn.mode == Mode::Usual)?;
        Some(self.turns.remove(usual))
    }

    /// Whether there is another turn.
    #[must_use]
    pub fn has_more(&self) -> bool {
        !self.turns.is_empty() || !self.resting.is_empty() || !self.loading.is_empty()
    }

    /// The offers that may still have their turn.
    pub fn left(&self) -> impl Iterator<Item = &PlannedOffer> {
        self.turns.iter().map(|turn| &turn.planned).chain(&self.resting).chain(&self.loading)
    }

    /// There was no room at an offer's turn. Says why it is left out, where it is not waited for later.
    pub fn no_room(&mut self, turn: &Turn, waits: bool) -> Option<Reason> {
        let stage = turn.planned.stage;
        if !waits || turn.mode != Mode::Usual || self.waited_in == Some(stage) {
            return Some(Reason::NoRoom { waited_ms: 0 });
        }
        self.waited_in = Some(stage);
        let after = self.turns.iter().position(|other| other.planned.stage > stage).unwrap_or(self.turns.len());
        self.turns.insert(after, Turn { planned: turn.planned.clone(), mode: Mode::Waiting });
        None
    }

    /// An offer was left out at its turn.
    pub fn left_out(&mut self, turn: &Turn, reason: &Reason) {
        if turn.mode != Mode::LastResort && is_resting(reason) {
            self.resting.push(PlannedOffer { standing: Standing::LeftOut, ..turn.planned.clone() });
        }
    }

    /// The request was too long for a window of so many tokens.
    pub fn only_larger_than(&mut self, window: Option<NonZeroU32>) {
        self.larger_than = self.larger_than.max(Some(window.map_or(0, NonZeroU32::get)));
    }

    /// Whether an offer with this window may have its turn.
    #[must_use]
    pub fn is_large_enough(&self, window: Option<NonZeroU32>) -> bool {
        self.larger_than.is_none_or(|least| window.is_some_and(|window| window.get() > least))
    }
}

fn is_resting(reason: &Reason) -> bool {
    matches!(reason, Reason::Rests { .. } | Reason::IsTried)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::catalog::route::Pick;
    use wendor_core::name::OfferName;

    fn planned(stage: usize, name: &str, standing: Standing, reason: Reason) -> PlannedOffer {
        let offer = OfferName::parse(name).unwrap();
        PlannedOffer { stage, pick: Pick::Room, offer, standing, reason, expected_cost: None }
    }

    fn course() -> Course {
        Course::of(&Plan {
            offers: vec![
                planned(1, "a/m", Standing::Taken, Reason::Share),
                planned(1, "b/m", Standing::Taken, Reason::Share),
                planned(1, "c/m", Standing::LeftOut, Reason::IsTried),
                planned(2, "d/m", Standing::Taken, Reason::Share),
                planned(2, "e/m", Standing::LeftOut, Reason::IsDrained),
            ],
        })
    }

    fn names(course: &mut Course) -> Vec<(String, Mode)> {
        let next = || course.pop().map(|turn| (turn.planned.offer.upstream().to_string(), turn.mode));
        std::iter::from_fn(next).collect()
    }

    #[test]
    fn what_rests_has_its_turn_when_nothing_else_is_left() {
        let expected = [("a", Mode::Usual), ("b", Mode::Usual), ("d", Mode::Usual), ("c", Mode::LastResort)];
        assert_eq!(names(&mut course()), expected.map(|(name, mode)| (name.to_owned(), mode)));
    }

    #[test]
    fn one_of_a_stage_is_waited_for_after_the_others_of_it() {
        let mut course = course();
        let (a, b) = (course.pop().unwrap(), course.pop().unwrap());
        assert_eq!(course.no_room(&a, true), None);
        assert!(course.no_room(&b, true).is_some(), "it is waited for one");
        let expected = [("a", Mode::Waiting), ("d", Mode::Usual), ("c", Mode::LastResort)];
        assert_eq!(names(&mut course), expected.map(|(name, mode)| (name.to_owned(), mode)));
    }

    #[test]
    fn without_time_to_wait_the_next_has_its_turn() {
        let mut course = course();
        let first = course.pop().unwrap();
        assert_eq!(course.no_room(&first, false), Some(Reason::NoRoom { waited_ms: 0 }));
        assert_eq!(names(&mut course).len(), 3);
    }

    #[rstest]
    #[case::larger(Some(8_192), true)]
    #[case::the_same(Some(4_096), false)]
    #[case::unknown(None, false)]
    fn after_one_that_was_too_small(#[case] window: Option<u32>, #[case] may: bool) {
        let window = window.and_then(NonZeroU32::new);
        let mut course = course();
        assert!(course.is_large_enough(window));
        course.only_larger_than(NonZeroU32::new(4_096));
        assert_eq!(course.is_large_enough(window), may);
    }
}
