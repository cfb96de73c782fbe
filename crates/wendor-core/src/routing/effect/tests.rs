use super::*;
use crate::catalog::file;
use rstest::rstest;

const FERRY: &str = r#"
[upstreams.quay]
address = "http://quay.example"
hosting = "own"
[upstreams.quay.offers.dunlin]
context_window = 4000
rates = [{ from = 2026-01-01, input = 1, output = 2 }]
[upstreams.quarry]
address = "http://quarry.example"
hosting = "hosted"
[upstreams.quarry.offers.fulmar]
rates = [{ from = 2026-01-01, input = 10, output = 20 }]
[routes.manifests]
stages = [{ offers = ["quay/dunlin"] }, { offers = ["quarry/fulmar"] }]
[teams.timetables]
quotas = [{ measure = "requests", per = "hour", limit = 60 }]
"#;

fn request(minute: u32, seed: u64, input: u64) -> PastRequest {
    PastRequest {
        at: "2026-11-20T10:00:00Z".parse::<DateTime<Utc>>().unwrap() + chrono::TimeDelta::minutes(minute.into()),
        seed,
        team: Name::parse("timetables").unwrap(),
        access: Access::AllRoutes,
        route: Name::parse("manifests").unwrap(),
        tokens: TokenCounts { input, output: 100, ..TokenCounts::default() },
    }
}

fn terms(every: u64) -> Terms {
    let first = |name: &str, millis| (OfferName::parse(name).unwrap(), millis);
    Terms {
        day: "2026-11-28".parse().unwrap(),
        first_token_ms: [first("quay/dunlin", 200), first("quarry/fulmar", 900)].into(),
        every,
    }
}

/// Of each line: route, where to, before and after, costs.
fn told(right: &str, other: &str, every: u64) -> (u64, Vec<String>) {
    assert!(FERRY.contains(right));
    let read = |text: &str| file::read(text).unwrap_or_else(|problems| panic!("{problems:#?}"));
    let (before, after) =
        (read(FERRY), read(&FERRY.replacen(right, &other.replace("INSTRUCTIONS", &"x".repeat(400)), 1)));
    let requests: Vec<PastRequest> = (0..50)
        .map(|number| {
            request(
                u32::from(number >= 40),
                u64::try_from(number).unwrap(),
                if number % 10 == 0 { 5_000 } else { 1_000 },
            )
        })
        .collect();
    let world = |file: &'_ file::CatalogueFile| (file.catalogue.clone(), file.rates.clone());
    let ((was, was_rates), (is, is_rates)) = (world(&before), world(&after));
    let effect = of(
        requests.iter(),
        World { catalogue: &was, rates: &was_rates },
        World { catalogue: &is, rates: &is_rates },
        &terms(every),
    );
    let line = |((route, outcome), sides): (&(String, Outcome), &Sides)| {
        let outcome = match outcome {
            Outcome::Offer(offer) => offer.to_string(),
            Outcome::Refused(why) => format!("refused, {why}"),
        };
        format!(
            "{route} {outcome}: {} > {}, {} > {}",
            sides.before,
            sides.after,
            sides.cost_before.shown(4),
            sides.cost_after.shown(4)
        )
    };
    (effect.moved, effect.lines.iter().map(line).collect())
}

#[rstest]
#[case::nothing("", "", 1, 0, &["manifests quarry/fulmar: 5 > 5, 0.2600 > 0.2600", "manifests quay/dunlin: 45 > 45, 0.0540 > 0.0540"])]
#[case::scaled("limit = 60", "limit = 6000", 10, 440, &[
    "manifests quarry/fulmar: 10 > 50, 0.5200 > 2.6000",
    "manifests quay/dunlin: 50 > 450, 0.0600 > 0.5400",
    "manifests refused, a quota is used up: 440 > 0, 0.0000 > 0.0000",
])]
#[case::drained("hosting = \"own\"", "hosting = \"own\"\ndrained = true", 1, 45, &[
    "manifests quarry/fulmar: 5 > 50, 0.2600 > 0.8000",
    "manifests quay/dunlin: 45 > 0, 0.0540 > 0.0000",
])]
#[case::a_lower_quota("limit = 60", "limit = 30", 1, 20, &[
    "manifests quarry/fulmar: 5 > 3, 0.2600 > 0.1560",
    "manifests quay/dunlin: 45 > 27, 0.0540 > 0.0324",
    "manifests refused, a quota is used up: 0 > 20, 0.0000 > 0.0000",
])]
#[case::a_larger_window("context_window = 4000", "context_window = 8000", 1, 5, &[
    "manifests quarry/fulmar: 5 > 0, 0.2600 > 0.0000",
    "manifests quay/dunlin: 45 > 50, 0.0540 > 0.0800",
])]
#[case::a_dearer_rate("input = 1, output = 2 }", "input = 1, output = 2 }, { from = 2026-11-28, input = 2, output = 2 }", 1, 0, &[
    "manifests quarry/fulmar: 5 > 5, 0.2600 > 0.2600",
    "manifests quay/dunlin: 45 > 45, 0.0540 > 0.0990",
])]
#[case::a_preset("[routes.manifests]", "[routes.manifests]\npreset = { instructions = \"INSTRUCTIONS\" }", 1, 0, &[
    "manifests quarry/fulmar: 5 > 5, 0.2600 > 0.2650",
    "manifests quay/dunlin: 45 > 45, 0.0540 > 0.0585",
])]
#[case::retired("[routes.manifests]", "[routes.manifests]\nretires = 2026-11-01", 1, 50, &[
    "manifests quarry/fulmar: 5 > 0, 0.2600 > 0.0000",
    "manifests quay/dunlin: 45 > 0, 0.0540 > 0.0000",
    "manifests refused, the route has retired: 0 > 50, 0.0000 > 0.0000",
])]
#[case::renamed("[routes.manifests]", "[routes.cargo]\nformer = [\"manifests\"]", 1, 0, &[
    "cargo quarry/fulmar: 5 > 5, 0.2600 > 0.2600",
    "cargo quay/dunlin: 45 > 45, 0.0540 > 0.0540",
])]
#[case::no_access("[teams.timetables]", "[teams.timetables]\nroutes = []", 1, 50, &[
    "manifests quarry/fulmar: 5 > 0, 0.2600 > 0.0000",
    "manifests quay/dunlin: 45 > 0, 0.0540 > 0.0000",
    "manifests refused, the team may not use the route: 0 > 50, 0.0000 > 0.0000",
])]
fn requests_of_the_past_are_planned_anew(
    #[case] right: &str,
    #[case] other: &str,
    #[case] every: u64,
    #[case] moved: u64,
    #[case] lines: &[&str],
) {
    let (was_moved, was) = told(right, other, every);
    assert_eq!((was_moved, was.iter().map(String::as_str).collect::<Vec<_>>().as_slice()), (moved, lines));
}

#[rstest]
#[case::all_were_planned(1_000, 1_000, 300, 0)]
#[case::a_tenth(1_000, 10_000, 5_000, 310)]
#[case::none_was_seen(1_000, 10_000, 0, 30)]
#[case::nothing_at_all(0, 0, 0, 0)]
fn a_sample_says_how_far_it_may_be_off(
    #[case] planned: u64,
    #[case] requests: u64,
    #[case] count: u64,
    #[case] error: u64,
) {
    assert_eq!(Effect { planned, requests, ..Effect::default() }.error(count), error);
}
