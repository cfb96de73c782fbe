//! What needs someone: each finding with its subject, what is the matter, why it is said, and where to go.
//!
//! States enter, sentences leave, as a colleague would say them at the desk. The worst stands first.

use chrono::{DateTime, TimeDelta, Utc};
use rust_decimal::Decimal;

use crate::metering::money::Money;
use crate::metering::summary::{grouped, seconds};
use crate::quota::window::Window;
use crate::quota::{AtLimit, Measure, QuotaId};

/// An upstream has slowed when it waits this many times as long as usual ...
const SLOWED_TIMES: u64 = 3;

/// ... and this much longer: three times next to nothing is still next to nothing.
const SLOWED_BY_MS: u64 = 400;

/// From this part of a limit on it is near, in per cent.
const NEAR_PERCENT: u64 = 90;

/// Entries in the spool from which it is worth a look while the database answers: some seconds of heavy traffic.
const SPOOL_GROWN: u64 = 5_000;

/// Where the cause of a finding stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// The upstream of that name.
    Upstream(String),
    /// The team of that name, with its quotas.
    Team(String),
    /// What was refused of late.
    Refusals,
    /// The service's own state.
    Service,
}

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Finding {
    /// An upstream fails.
    Failing {
        /// Which.
        upstream: String,
        /// Since when.
        since: Option<DateTime<Utc>>,
        /// What its last attempt failed of.
        last: String,
    },
    /// An upstream cannot be asked for want of its credential.
    NoCredential {
        /// Which.
        upstream: String,
        /// What is missing.
        why: String,
    },
    /// An upstream waits longer for a first token than it used to.
    Slowed {
        /// Which.
        upstream: String,
        /// Of late.
        wait_ms: u64,
        /// As a rule.
        usual_ms: u64,
    },
    /// A quota is near its limit, at it, or will be.
    NearLimit(NearLimit),
    /// A team was refused for want of room in a quota.
    OverQuota {
        /// Which.
        team: String,
        /// How often in the last hour.
        count: u64,
    },
    /// A name was asked for that is no route.
    NoRoute {
        /// The name.
        wanted: String,
        /// How often in the last hour.
        count: u64,
        /// By whom.
        teams: Vec<String>,
        /// The nearest route.
        nearest: Option<String>,
    },
    /// The spool holds more than it should.
    SpoolGrows {
        /// Entries.
        pending: u64,
        /// Whether the database answers.
        is_reachable: bool,
        /// Whether the disk takes more.
        is_writable: bool,
    },
}

/// A quota that is near its limit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NearLimit {
    /// Whose.
    pub team: String,
    /// Which.
    pub quota: QuotaId,
    /// What it counts.
    pub measure: Measure,
    /// In which window.
    pub window: Window,
    /// What happens at the limit.
    pub at_limit: AtLimit,
    /// Used.
    pub used: Decimal,
    /// The limit.
    pub limit: Decimal,
    /// When the window ends.
    pub resets_at: DateTime<Utc>,
    /// When the limit is reached at the usual pace, if inside the window.
    pub reached_at: Option<DateTime<Utc>>,
}

/// A finding in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    /// The state in a word.
    pub state: &'static str,
    /// What it is about.
    pub subject: String,
    /// What is the matter: goes on after the subject.
    pub says: String,
    /// What else is known of it.
    pub why: String,
    /// What to do, as a verb.
    pub verb: &'static str,
    /// Where.
    pub leads_to: Place,
}

/// Whether an upstream has slowed.
#[must_use]
pub fn has_slowed(wait_ms: u64, usual_ms: u64) -> bool {
    wait_ms >= usual_ms.saturating_mul(SLOWED_TIMES) && wait_ms >= usual_ms.saturating_add(SLOWED_BY_MS)
}

/// Whether a quota is near its limit, or on its way there.
#[must_use]
pub fn is_near(used: Decimal, limit: Decimal, reached_at: Option<DateTime<Utc>>) -> bool {
    reached_at.is_some() || used * Decimal::from(100) >= limit * Decimal::from(NEAR_PERCENT)
}

/// Whether the spool is worth a look.
#[must_use]
pub fn has_grown(pending: u64, is_reachable: bool, is_writable: bool) -> bool {
    pending >= SPOOL_GROWN || !is_reachable || !is_writable
}

