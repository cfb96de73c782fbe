//! The allowances of all quotas, of the whole process: reserving for a request, settling after.
//!
//! They are keyed by the quota's stable id and live outside snapshots and workers, so that a changed limit keeps what is used.
//! Reserving is async so that it can wait for more room from the database once instances share quotas; today the process
//! has all of it. What is taken is a [`Held`] guard: dropped unsettled it gives everything back.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard};

use chrono::{DateTime, Utc};
use rust_decimal::Decimal;
use wendor_core::metering::entry::QuotaUse;
use wendor_core::quota::allowance::{Allowance, AllowanceView, NoRoom, Reservation};
use wendor_core::quota::{AtLimit, Measure, Quota, QuotaId};

type Shared = Arc<Mutex<Allowance>>;

/// What is used already, by quota and start of the window.
pub type Settled = HashMap<(QuotaId, DateTime<Utc>), Decimal>;

/// What is left of each quota, on this instance.
#[derive(Debug, Default)]
pub struct Allowances {
    by_quota: Mutex<HashMap<QuotaId, Shared>>,
    /// From the records at start.
    settled: Settled,
}

/// Room taken for one request.
#[derive(Debug)]
pub struct Held {
    allowance: Shared,
    quota: QuotaId,
    measure: Measure,
    reservation: Option<Reservation>,
}

/// Which quota has no room, and why.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OverQuota {
    /// Its id.
    pub quota: QuotaId,
    /// The quota itself.
    pub limit: Quota,
    /// What it holds.
    pub room: NoRoom,
}

fn lock(allowance: &Shared) -> MutexGuard<'_, Allowance> {
    allowance.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
}

impl Allowances {
    /// Allowances of which `settled` is used.
    #[must_use]
    pub fn new(settled: Settled) -> Self {
        Self { by_quota: Mutex::default(), settled }
    }

    fn of(&self, id: &QuotaId, quota: &Quota, now: DateTime<Utc>) -> Shared {
        let mut all = self.by_quota.lock().unwrap_or_else(std::sync::PoisonError::into_inner);
        if let Some(found) = all.get(id) {
            return found.clone();
        }
        let used = self.settled.get(&(id.clone(), quota.window.around(now).start)).copied().unwrap_or_default();
        let made = Arc::new(Mutex::new(Allowance::new(quota.window, now, used)));
        all.insert(id.clone(), made.clone());
        made
    }

    /// Takes `amount` of a quota.
    ///
    /// # Errors
    /// [`OverQuota`] when it has no room and refuses; one that only warns always gives.
    #[expect(
        clippy::unused_async,
        reason = "waits for a lease once instances share quotas; callers must not change then"
    )]
    pub async fn reserve(
        &self,
        id: &QuotaId,
        quota: &Quota,
        amount: Decimal,
        now: DateTime<Utc>,
    ) -> Result<Held, OverQuota> {
        let allowance = self.of(id, quota, now);
        let taken = match quota.at_limit {
            AtLimit::Refuse => lock(&allowance).reserve(quota.limit, amount, now),
            AtLimit::Warn => Ok(lock(&allowance).reserve_anyway(amount, now)),
        };
        let reservation = taken.map_err(|room| OverQuota { quota: id.clone(), limit: quota.clone(), room })?;
        Ok(Held { allowance, quota: id.clone(), measure: quota.measure, reservation: Some(reservation) })
    }

    /// What a quota holds at `now`.
    #[must_use]
    pub fn view(&self, id: &QuotaId, quota: &Quota, now: DateTime<Utc>) -> AllowanceView {
        lock(&self.of(id, quota, now)).view(now)
    }
}

impl Held {
    /// What it counts.
    #[must_use]
    pub fn measure(&self) -> Measure {
        self.measure
    }

    /// Counted against this one.
    #[must_use]
    pub fn quota(&self) -> &QuotaId {
        &self.quota
    }

    /// How much is held.
    #[must_use]
    pub fn amount(&self) -> Decimal {
        self.reservation.as_ref().map_or(Decimal::ZERO, |reservation| reservation.amount)
    }

    /// Counts what was used and gives the rest back.
    #[must_use]
    pub fn settle(mut self, used: Decimal) -> Option<QuotaUse> {
        let reservation = self.reservation.take()?;
        let window_start = reservation.window_start;
        lock(&self.allowance).settle(reservation, used);
        Some(QuotaUse { quota: self.quota.clone(), window_start, amount: used })
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        if let Some(reservation) = self.reservation.take() {
            lock(&self.allowance).settle(reservation, Decimal::ZERO);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wendor_core::name::Name;
    use wendor_core::quota::window::Window;

    fn at(seconds: i64) -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_040 + seconds, 0).unwrap()
    }

    fn quota(limit: i64, at_limit: AtLimit) -> (QuotaId, Quota) {
        let quota = Quota { measure: Measure::Tokens, window: Window::Minute, limit: Decimal::from(limit), at_limit };
        (QuotaId::of_team(&Name::parse("timetables").unwrap(), &quota), quota)
    }

    fn held_and_used(allowances: &Allowances, id: &QuotaId, quota: &Quota) -> (Decimal, Decimal) {
        let view = allowances.view(id, quota, at(1));
        (view.reserved, view.used)
    }

    #[tokio::test]
    async fn what_is_dropped_is_given_back_and_what_is_settled_is_counted_once() {
        let allowances = Allowances::default();
        let quota = quota(100, AtLimit::Refuse);
        let first = allowances.reserve(&quota.0, &quota.1, Decimal::from(60), at(0)).await.unwrap();
        let refused = allowances.reserve(&quota.0, &quota.1, Decimal::from(60), at(0)).await.unwrap_err();
        assert_eq!((refused.quota.as_str(), refused.room.reserved), ("timetables/tokens/minute", Decimal::from(60)));
        drop(first);
        assert_eq!(held_and_used(&allowances, &quota.0, &quota.1), (Decimal::ZERO, Decimal::ZERO));
        let second = allowances.reserve(&quota.0, &quota.1, Decimal::from(60), at(0)).await.unwrap();
        let used = second.settle(Decimal::from(25)).unwrap();
        assert_eq!((used.amount, used.window_start), (Decimal::from(25), at(0)));
        assert_eq!(held_and_used(&allowances, &quota.0, &quota.1), (Decimal::ZERO, Decimal::from(25)));
    }

    #[tokio::test]
    async fn what_the_records_have_counts_in_its_own_window_alone() {
        let warns = quota(10, AtLimit::Warn);
        let settled =
            [((warns.0.clone(), at(0)), Decimal::from(9)), ((warns.0.clone(), at(-60)), Decimal::from(500))].into();
        let allowances = Allowances::new(settled);
        assert_eq!(held_and_used(&allowances, &warns.0, &warns.1), (Decimal::ZERO, Decimal::from(9)));
        let over = allowances.reserve(&warns.0, &warns.1, Decimal::from(7), at(2)).await.unwrap();
        assert_eq!(
            held_and_used(&allowances, &warns.0, &warns.1).0,
            Decimal::from(7),
            "a quota that warns lets it pass, and shows it"
        );
        drop(over);
        let stricter =
            (warns.0.clone(), Quota { limit: Decimal::from(9), at_limit: AtLimit::Refuse, ..warns.1.clone() });
        assert!(
            allowances.reserve(&stricter.0, &stricter.1, Decimal::ONE, at(3)).await.is_err(),
            "a changed limit keeps what is used"
        );
        assert!(allowances.reserve(&stricter.0, &stricter.1, Decimal::ONE, at(60)).await.is_ok());
    }
}
