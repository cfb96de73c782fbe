use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn at(millis: i64) -> DateTime<Utc> {
    DateTime::from_timestamp_millis(1_790_000_000_000 + millis).unwrap()
}

fn broken() -> Failure {
    Failure::of_status(500, None)
}

/// One that rests since 0.
fn resting() -> Health {
    let mut health = Health::default();
    (0..3).for_each(|_| drop(health.failed(at(0), "dunlin-7b", &broken())));
    health
}

#[test]
fn three_failures_in_a_row_make_it_rest_and_trials_make_it_well() {
    let mut health = Health::default();
    assert_eq!((health.state(), health.asking(at(0))), (HealthState::NotAsked, Asking::Freely));
    let refused = Failure::new(FailureKind::Unreachable, "connection refused");
    let seen: Vec<_> = (0..3).map(|n| (health.failed(at(n), "dunlin-7b", &refused), health.state()).1).collect();
    assert_eq!(seen, [HealthState::Degraded, HealthState::Degraded, HealthState::Failing]);
    assert_eq!(health.since(), Some(at(0)), "the first of the failures in a row");
    let until = health.next_trial().unwrap();
    assert!((at(1_000)..=at(1_102)).contains(&until), "{until}");
    assert_eq!(health.asking(at(999)), Asking::Rests(until));
    assert_eq!(health.begin(until), Asking::OnTrial);
    assert_eq!(health.asking(until), Asking::IsTried(until + TRIAL_PATIENCE), "one request tries it");
    assert_eq!(health.state(), HealthState::OnTrial);
    assert_eq!(health.succeeded(until, Some(200)), None);
    assert_eq!(health.begin(until), Asking::OnTrial);
    let change = health.succeeded(at(1_300), None).unwrap();
    assert_eq!((change.state, health.state()), (HealthState::Well, HealthState::Well));
    assert_eq!((health.since(), health.asking(at(1_300))), (Some(at(1_300)), Asking::Freely));
    assert_eq!(health.waits().usual_ms(), Some(200), "a whole reply says nothing about it");
    let reasons: Vec<&str> = health.changes().map(|change| change.why.as_str()).collect();
    assert_eq!(
        reasons,
        [
            "2 requests in a row were answered on trial",
            "3 failures in a row, the last: unreachable (connection refused)"
        ]
    );
}

#[test]
fn rests_grow_with_failed_trials_up_to_a_limit() {
    let mut health = resting();
    let mut now = at(0);
    let rests: Vec<i64> = (0..7)
        .map(|_| {
            let until = health.next_trial().unwrap();
            let rest = (until - now).num_seconds();
            now = until;
            assert_eq!(health.begin(now), Asking::OnTrial);
            assert!(health.failed(now, "dunlin-7b", &broken()).is_some());
            rest
        })
        .collect();
    assert_eq!(rests, [1, 2, 4, 8, 15, 15, 15]);
}

#[test]
fn one_that_comes_and_goes_rests_longer_each_time() {
    let (mut health, mut now, mut rests) = (resting(), at(0), Vec::new());
    for _ in 0..3 {
        let until = health.next_trial().unwrap();
        rests.push((until - now).num_seconds());
        now = until;
        for _ in 0..WELL_AFTER {
            health.begin(now);
            health.succeeded(now, None);
        }
        assert_eq!(health.state(), HealthState::Well);
        (0..3).for_each(|_| drop(health.failed(now, "dunlin-7b", &broken())));
    }
    assert_eq!(rests, [1, 2, 4]);
    let long_after = health.next_trial().unwrap();
    (0..WELL_AFTER).for_each(|_| drop(health.succeeded(long_after, None)));
    let later = long_after + DAMPED_WITHIN;
    (0..3).for_each(|_| drop(health.failed(later, "dunlin-7b", &broken())));
    assert_eq!((health.next_trial().unwrap() - later).num_seconds(), 1, "it was well for long");
}

#[rstest]
#[case::half_of_them(5, 5, true)]
#[case::fewer(6, 5, false)]
#[case::too_few_to_say(4, 4, false)]
fn it_rests_when_most_recent_attempts_failed(#[case] good: u32, #[case] bad: u32, #[case] rests: bool) {
    let mut health = Health::default();
    // Never three failures in a row, and a failure last.
    (bad..good).for_each(|_| drop(health.succeeded(at(0), None)));
    for n in 0..bad {
        if n < good {
            health.succeeded(at(0), None);
        }
        health.failed(at(0), "dunlin-7b", &broken());
    }
    if rests {
        assert!(health.changes().next().is_some(), "{health:?}");
    } else {
        assert_eq!(health.changes().count(), 0, "{health:?}");
    }
}

