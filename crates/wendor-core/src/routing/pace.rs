//! How fast a service lets us ask: so many requests and so many tokens a minute, as the catalogue declares it or as the service's answers tell it.
//!
//! A token bucket each. Of a declared limit a twelfth may be used at once, and the rest comes evenly, so that no minute ever holds
//! more than the limit, wherever the service begins to count. Of a limit that the service tells, it also tells what is left and when all of it is
//! there again; in between it is taken to come back evenly.

use std::time::Duration;

use chrono::{DateTime, Utc};
use wendor_wire::told_limits::{LONGEST, Paced, ToldLimit};

use super::recent::Recent;

/// The part of a declared limit that may be used at once: one in so many.
const AT_ONCE: f64 = 12.0;

/// What batch leaves of what may be used at once: one in so many.
const BATCH_LEAVES: f64 = 2.0;

/// Limits that the catalogue declares; `None` without one.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct MinuteLimits {
    /// Requests a minute.
    pub requests: Option<u64>,
    /// Tokens a minute.
    pub tokens: Option<u64>,
}

impl MinuteLimits {
    /// The limit of one of both.
    #[must_use]
    pub fn of(self, paced: Paced) -> Option<u64> {
        match paced {
            Paced::Requests => self.requests,
            Paced::Tokens => self.tokens,
        }
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_none(self) -> bool {
        self == Self::default()
    }
}

/// How a bucket fills.
#[derive(Clone, Copy, Debug, PartialEq)]
struct Flow {
    /// It holds so much.
    holds: f64,
    /// So much comes in a second.
    a_second: f64,
}

#[derive(Clone, Copy, Debug)]
struct Bucket {
    level: f64,
    at: DateTime<Utc>,
}

/// How a limit stands, to be shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Standing {
    /// Of what.
    pub paced: Paced,
    /// By the minute where it is declared, as the service counts where it is told.
    pub limit: u64,
    /// Used within the last minute.
    pub used: u64,
    /// What is left: of a declared limit for this minute, of one that is told as it is told.
    pub left: u64,
    /// Whether the service told it; otherwise it is declared, for a minute.
    pub is_told: bool,
    /// In how long it is used up if requests go on coming as in the last minute; `None`: not at all.
    pub used_up_in: Option<Duration>,
}

/// How fast one service, or one model of it, may be asked.
#[derive(Clone, Debug, Default)]
pub struct Pace {
    declared: [Option<Bucket>; 2],
    told: [Option<(Bucket, Flow)>; 2],
    minute: Recent<2, 60>,
}

fn amounts(tokens: u64) -> [u64; 2] {
    [1, tokens]
}

/// Exact up to 2^53, which no limit comes near.
#[expect(clippy::cast_precision_loss, reason = "no limit comes near 2^53")]
fn float(amount: u64) -> f64 {
    amount as f64
}

#[expect(clippy::cast_possible_truncation, clippy::cast_sign_loss, reason = "bounded below by 0")]
fn whole(amount: f64) -> u64 {
    amount.max(0.0) as u64
}

impl Flow {
    fn declared(limit: u64) -> Self {
        let limit = float(limit);
        let holds = (limit / AT_ONCE).floor().max(1.0);
        // One more than what is left of the limit: it has come just when the minute is over.
        Self { holds, a_second: (limit - holds + 1.0) / 60.0 }
    }

    fn told(told: ToldLimit) -> Self {
        let (limit, missing) = (float(told.limit), float(told.limit - told.left));
        let a_second = match told.whole_in {
            Some(time) if !time.is_zero() && missing > 0.0 => missing / time.min(LONGEST).as_secs_f64(),
            Some(_) | None => limit / 60.0,
        };
        Self { holds: limit, a_second }
    }
}

impl Bucket {
    fn level(self, flow: Flow, now: DateTime<Utc>) -> f64 {
        let past = (now - self.at).to_std().unwrap_or_default().as_secs_f64();
        (self.level + past * flow.a_second).min(flow.holds)
    }

