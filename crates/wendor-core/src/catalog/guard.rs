//! Bounds that somebody sets with a change: when its requests fail or cost more than that within a time, the state of before is put in force
//! again.

use chrono::{DateTime, TimeDelta, Utc};
use serde::{Deserialize, Serialize};

use crate::metering::money::Money;
use crate::words::grouped;

/// Requests from which on a share of failures says something.
const ENOUGH: u64 = 5;

/// The longest time that a change may be watched: a week.
pub const LONGEST_SECONDS: u32 = 7 * 86_400;

/// The bounds of a change.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Guard {
    /// For how long after the change they hold.
    pub seconds: u32,
    /// Of a hundred requests as many may fail; any number when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub failed_percent: Option<u32>,
    /// As much may be paid in that time; any amount when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cost: Option<Money>,
}

/// What came of the requests of a revision so far.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Outcome {
    /// Requests.
    pub requests: u64,
    /// Of these, left without a whole answer by us or the upstreams.
    pub failures: u64,
    /// What they cost.
    pub cost: Money,
}

impl Guard {
    /// Checks what somebody asks for.
    ///
    /// # Errors
    /// What is wrong and what to do.
    pub fn check(&self) -> Result<(), String> {
        if self.failed_percent.is_none() && self.cost.is_none() {
            return Err("says no bound: give failures in percent, or a cost".to_owned());
        }
        if !(1..=LONGEST_SECONDS).contains(&self.seconds) {
            return Err(format!("holds for {} s: from 1 s to 7 days are possible", self.seconds));
        }
        match self.failed_percent {
            Some(percent) if percent > 99 => Err(format!("allows {percent}% failures: from 0 to 99 are possible")),
            Some(_) | None => Ok(()),
        }
    }

    /// When it ends, for a change of that moment.
    #[must_use]
    pub fn until(&self, made_at: DateTime<Utc>) -> DateTime<Utc> {
        made_at + TimeDelta::seconds(self.seconds.into())
    }

    /// Why the change is to be undone, if a bound is passed: goes on after "since".
    #[must_use]
    pub fn passed(&self, outcome: &Outcome) -> Option<String> {
        let Outcome { requests, failures, cost } = *outcome;
        if let Some(percent) = self.failed_percent.filter(|_| requests >= ENOUGH)
            && failures * 100 > requests * u64::from(percent)
        {
            return Some(format!(
                "{} of {} requests failed, and at most {percent}% were to",
                grouped(failures),
                grouped(requests)
            ));
        }
        let most = self.cost.filter(|most| cost > *most)?;
        Some(format!("its requests cost {}, and were to cost at most {}", cost.shown(2), most.shown(2)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn guard(failed_percent: Option<u32>, cost: Option<&str>) -> Guard {
        Guard { seconds: 60, failed_percent, cost: cost.and_then(Money::parse) }
    }

    #[rstest]
    #[case::well(Some(20), None, (10, 2, "0"), None)]
    #[case::too_few(Some(20), None, (4, 4, "0"), None)]
    #[case::failing(Some(20), None, (10, 3, "0"), Some("3 of 10 requests failed, and at most 20% were to"))]
    #[case::none_may(Some(0), None, (5, 1, "0"), Some("1 of 5 requests failed, and at most 0% were to"))]
    #[case::dear(None, Some("5"), (1, 1, "5.01"), Some("its requests cost 5.01, and were to cost at most 5.00"))]
    #[case::just_so(Some(50), Some("5"), (10, 5, "5"), None)]
    fn a_bound_is_passed(
        #[case] percent: Option<u32>,
        #[case] cost: Option<&str>,
        #[case] (requests, failures, paid): (u64, u64, &str),
        #[case] why: Option<&str>,
    ) {
        let outcome = Outcome { requests, failures, cost: Money::parse(paid).unwrap() };
        assert_eq!(guard(percent, cost).passed(&outcome).as_deref(), why);
    }

    #[rstest]
    #[case::no_bound(Guard { seconds: 60, failed_percent: None, cost: None }, "says no bound")]
    #[case::no_time(Guard { seconds: 0, ..guard(Some(5), None) }, "holds for 0 s")]
    #[case::for_ever(Guard { seconds: u32::MAX, ..guard(Some(5), None) }, "from 1 s to 7 days")]
    #[case::all_may_fail(guard(Some(100), None), "allows 100% failures")]
    fn what_guards_nothing_is_told(#[case] guard: Guard, #[case] told: &str) {
        assert!(guard.check().unwrap_err().contains(told));
    }

    #[test]
    fn it_ends() {
        let at: DateTime<Utc> = "2026-11-28T10:00:00Z".parse().unwrap();
        assert_eq!(guard(Some(1), None).until(at) - at, TimeDelta::seconds(60));
        assert!(guard(Some(1), None).check().is_ok());
    }
}