#[test]
fn slow_first_tokens_make_it_rest_and_a_slow_trial_is_none() {
    let mut health = Health::default();
    (0..20).for_each(|n| drop(health.succeeded(at(n), Some(50))));
    let changes: Vec<Change> = (0..20).filter_map(|n| health.succeeded(at(1_000 + n), Some(3_000))).collect();
    let [change] = changes.as_slice() else { panic!("{changes:?}") };
    assert!(change.why.starts_with("4 slow in a row, the last: "), "{}", change.why);
    assert!(change.why.contains("3000 ms, and 550 ms is slow here"), "{}", change.why);
    let until = health.next_trial().unwrap();
    health.begin(until);
    assert_eq!(health.succeeded(until, Some(4_000)).unwrap().state, HealthState::Failing);
}

#[test]
fn a_trial_that_never_ends_keeps_nobody_out_for_long() {
    let mut health = resting();
    let until = health.next_trial().unwrap();
    assert_eq!(health.begin(until), Asking::OnTrial);
    assert_eq!(
        health.begin(until + TRIAL_PATIENCE - TimeDelta::milliseconds(1)),
        Asking::IsTried(until + TRIAL_PATIENCE)
    );
    assert_eq!(health.begin(until + TRIAL_PATIENCE), Asking::OnTrial);
    health.given_up();
    assert_eq!(health.begin(until + TRIAL_PATIENCE), Asking::OnTrial, "its app has gone");
}

#[rstest]
#[case::the_apps_own_fault(Failure::of_status(400, None))]
#[case::too_long(Failure::new(FailureKind::TooLong, "413"))]
#[case::a_rejection_without_a_reason(Failure::of_rejection(400, FailureKind::Malformed))]
fn what_the_app_sent_says_nothing_about_health(#[case] failure: Failure) {
    let mut health = Health::default();
    (0..5).for_each(|_| drop(health.failed(at(0), "dunlin-7b", &failure)));
    assert_eq!(health, Health::default());
}

#[test]
fn it_is_left_alone_as_long_as_it_asked_but_at_most_a_minute() {
    let mut health = Health::default();
    health.failed(at(0), "dunlin-7b", &Failure::of_status(429, Some(std::time::Duration::from_secs(5))));
    assert_eq!(health.left_alone_until(at(4_000)), Some(at(5_000)));
    health.succeeded(at(1_000), None);
    assert_eq!(health.asking(at(1_000)), Asking::LeftAlone(at(5_000)), "an answer of an attempt begun before");
    assert_eq!(health.left_alone_until(at(5_000)), None);
    health.failed(at(0), "dunlin-7b", &Failure::of_status(503, Some(std::time::Duration::from_secs(86_400))));
    assert_eq!(health.left_alone_until(at(1_000)), Some(at(60_000)));
}

#[rstest]
#[case::not_reached(HealthState::Failing, &[HealthState::Well], HealthState::Failing)]
#[case::not_reached_of_late(HealthState::Degraded, &[HealthState::Well], HealthState::Degraded)]
#[case::nothing_asked(HealthState::NotAsked, &[HealthState::NotAsked], HealthState::NotAsked)]
#[case::connected_only(HealthState::Well, &[], HealthState::NotAsked)]
#[case::all_well(HealthState::Well, &[HealthState::Well, HealthState::NotAsked], HealthState::Well)]
#[case::one_of_two(HealthState::Well, &[HealthState::Well, HealthState::Failing], HealthState::Degraded)]
#[case::all_failing(HealthState::Well, &[HealthState::Failing, HealthState::Failing], HealthState::Failing)]
fn an_upstream_is_as_its_offers_are(
    #[case] connections: HealthState,
    #[case] offers: &[HealthState],
    #[case] expected: HealthState,
) {
    assert_eq!(overall(connections, offers.iter().copied()), expected);
}

#[test]
fn what_was_begun_before_it_rested_brings_it_back_no_sooner() {
    let mut health = Health::default();
    let before = health.round();
    (0..3).for_each(|_| drop(health.failed(at(0), "dunlin-7b", &broken())));
    assert_ne!(health.round(), before);
    (0..5).for_each(|_| health.succeeded_late(at(100), Some(40)));
    assert!(matches!(health.asking(at(100)), Asking::Rests(_)));
    assert_eq!((health.last_success(), health.waits().usual_ms()), (Some(at(100)), Some(40)));
    let until = health.next_trial().unwrap();
    health.begin(until);
    health.failed_late(until, "dunlin-7b", &Failure::new(FailureKind::TimedOut, "no answer within 5s"));
    assert_eq!(health.state(), HealthState::OnTrial, "a late failure is not the trial's");
}