impl Finding {
    /// The worse it is, the smaller.
    fn order(&self) -> u8 {
        match self {
            Self::SpoolGrows { is_writable: false, .. } => 0,
            Self::Failing { .. } => 1,
            Self::NoCredential { .. } => 2,
            Self::SpoolGrows { .. } => 3,
            Self::Slowed { .. } => 4,
            Self::NearLimit(near) if near.used >= near.limit => 5,
            Self::OverQuota { .. } => 6,
            Self::NearLimit(_) => 7,
            Self::NoRoute { .. } => 8,
        }
    }

    fn notice(&self, now: DateTime<Utc>, currency: &str) -> Notice {
        match self {
            Self::Failing { upstream, since, last } => {
                let since = since.map_or_else(String::new, |at| format!("Since {}. ", since_words(at, now)));
                let why = format!("{since}Its routes go on to their next offers meanwhile.");
                upstream_notice("failing", upstream, format!("fails: {last}"), why)
            }
            Self::NoCredential { upstream, why } => {
                let remedy = format!("{}. Set it where the service runs, and start it again.", sentence(why));
                upstream_notice("failing", upstream, "cannot be asked: it has no credential".to_owned(), remedy)
            }
            Self::Slowed { upstream, wait_ms, usual_ms } => {
                let says = format!("waits {} for a first token, usually {}", seconds(*wait_ms), seconds(*usual_ms));
                let why = "By its last requests; usual is the median of the last seven days.".to_owned();
                upstream_notice("degraded", upstream, says, why)
            }
            Self::NearLimit(near) => near.notice(now, currency),
            Self::OverQuota { team, count } => Notice {
                state: "over limit",
                subject: team.clone(),
                says: format!("was refused {} in the last hour for want of room in a quota", times(*count)),
                why: "What is refused costs nothing and is not in the ledger.".to_owned(),
                verb: "See the refusals",
                leads_to: Place::Refusals,
            },
            Self::NoRoute { wanted, count, teams, nearest } => {
                let by = if teams.is_empty() { String::new() } else { format!("By {}. ", teams.join(", ")) };
                let near = nearest.as_ref().map_or_else(String::new, |near| format!("Nearest: {near}."));
                Notice {
                    state: "refused",
                    subject: wanted.clone(),
                    says: format!("was asked for {} in the last hour and is no route of who asked", times(*count)),
                    why: format!("{by}{near}").trim_end().to_owned(),
                    verb: "See the refusals",
                    leads_to: Place::Refusals,
                }
            }
            Self::SpoolGrows { pending, is_reachable, is_writable } => {
                spool_notice(*pending, *is_reachable, *is_writable)
            }
        }
    }
}

impl NearLimit {
    fn notice(&self, now: DateTime<Utc>, currency: &str) -> Notice {
        let amount = |value: Decimal| match self.measure {
            Measure::Cost => format!("{} {currency}", Money::new(value).shown(2)),
            Measure::Requests | Measure::InputTokens | Measure::OutputTokens | Measure::Tokens => {
                let whole = u64::try_from(value.trunc()).unwrap_or(u64::MAX);
                format!("{} {}", grouped(whole), self.measure.as_str().replace('-', " "))
            }
        };
        let percent = match self.limit.is_zero() {
            true => Decimal::from(100),
            false => (self.used * Decimal::from(100) / self.limit).trunc(),
        };
        let window = match self.window {
            Window::Month => now.format("%B's").to_string(),
            Window::Day => "today's".to_owned(),
            Window::Hour => "this hour's".to_owned(),
            Window::Minute => "this minute's".to_owned(),
        };
        let says = format!(
            "has used {}% of {window} {}, with {} to go",
            percent.normalize(),
            amount(self.limit),
            length(self.resets_at - now)
        );
        let at_limit = match self.at_limit {
            AtLimit::Refuse => "From then on its requests are refused.",
            AtLimit::Warn => "It only warns.",
        };
        let why = match self.reached_at {
            Some(_) if self.used >= self.limit => match self.at_limit {
                AtLimit::Refuse => format!("Its requests are refused until {}.", day_and_hour(self.resets_at)),
                AtLimit::Warn => "The limit is passed; it only warns.".to_owned(),
            },
            Some(at) => format!("At the usual pace it is reached on {}. {at_limit}", day_and_hour(at)),
            None => format!("At the usual pace it lasts to the end. {at_limit}"),
        };
        let state = if self.used >= self.limit { "over limit" } else { "near limit" };
        let subject = self.team.clone();
        Notice { state, subject: subject.clone(), says, why, verb: "Open the quota", leads_to: Place::Team(subject) }
    }
}