    /// How long until `amount` may be used; more than the bucket holds may once it is full.
    fn wait(self, amount: f64, flow: Flow, now: DateTime<Utc>) -> Duration {
        let missing = amount.min(flow.holds) - self.level(flow, now);
        if missing <= 0.0 {
            return Duration::ZERO;
        }
        // A nanosecond more: a wait that ends a rounding too early would be followed by another.
        Duration::from_secs_f64((missing / flow.a_second).min(LONGEST.as_secs_f64())) + Duration::from_nanos(1_000)
    }
}

impl Pace {
    fn full(now: DateTime<Utc>) -> Bucket {
        Bucket { level: f64::INFINITY, at: now }
    }

    /// Whether the service told a limit.
    #[must_use]
    pub fn is_told(&self) -> bool {
        self.told.iter().any(Option::is_some)
    }

    /// How long a request that may use so many tokens has to wait; nothing is used by asking. One of the batch lane leaves something.
    #[must_use]
    pub fn wait(&self, tokens: u64, limits: MinuteLimits, is_batch: bool, now: DateTime<Utc>) -> Duration {
        self.buckets(limits, now)
            .map(|(paced, bucket, flow)| {
                let [requests, tokens] = amounts(tokens).map(float);
                let amount = if paced == Paced::Requests { requests } else { tokens };
                let left_over = if is_batch { flow.holds / BATCH_LEAVES } else { 0.0 };
                bucket.wait(amount + left_over, flow, now)
            })
            .max()
            .unwrap_or_default()
    }