proptest! {
    /// Whatever happens to it, it is asked again soon, one request at a time, and successes make it well.
    #[test]
    fn it_always_comes_back(outcomes in proptest::collection::vec((0_u8..5, 0_i64..4_000), 0..200)) {
        let (mut health, mut now) = (Health::default(), at(0));
        for (outcome, pause) in outcomes {
            now += TimeDelta::milliseconds(pause);
            if !matches!(health.begin(now), Asking::Freely | Asking::OnTrial) {
                let until = health.next_trial().unwrap();
                prop_assert!(until - now <= LONGEST_REST + LONGEST_REST / 10, "{until} at {now}");
                continue;
            }
            match outcome {
                0 => drop(health.failed(now, "m", &broken())),
                1 => drop(health.was_slow(now, "slow")),
                2 => health.given_up(),
                _ => drop(health.succeeded(now, Some(100))),
            }
        }
        now += LONGEST_REST * 2;
        for _ in 0..WELL_AFTER {
            prop_assert!(matches!(health.begin(now), Asking::Freely | Asking::OnTrial));
            health.succeeded(now, Some(100));
        }
        prop_assert!(matches!(health.state(), HealthState::Well), "{health:?}");
        prop_assert!(health.changes().count() <= KEPT_CHANGES);
    }
}

/// Where one in ten waits long and is given up since another answered, what one in twenty passes is the long wait, and not that of the others.
#[test]
fn what_was_given_up_counts_as_a_wait() {
    let (mut known, mut blind) = (Health::default(), Health::default());
    for number in 0..60 {
        let is_slow = number % 10 == 9;
        let at = at(number);
        if is_slow {
            known.waited_in_vain(900);
        } else {
            known.succeeded(at, Some(100));
            blind.succeeded(at, Some(100));
        }
    }
    assert_eq!((known.waits().p95_ms(), blind.waits().p95_ms()), (Some(900), Some(100)));
    assert_eq!(known.waits().usual_ms(), Some(100));
}

#[test]
fn it_is_remembered_what_failed_last_and_when_it_was_heard_of() {
    let mut health = Health::default();
    assert_eq!((health.last_failure(), health.last_heard()), (None, None));
    health.failed(at(5), "dunlin-7b", &broken());
    health.succeeded(at(9), None);
    assert_eq!(health.last_failure(), Some(&LastFailure { at: at(5), model: "dunlin-7b".into(), failure: broken() }));
    assert_eq!(health.last_heard(), Some(at(9)));
    health.failed_late(at(20), "dunlin-13b", &broken());
    assert_eq!(health.last_failure().map(|last| (last.at, last.model.as_str())), Some((at(20), "dunlin-13b")));
    assert_eq!((health.last_heard(), health.state()), (Some(at(20)), HealthState::Well));
}

#[test]
fn it_is_well_since_the_first_success_and_not_since_the_last() {
    let mut health = Health::default();
    let since: Vec<_> = [5, 20].map(|millis| (health.succeeded(at(millis), None), health.since()).1).into();
    assert_eq!(since, [Some(at(5)), Some(at(5))]);
    health.failed(at(30), "dunlin-7b", &broken());
    assert_eq!(health.since(), Some(at(30)));
    let since: Vec<_> = [40, 50].map(|millis| (health.succeeded(at(millis), None), health.since()).1).into();
    assert_eq!(since, [Some(at(40)), Some(at(40))]);
}

/// A tenth of the rest, in proportion to the microseconds of the moment.
#[rstest]
#[case::none(2_000, 1_000)]
#[case::half(2_500, 1_050)]
#[case::most(2_999, 1_099)]
fn rests_are_spread_by_the_moment(#[case] micros: i64, #[case] rest_ms: i64) {
    let now = at(0) + TimeDelta::microseconds(micros);
    let mut health = Health::default();
    (0..3).for_each(|_| drop(health.failed(now, "dunlin-7b", &broken())));
    assert_eq!((health.next_trial().unwrap() - now).num_milliseconds(), rest_ms);
}

#[test]
fn a_trial_holds_the_next_one_off() {
    let mut health = resting();
    let until = health.next_trial().unwrap();
    health.begin(until);
    assert_eq!(health.next_trial(), Some(until + TRIAL_PATIENCE));
    health.given_up();
    assert_eq!(health.next_trial(), None, "whoever comes may try");
}

#[test]
fn only_so_many_changes_are_kept_and_all_are_counted() {
    let mut health = resting();
    for _ in 0..40 {
        let until = health.next_trial().unwrap();
        health.begin(until);
        health.failed(until, "dunlin-7b", &broken());
    }
    assert_eq!((health.changes().count(), health.changes_counted()), (KEPT_CHANGES, 41));
}