fn upstream_notice(state: &'static str, upstream: &str, says: String, why: String) -> Notice {
    let leads_to = Place::Upstream(upstream.to_owned());
    Notice { state, subject: upstream.to_owned(), says, why, verb: "See why", leads_to }
}

fn spool_notice(pending: u64, is_reachable: bool, is_writable: bool) -> Notice {
    let says = match (is_writable, pending) {
        (false, _) => "cannot be written: requests are refused".to_owned(),
        (true, 0) => "is empty, but the database does not answer".to_owned(),
        (true, 1) => "holds 1 entry that the database does not have".to_owned(),
        (true, _) => format!("holds {} entries that the database does not have", grouped(pending)),
    };
    let why = match (is_writable, is_reachable) {
        (false, _) => "The disk of the spool takes nothing. Make room on it; requests go on by themselves.",
        (true, false) => "The database does not answer. Known keys are served and recorded all the same.",
        (true, true) => "The database answers; it is behind.",
    };
    Notice {
        state: if is_writable { "degraded" } else { "failing" },
        subject: "the spool".to_owned(),
        says,
        why: why.to_owned(),
        verb: "See the service",
        leads_to: Place::Service,
    }
}

/// Findings in words, the worst first, then by subject.
#[must_use]
pub fn notices(mut findings: Vec<Finding>, now: DateTime<Utc>, currency: &str) -> Vec<Notice> {
    findings.sort_by_key(Finding::order);
    findings.iter().map(|finding| finding.notice(now, currency)).collect()
}

fn times(count: u64) -> String {
    match count {
        1 => "once".to_owned(),
        2 => "twice".to_owned(),
        _ => format!("{} times", grouped(count)),
    }
}