    fn buckets(
        &self,
        limits: MinuteLimits,
        now: DateTime<Utc>,
    ) -> impl Iterator<Item = (Paced, Bucket, Flow)> + use<'_> {
        let declared = Paced::ALL.into_iter().zip(self.declared).filter_map(move |(paced, bucket)| {
            let flow = Flow::declared(limits.of(paced)?);
            Some((paced, bucket.unwrap_or_else(|| Self::full(now)), flow))
        });
        let told_limits = Paced::ALL.into_iter().zip(self.told);
        declared.chain(
            told_limits.filter_map(|(paced, told_limits)| told_limits.map(|(bucket, flow)| (paced, bucket, flow))),
        )
    }

    /// A request goes that may use so many tokens.
    pub fn take(&mut self, tokens: u64, limits: MinuteLimits, now: DateTime<Utc>) {
        self.minute.count(now, 0);
        for ((place, paced), amount) in Paced::ALL.into_iter().enumerate().zip(amounts(tokens)) {
            let used = |bucket: Bucket, flow| Bucket { level: bucket.level(flow, now) - float(amount), at: now };
            if let (Some(limit), Some(declared)) = (limits.of(paced), self.declared.get_mut(place)) {
                *declared = Some(used(declared.unwrap_or_else(|| Self::full(now)), Flow::declared(limit)));
            }
            if let Some(Some((bucket, flow))) = self.told.get_mut(place) {
                *bucket = used(*bucket, *flow);
            }
        }
    }

    /// A request that might have used `at_most` tokens has ended, and used so many.
    pub fn ended(&mut self, at_most: u64, used: u64, now: DateTime<Utc>) {
        self.minute.add(now, 1, u32::try_from(used).unwrap_or(u32::MAX));
        let tokens = at_most.saturating_sub(used);
        let [_, declared] = &mut self.declared;
        if let Some(bucket) = declared {
            bucket.level += float(tokens);
        }
        let [_, told] = &mut self.told;
        if let Some((bucket, flow)) = told {
            bucket.level = (bucket.level + float(tokens)).min(flow.holds);
        }
    }

    /// The service has told of a limit.
    pub fn told(&mut self, told: ToldLimit, now: DateTime<Utc>) {
        if told.limit == 0 || told.left > told.limit {
            return;
        }
        let place = usize::from(told.paced == Paced::Tokens);
        if let Some(known) = self.told.get_mut(place) {
            *known = Some((Bucket { level: float(told.left), at: now }, Flow::told(told)));
        }
    }

    /// How its limits stand.
    #[must_use]
    pub fn standings(&self, limits: MinuteLimits, now: DateTime<Utc>) -> Vec<Standing> {
        let used = self.minute.counts(now).map(u64::from);
        let standing = |(paced, bucket, flow, limit, is_told): (Paced, Bucket, Flow, u64, bool)| {
            let [requests, tokens] = used;
            let used = if paced == Paced::Requests { requests } else { tokens };
            let level = bucket.level(flow, now);
            let faster = float(used) / 60.0 - flow.a_second;
            let in_seconds = if level <= 0.0 { Some(0.0) } else { (faster > 0.0).then(|| level / faster) };
            let used_up_in = in_seconds.filter(|seconds| *seconds < LONGEST.as_secs_f64());
            let used_up_in = used_up_in.map(Duration::from_secs_f64);
            let left = if is_told { whole(level) } else { limit.saturating_sub(used) };
            Standing { paced, limit, used, left, is_told, used_up_in }
        };
        let declared = Paced::ALL.into_iter().zip(self.declared).filter_map(|(paced, bucket)| {
            let limit = limits.of(paced)?;
            Some((paced, bucket.unwrap_or_else(|| Self::full(now)), Flow::declared(limit), limit, false))
        });
        let told_limits = Paced::ALL.into_iter().zip(self.told).filter_map(|(paced, told)| {
            let (bucket, flow) = told?;
            Some((paced, bucket, flow, whole(flow.holds), true))
        });
        declared.chain(told_limits).map(standing).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use chrono::TimeDelta;
    use proptest::prelude::*;

    fn at(millis: i64) -> DateTime<Utc> {
        DateTime::from_timestamp_millis(1_790_000_000_000 + millis).unwrap()
    }

    const SIXTY: MinuteLimits = MinuteLimits { requests: Some(60), tokens: None };

    #[test]
    fn a_twelfth_goes_at_once_and_the_rest_evenly() {
        let mut pace = Pace::default();
        for _ in 0..5 {
            assert_eq!(pace.wait(10, SIXTY, false, at(0)), Duration::ZERO);
            pace.take(10, SIXTY, at(0));
        }
        let wait = pace.wait(10, SIXTY, false, at(0));
        assert!((1_000..1_200).contains(&wait.as_millis()), "56 come in a minute: {wait:?}");
        assert_eq!(pace.wait(10, SIXTY, false, at(1_100)), Duration::ZERO);
        assert!(pace.wait(10, SIXTY, true, at(1_100)) > Duration::ZERO, "batch leaves half of what goes at once");
        let Standing { used, left, used_up_in, .. } = pace.standings(SIXTY, at(0))[0];
        assert_eq!((used, left, used_up_in), (5, 55, Some(Duration::ZERO)), "what comes now waits");
    }

    #[test]
    fn tokens_that_were_not_used_come_back() {
        let limits = MinuteLimits { requests: None, tokens: Some(12_000) };
        let mut pace = Pace::default();
        pace.take(5_000, limits, at(0));
        assert!(pace.wait(100, limits, false, at(0)) > Duration::from_secs(20), "more than goes at once is a debt");
        pace.ended(5_000, 100, at(0));
        assert_eq!(pace.wait(100, limits, false, at(0)), Duration::ZERO);
    }

    #[test]
    fn what_the_service_tells_counts_too() {
        let mut pace = Pace::default();
        let none = MinuteLimits::default();
        assert_eq!(pace.wait(100, none, false, at(0)), Duration::ZERO);
        let told_limit =
            ToldLimit { paced: Paced::Requests, limit: 600, left: 1, whole_in: Some(Duration::from_secs(60)) };
        pace.told(told_limit, at(0));
        pace.take(100, none, at(0));
        let wait = pace.wait(100, none, false, at(0));
        assert!((90..120).contains(&wait.as_millis()), "ten come in a second: {wait:?}");
        pace.told(ToldLimit { left: 601, ..told_limit }, at(0));
        assert!(!pace.wait(100, none, false, at(0)).is_zero(), "more left than there is: not believed");
        let Standing { limit, is_told, .. } = pace.standings(none, at(0))[0];
        assert_eq!((limit, is_told), (600, true));
    }

    #[test]
    fn it_is_told_when_a_limit_will_be_used_up() {
        let mut pace = Pace::default();
        pace.told(
            ToldLimit { paced: Paced::Requests, limit: 1_000, left: 900, whole_in: Some(Duration::from_secs(6_000)) },
            at(0),
        );
        for second in 0..60 {
            pace.take(0, MinuteLimits::default(), at(second * 1_000));
        }
        let Standing { used, used_up_in, left, .. } = pace.standings(MinuteLimits::default(), at(59_000))[0];
        assert_eq!((used, left), (60, 840));
        let seconds = used_up_in.unwrap().as_secs();
        assert!((850..860).contains(&seconds), "one a second goes, one in a minute comes: {seconds}");
    }

    proptest! {
        /// However requests come: those that wait as they are told to are never more than the limit within a minute.
        #[test]
        fn no_minute_holds_more_than_the_limit(limit in 1_u64..200, gaps in prop::collection::vec(0_i64..3_000, 1..400)) {
            let limits = MinuteLimits { requests: Some(limit), tokens: None };
            let (mut pace, mut now, mut gone) = (Pace::default(), at(0), Vec::new());
            for gap in gaps {
                now += TimeDelta::milliseconds(gap);
                now += TimeDelta::from_std(pace.wait(0, limits, false, now)).unwrap();
                prop_assert!(pace.wait(0, limits, false, now) < Duration::from_millis(1), "it may go when it was told to");
                pace.take(0, limits, now);
                gone.push(now);
            }
            for (first, from) in gone.iter().enumerate() {
                let within = gone[first..].iter().filter(|at| **at - from < TimeDelta::seconds(60)).count();
                prop_assert!(within as u64 <= limit, "{within} of {limit} from {from}");
            }
        }
    }

    const NONE: MinuteLimits = MinuteLimits { requests: None, tokens: None };

    fn told(limit: u64, left: u64, whole_in: Option<Duration>) -> Pace {
        let mut pace = Pace::default();
        pace.told(ToldLimit { paced: Paced::Requests, limit, left, whole_in }, at(0));
        pace
    }

    #[test]
    fn without_limits_there_is_none() {
        assert!(NONE.is_none() && !SIXTY.is_none());
        assert!(!MinuteLimits { requests: None, tokens: Some(1) }.is_none());
    }

    /// Of sixty a minute five go at once and the fifty-five that are left come in a minute with one more: one in 60/56 s.
    #[test]
    fn what_comes_evenly_is_all_that_is_left_and_one() {
        let mut pace = Pace::default();
        (0..5).for_each(|_| pace.take(0, SIXTY, at(0)));
        assert_eq!(pace.wait(0, SIXTY, false, at(0)).as_millis(), 1_071);
    }

    #[test]
    fn batch_goes_while_half_is_left_over() {
        let mut pace = Pace::default();
        let gone = (0..5).take_while(|_| {
            let may = pace.wait(0, SIXTY, true, at(0)).is_zero();
            pace.take(0, SIXTY, at(0));
            may
        });
        assert_eq!(gone.count(), 2, "2.5 of five are left");
    }

    #[rstest::rstest]
    #[case::not_told_when(told(600, 0, None), 100)]
    #[case::at_once(told(60, 0, Some(Duration::ZERO)), 1_000)]
    #[case::nothing_missing(told(1, 1, Some(Duration::from_secs(60))), 60_000)]
    #[case::evenly_until_then(told(10, 0, Some(Duration::from_secs(20))), 2_000)]
    fn what_is_told_comes_back_evenly(#[case] mut pace: Pace, #[case] millis: u128) {
        assert!(pace.is_told());
        if pace.wait(0, NONE, false, at(0)).is_zero() {
            pace.take(0, NONE, at(0));
        }
        assert_eq!(pace.wait(0, NONE, false, at(0)).as_millis(), millis);
    }

    #[test]
    fn a_limit_is_told_or_not() {
        assert!(!Pace::default().is_told() && told(10, 10, None).is_told(), "all of it may be left");
        assert!(!told(10, 11, None).is_told() && !told(0, 0, None).is_told());
    }

    #[test]
    fn tokens_that_were_not_used_come_back_to_a_told_limit() {
        let mut pace = Pace::default();
        pace.told(ToldLimit { paced: Paced::Tokens, limit: 1_000, left: 1_000, whole_in: None }, at(0));
        pace.take(500, NONE, at(0));
        pace.ended(500, 100, at(0));
        assert!(pace.wait(900, NONE, false, at(0)).is_zero());
        assert!(!pace.wait(901, NONE, false, at(0)).is_zero());
    }
}
