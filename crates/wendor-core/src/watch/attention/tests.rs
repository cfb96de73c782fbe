use rstest::rstest;
use rust_decimal::Decimal;

use super::super::nearing::is_near;
use super::*;
use crate::name::Name;
use crate::quota::window::Window;
use crate::quota::{AtLimit, Measure, Quota, QuotaId};

fn at(text: &str) -> DateTime<Utc> {
    text.parse().unwrap()
}

#[rstest]
#[case::gone(Matter::Gone, "failing", "does not serve dunlin-7b any more")]
#[case::pinned(
    Matter::Pinned { pinned: "aaaa".into(), found: "bbbb".into(), otherwise: OtherWeights::Stop },
    "degraded",
    "serves dunlin-7b with the weights bbbb, and the offer is pinned to aaaa: no request goes there"
)]
#[case::two(
    Matter::TwoWeights { here: "aaaa".into(), other: crate::name::OfferName::parse("quayside-b/dunlin-7b").unwrap(), there: "bbbb".into() },
    "degraded",
    "serves dunlin-7b with the weights aaaa, and quayside-b with bbbb"
)]
fn what_is_not_as_promised_names_routes_and_teams(#[case] matter: Matter, #[case] state: &str, #[case] says: &str) {
    let warning = Warning {
        offer: crate::name::OfferName::parse("quayside-a/dunlin-7b").unwrap(),
        matter,
        routes: vec!["manifests".into()],
        teams: vec!["freight-desk".into(), "data-lab".into()],
    };
    let notice = &notices(vec![Finding::Weights(warning)], now(), "EUR")[0];
    assert_eq!((notice.state, notice.subject.as_str(), notice.says.as_str()), (state, "quayside-a", says));
    assert_eq!(notice.why, "It concerns manifests, used by freight-desk, data-lab.");
    assert_eq!(notice.leads_to, Place::Upstream("quayside-a".into()));
}

fn now() -> DateTime<Utc> {
    at("2026-11-24T08:10:00Z")
}

fn failing(upstream: &str, model: Option<&str>) -> Finding {
    let name = |text: &str| Name::parse(text).unwrap();
    let outcomes = vec![reached::Outcomes { team: name("harbour-ops"), answered: 0, failed: 6 }];
    Finding::Failing(Failing {
        upstream: upstream.to_owned(),
        model: model.map(str::to_owned),
        since: Some(at("2026-11-24T07:52:00Z")),
        next_trial: Some(at("2026-11-24T08:10:09Z")),
        last: "unreachable, connection refused on 127.0.0.1:7502".to_owned(),
        reached: vec![Reached { route: name("deck-plans"), goes_on_to: None, outcomes }],
    })
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
    let notice = &notices(vec![Finding::NearLimit(near)], now(), "EUR")[0];
    assert_eq!((notice.state, notice.subject.as_str(), notice.why.as_str()), (state, "freight-desk", why));
    assert!(notice.says.starts_with(says), "{}", notice.says);
}

#[rstest]
#[case::failing(
    failing("quayside-b", None),
    "quayside-b fails: unreachable, connection refused on 127.0.0.1:7502",
    "Since 07:52, 18 min. The next trial is at 08:10:09. deck-plans has no working offer: 6 of 6 requests failed in the last 5 min of harbour-ops."
)]
#[case::slowed(
    Finding::Slowed { upstream: "quayside-b".into(), wait_ms: 4_100, usual_ms: 600 },
    "quayside-b waits 4.10 s for a first token, usually 0.60 s",
    "By its last requests; usual is the median of the last seven days."
)]
#[case::no_credential(
    Finding::NoCredential { upstream: "quarry".into(), why: "variable WENDOR_UPSTREAM_QUARRY is not set".into() },
    "quarry cannot be used: it has no credential",
    "Variable WENDOR_UPSTREAM_QUARRY is not set. Set it where the service runs, and start it again."
)]
#[case::no_route(
    Finding::NoRoute { wanted: "night-sailing".into(), count: 1_200, teams: vec!["timetables".into()], nearest: Some("night-sailings".into()) },
    "night-sailing was requested 1,200 times in the last hour and is not a route of the teams that asked",
    "By timetables. Nearest: night-sailings."
)]
#[case::over_quota(
    Finding::OverQuota { team: "harbour-ops".into(), count: 1 },
    "harbour-ops was refused once in the last hour: quota exceeded",
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
    "The disk of the spool is full or not writable. Make room on it; requests resume by themselves."
)]
fn findings_in_words(#[case] finding: Finding, #[case] words: &str, #[case] why: &str) {
    let notice = &notices(vec![finding], now(), "EUR")[0];
    assert_eq!((format!("{} {}", notice.subject, notice.says), notice.why.as_str()), (words.to_owned(), why));
}

#[test]
fn the_worst_stands_first() {
    let findings = vec![
        Finding::NoRoute { wanted: "x".into(), count: 1, teams: vec![], nearest: None },
        Finding::NearLimit(near(1_092, None, AtLimit::Refuse)),
        failing("quayside-a", Some("dunlin-7b")),
        Finding::SpoolGrows { pending: 9, is_reachable: true, is_writable: false },
    ];
    let states: Vec<_> = notices(findings, now(), "EUR").iter().map(|notice| notice.subject.clone()).collect();
    assert_eq!(states, ["the spool", "quayside-a/dunlin-7b", "freight-desk", "x"]);
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
fn a_spool_worth_a_look(#[case] pending: u64, #[case] reachable: bool, #[case] writable: bool, #[case] grown: bool) {
    assert_eq!(has_grown(pending, reachable, writable), grown);
}