fn sentence(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// The time of day, or the day too when it was not today; and how long ago.
fn since_words(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let format = if at.date_naive() == now.date_naive() { "%H:%M" } else { "%-d %B, %H:%M" };
    format!("{}, {}", at.format(format), length(now - at))
}

fn day_and_hour(at: DateTime<Utc>) -> String {
    at.format("%A %-d %B about %H:%M UTC").to_string()
}

/// A time in the one unit that says enough.
fn length(time: TimeDelta) -> String {
    let of = |count: i64, unit: &str| match count {
        1 => format!("1 {unit}"),
        _ => format!("{count} {unit}s"),
    };
    match time.num_seconds().max(0) {
        seconds @ 0..=99 => format!("{seconds} s"),
        seconds @ 100..=5_999 => format!("{} min", seconds / 60),
        seconds @ 6_000..=172_799 => of(seconds / 3_600, "hour"),
        seconds => of(seconds / 86_400, "day"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Name;
    use crate::quota::Quota;
    use rstest::rstest;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn now() -> DateTime<Utc> {
        at("2026-11-24T08:10:00Z")
    }

    fn near(used: i64, reached_at: Option<&str>, at_limit: AtLimit) -> NearLimit {
        let quota = Quota { measure: Measure::Cost, window: Window::Month, limit: Decimal::from(1_200), at_limit };
        NearLimit {
            team: "freight-desk".into(),
            quota: QuotaId::of_team(&Name::parse("freight-desk").unwrap(), &quota),
            measure: quota.measure,
            window: quota.window,
            at_limit,
            used: used.into(),
            limit: quota.limit,
            resets_at: at("2026-12-01T00:00:00Z"),
            reached_at: reached_at.map(at),
        }
    }

    #[rstest]
    #[case::on_its_way(
        near(1_092, Some("2026-11-26T15:04:00Z"), AtLimit::Refuse),
        "near limit",
        "has used 91% of November's 1200.00 EUR, with 6 days to go",
        "At the usual pace it is reached on Thursday 26 November about 15:04 UTC. From then on its requests are refused."
    )]
    #[case::lasts(
        near(1_092, None, AtLimit::Refuse),
        "near limit",
        "has used 91% of",
        "At the usual pace it lasts to the end. From then on its requests are refused."
    )]
    #[case::over(
        near(1_201, Some("2026-11-24T08:10:00Z"), AtLimit::Refuse),
        "over limit",
        "has used 100% of",
        "Its requests are refused until Tuesday 1 December about 00:00 UTC."
    )]
    #[case::over_and_warns(
        near(1_300, Some("2026-11-24T08:10:00Z"), AtLimit::Warn),
        "over limit",
        "has used 108% of",
        "The limit is passed; it only warns."
    )]
    fn a_quota_near_its_limit(#[case] near: NearLimit, #[case] state: &str, #[case] says: &str, #[case] why: &str) {
        let told = &notices(vec![Finding::NearLimit(near)], now(), "EUR")[0];
        assert_eq!((told.state, told.subject.as_str(), told.why.as_str()), (state, "freight-desk", why));
        assert!(told.says.starts_with(says), "{}", told.says);
    }

    #[rstest]
    #[case::failing(
        Finding::Failing { upstream: "quayside-b".into(), since: Some(at("2026-11-24T07:52:00Z")), last: "unreachable, connection refused on 127.0.0.1:7502".into() },
        "quayside-b fails: unreachable, connection refused on 127.0.0.1:7502",
        "Since 07:52, 18 min. Its routes go on to their next offers meanwhile."
    )]
    #[case::slowed(
        Finding::Slowed { upstream: "quayside-b".into(), wait_ms: 4_100, usual_ms: 600 },
        "quayside-b waits 4.10 s for a first token, usually 0.60 s",
        "By its last requests; usual is the median of the last seven days."
    )]
    #[case::no_credential(
        Finding::NoCredential { upstream: "quarry".into(), why: "variable QUARRY_CREDENTIAL is not set".into() },
        "quarry cannot be asked: it has no credential",
        "Variable QUARRY_CREDENTIAL is not set. Set it where the service runs, and start it again."
    )]
    #[case::no_route(
        Finding::NoRoute { wanted: "night-sailing".into(), count: 1_200, teams: vec!["timetables".into()], nearest: Some("night-sailings".into()) },
        "night-sailing was asked for 1,200 times in the last hour and is no route of who asked",
        "By timetables. Nearest: night-sailings."
    )]
    #[case::over_quota(
        Finding::OverQuota { team: "harbour-ops".into(), count: 1 },
        "harbour-ops was refused once in the last hour for want of room in a quota",
        "What is refused costs nothing and is not in the ledger."
    )]
    #[case::away(
        Finding::SpoolGrows { pending: 1_204, is_reachable: false, is_writable: true },
        "the spool holds 1,204 entries that the database does not have",
        "The database does not answer. Known keys are served and recorded all the same."
    )]
    #[case::full(
        Finding::SpoolGrows { pending: 3, is_reachable: true, is_writable: false },
        "the spool cannot be written: requests are refused",
        "The disk of the spool takes nothing. Make room on it; requests go on by themselves."
    )]
    fn findings_in_words(#[case] finding: Finding, #[case] words: &str, #[case] why: &str) {
        let told = &notices(vec![finding], now(), "EUR")[0];
        assert_eq!((format!("{} {}", told.subject, told.says), told.why.as_str()), (words.to_owned(), why));
    }

    #[test]
    fn the_worst_stands_first() {
        let findings = vec![
            Finding::NoRoute { wanted: "x".into(), count: 1, teams: vec![], nearest: None },
            Finding::NearLimit(near(1_092, None, AtLimit::Refuse)),
            Finding::Failing { upstream: "quayside-a".into(), since: None, last: "server-error, 500".into() },
            Finding::SpoolGrows { pending: 9, is_reachable: true, is_writable: false },
        ];
        let states: Vec<_> = notices(findings, now(), "EUR").iter().map(|notice| notice.subject.clone()).collect();
        assert_eq!(states, ["the spool", "quayside-a", "freight-desk", "x"]);
    }

    #[rstest]
    #[case::three_times_and_much(4_100, 600, true)]
    #[case::three_times_next_to_nothing(90, 30, false)]
    #[case::much_but_not_three_times(1_700, 600, false)]
    fn slow_is_much_slower_than_usual(#[case] wait: u64, #[case] usual: u64, #[case] slowed: bool) {
        assert_eq!(has_slowed(wait, usual), slowed);
    }

    #[rstest]
    #[case::far(80, None, false)]
    #[case::near(90, None, true)]
    #[case::on_its_way(10, Some("2026-11-30T00:00:00Z"), true)]
    fn near_is_nine_tenths_or_on_the_way(#[case] used: i64, #[case] reached: Option<&str>, #[case] near: bool) {
        assert_eq!(is_near(used.into(), 100.into(), reached.map(at)), near);
    }

    #[rstest]
    #[case(0, true, true, false)]
    #[case(5_000, true, true, true)]
    #[case(0, false, true, true)]
    #[case(0, true, false, true)]
    fn a_spool_worth_a_look(
        #[case] pending: u64,
        #[case] reachable: bool,
        #[case] writable: bool,
        #[case] grown: bool,
    ) {
        assert_eq!(has_grown(pending, reachable, writable), grown);
    }
}
