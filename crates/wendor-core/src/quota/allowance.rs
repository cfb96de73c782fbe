//! What is left of one quota: reserve before, settle after. This is where a quota says no.
//!
//! An [`Allowance`] belongs to the process, not to a snapshot or a worker, and survives changes of its limit. `room` is what
//! this process may give out of the limit; as long as it is alone that is the whole of it, later it is its lease.
//! A reservation counts in the window in which it was made, also when it is settled in the next.

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::window::{Window, WindowSpan};

/// How much is used and held in the current window.
#[derive(Clone, Debug)]
pub struct Allowance {
    window: Window,
    span: WindowSpan,
    settled: Decimal,
    reserved: Decimal,
}

/// Room taken and not yet settled: it must be given back to [`Allowance::settle`] exactly once.
#[derive(Debug, PartialEq, Eq)]
#[must_use = "an unsettled reservation keeps its room until the window ends"]
pub struct Reservation {
    /// Start of the window it was made in.
    pub window_start: DateTime<Utc>,
    /// How much is held.
    pub amount: Decimal,
}

/// A quota has no room for a request.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct NoRoom {
    /// In the quota's own measure.
    pub limit: Decimal,
    /// Used in this window.
    pub used: Decimal,
    /// Held by requests under way.
    pub reserved: Decimal,
    /// What this request would need.
    pub wanted: Decimal,
    /// When the window ends.
    pub resets_at: DateTime<Utc>,
}

/// Used and held, for looking at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct AllowanceView {
    /// The window.
    pub span: WindowSpan,
    /// Settled within the window, without what is only held.
    pub used: Decimal,
    /// Held by requests under way.
    pub reserved: Decimal,
}

impl Allowance {
    /// An allowance at `now` of which `settled` is used already.
    #[must_use]
    pub fn new(window: Window, now: DateTime<Utc>, settled: Decimal) -> Self {
        Self { window, span: window.around(now), settled, reserved: Decimal::ZERO }
    }

    fn roll(&mut self, now: DateTime<Utc>) {
        // A clock that steps back leaves the window too: what it holds then belongs to a time that has not come.
        if now >= self.span.end || now < self.span.start {
            *self = Self::new(self.window, now, Decimal::ZERO);
        }
    }

    /// Takes `amount` of the window around `now`, when `room` has it.
    ///
    /// # Errors
    /// [`NoRoom`] when used, held and wanted together pass `room`; nothing is taken then.
    pub fn reserve(&mut self, room: Decimal, amount: Decimal, now: DateTime<Utc>) -> Result<Reservation, NoRoom> {
        self.roll(now);
        if self.settled + self.reserved + amount > room {
            return Err(NoRoom {
                limit: room,
                used: self.settled,
                reserved: self.reserved,
                wanted: amount,
                resets_at: self.span.end,
            });
        }
        Ok(self.hold(amount))
    }

    /// Takes `amount` without asking for room: for quotas that only warn.
    pub fn reserve_anyway(&mut self, amount: Decimal, now: DateTime<Utc>) -> Reservation {
        self.roll(now);
        self.hold(amount)
    }

    fn hold(&mut self, amount: Decimal) -> Reservation {
        self.reserved += amount;
        Reservation { window_start: self.span.start, amount }
    }

    /// Gives a reservation back and counts what was really used. After its window has ended neither matters here
    /// any more; the ledger's own window keeps the amount.
    pub fn settle(&mut self, reservation: Reservation, used: Decimal) {
        if reservation.window_start == self.span.start {
            self.reserved -= reservation.amount;
            self.settled += used;
        }
    }

    /// Used and held at `now`.
    #[must_use]
    pub fn view(&mut self, now: DateTime<Utc>) -> AllowanceView {
        self.roll(now);
        AllowanceView { span: self.span, used: self.settled, reserved: self.reserved }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn at(seconds: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_040 + seconds, 0).unwrap()
    }

    #[test]
    fn the_limit_is_reached_and_not_passed() {
        let mut allowance = Allowance::new(Window::Minute, at(0), Decimal::ZERO);
        let limit = Decimal::from(20);
        let answered = (0..30).filter(|_| allowance.reserve(limit, Decimal::ONE, at(1)).is_ok()).count();
        assert_eq!(answered, 20);
        let refusal = allowance.reserve(limit, Decimal::ONE, at(2)).unwrap_err();
        assert_eq!((refusal.reserved, refusal.resets_at), (Decimal::from(20), at(60)));
        assert!(allowance.reserve(limit, Decimal::ONE, at(60)).is_ok(), "the next window has room again");
    }

    #[test]
    fn settling_after_the_window_leaves_the_next_one_alone() {
        let mut allowance = Allowance::new(Window::Minute, at(0), Decimal::ZERO);
        let held = allowance.reserve(Decimal::from(10), Decimal::from(8), at(59)).unwrap();
        assert_eq!(allowance.view(at(60)).reserved, Decimal::ZERO);
        allowance.settle(held, Decimal::from(8));
        assert_eq!(allowance.view(at(61)).used, Decimal::ZERO);
    }

    #[test]
    fn a_clock_that_steps_back_does_not_shut_the_window() {
        let mut allowance = Allowance::new(Window::Minute, at(600), Decimal::ZERO);
        let limit = Decimal::from(1);
        assert!(allowance.reserve(limit, Decimal::ONE, at(601)).is_ok());
        assert!(allowance.reserve(limit, Decimal::ONE, at(0)).is_ok(), "the clock was set back by ten minutes");
        assert_eq!(allowance.reserve(limit, Decimal::ONE, at(1)).unwrap_err().resets_at, at(60));
    }

    proptest! {
        /// Whatever comes in whatever order, used and held never pass the limit when nobody uses more than reserved.
        #[test]
        fn used_and_held_never_pass_the_limit(steps in prop::collection::vec((0u32..40, 0u32..100, any::<bool>()), 1..80)) {
            let limit = Decimal::from(100);
            let mut allowance = Allowance::new(Window::Hour, at(0), Decimal::ZERO);
            let mut open = Vec::new();
            for (amount, used_percent, settles) in steps {
                if settles && let Some(reservation) = open.pop() {
                    let reservation: Reservation = reservation;
                    let used = reservation.amount * Decimal::from(used_percent) / Decimal::from(100);
                    allowance.settle(reservation, used);
                } else if let Ok(reservation) = allowance.reserve(limit, Decimal::from(amount), at(1)) {
                    open.push(reservation);
                }
                let view = allowance.view(at(1));
                let held: Decimal = open.iter().map(|reservation| reservation.amount).sum();
                prop_assert_eq!(view.reserved, held);
                prop_assert!(view.used + view.reserved <= limit);
            }
        }
    }

    #[test]
    fn the_first_moment_of_a_window_belongs_to_it() {
        let mut allowance = Allowance::new(Window::Minute, at(0), Decimal::ZERO);
        assert!(allowance.reserve(Decimal::ONE, Decimal::ONE, at(0)).is_ok());
        assert!(allowance.reserve(Decimal::ONE, Decimal::ONE, at(0)).is_err(), "what was taken is kept");
    }

    #[test]
    fn what_is_settled_is_used() {
        let mut allowance = Allowance::new(Window::Hour, at(0), Decimal::from(5));
        for used in [3, 4] {
            let held = allowance.reserve_anyway(Decimal::from(10), at(1));
            allowance.settle(held, Decimal::from(used));
        }
        let AllowanceView { used, reserved, .. } = allowance.view(at(2));
        assert_eq!((used, reserved), (Decimal::from(12), Decimal::ZERO));
    }
}
