//! The order in which offers are tried for one request, with a reason for every offer taken or left.
//!
//! A route, what is known of each offer and a seed enter; a [`Plan`] leaves. It is data: it can be shown without being
//! run, and it is kept with the request. Picking by share uses the seed, so that the same seed gives the same order.

use std::cmp::Reverse;
use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use super::health::HealthState;
use crate::catalog::route::{Pick, Route, Stage};
use crate::metering::bounded::{SENTENCE_BYTES, bounded};
use crate::metering::money::Money;
use crate::name::OfferName;

/// What is known of an offer when a plan is made.
#[derive(Clone, Debug)]
pub struct OfferView {
    /// State of its upstream.
    pub health: HealthState,
    /// Until when its upstream asked to be left alone.
    pub rests_until: Option<DateTime<Utc>>,
    /// Streams that its upstream carries now.
    pub streams_open: u32,
    /// Streams that its upstream can carry.
    pub streams: Option<u32>,
    /// Whether those that are left are for other teams.
    pub is_kept_for_others: bool,
    /// Recent wait for a first token.
    pub first_token_ms: Option<u64>,
    /// What this request would cost there at most; `None` when unpriced.
    pub expected_cost: Option<Money>,
    /// Why it cannot serve this request, whatever its state.
    pub unfit: Option<String>,
}

/// Whether an offer is tried.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// It is, in its turn.
    Taken,
    /// It is not.
    LeftOut,
}

/// One offer in a plan.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PlannedOffer {
    /// The stage, counted from 1.
    pub stage: usize,
    /// How that stage picks.
    pub pick: Pick,
    /// The offer.
    pub offer: OfferName,
    /// Taken or left out.
    pub standing: Standing,
    /// Why, in a few words.
    pub reason: String,
    /// What the request would cost there at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_cost: Option<Money>,
}

/// The offers of a route in the order in which they are tried; those left out stand last in their stage.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Plan {
    /// The offers.
    pub offers: Vec<PlannedOffer>,
}

impl Plan {
    /// The offers to try, in order.
    pub fn taken(&self) -> impl Iterator<Item = &PlannedOffer> {
        self.offers.iter().filter(|planned| planned.standing == Standing::Taken)
    }
}

/// Plans the offers of `route`. `view` tells what is known of each; `seed` decides among equals and by share.
pub fn make(route: &Route, view: impl Fn(&OfferName) -> OfferView, seed: u64) -> Plan {
    let mut seen = BTreeSet::new();
    let mut offers = Vec::new();
    for (index, stage) in route.stages.iter().enumerate() {
        let mut ranked: Vec<(Rank, PlannedOffer)> = Vec::new();
        for (place, entry) in stage.offers.iter().enumerate() {
            let known = view(&entry.offer);
            let draw = draw(seed, index, place);
            let weight = entry.share.map_or(1, std::num::NonZeroU32::get);
            let is_repeat = !seen.insert(entry.offer.clone());
            let (standing, reason) = judge(stage, &known, is_repeat);
            let planned = PlannedOffer {
                stage: index + 1,
                pick: stage.pick,
                offer: entry.offer.clone(),
                standing,
                reason,
                expected_cost: known.expected_cost,
            };
            ranked.push((rank(stage.pick, &known, standing, (draw, weight)), planned));
        }
        ranked.sort_by_key(|(rank, _)| *rank);
        offers.extend(ranked.into_iter().map(|(_, planned)| planned));
    }
    Plan { offers }
}

fn judge(stage: &Stage, known: &OfferView, is_repeat: bool) -> (Standing, String) {
    if is_repeat {
        return (Standing::LeftOut, "stands in an earlier stage".to_owned());
    }
    if let Some(why) = &known.unfit {
        return (Standing::LeftOut, bounded(why, SENTENCE_BYTES));
    }
    if let Some(until) = known.rests_until {
        return (Standing::LeftOut, format!("asked to be left alone until {}", until.format("%H:%M:%S")));
    }
    if let Some(streams) = known.streams.filter(|streams| known.streams_open >= *streams) {
        return (Standing::LeftOut, format!("{} of {streams} streams taken", known.streams_open));
    }
    if let Some(streams) = known.streams.filter(|_| known.is_kept_for_others) {
        let open = known.streams_open;
        return (
            Standing::LeftOut,
            format!("{open} of {streams} streams taken, and the others are kept for other teams"),
        );
    }
    let room = known.streams.map_or_else(
        || match known.streams_open {
            1 => "1 stream open".to_owned(),
            open => format!("{open} streams open"),
        },
        |all| format!("{} of {all} streams taken", known.streams_open),
    );
    let reason = match (known.health, stage.pick) {
        (HealthState::Failing, _) => format!("failing, so behind the others; {room}"),
        (_, Pick::Share) => "drawn by its share".to_owned(),
        (_, Pick::Room) => room,
        (_, Pick::Speed) => {
            known.first_token_ms.map_or("not timed yet".to_owned(), |ms| format!("first token after {ms} ms of late"))
        }
        (_, Pick::Cost) => {
            known.expected_cost.map_or("unpriced".to_owned(), |cost| format!("costs at most {}", cost.shown(4)))
        }
    };
    (Standing::Taken, reason)
}

/// Smaller is tried earlier: taken before left out, well before failing, then by the stage's measure, then by chance.
type Rank = (Reverse<bool>, bool, u128, u64);

fn rank(pick: Pick, known: &OfferView, standing: Standing, (draw, weight): (u64, u32)) -> Rank {
    let measure = match pick {
        Pick::Share => by_share(draw, weight),
        // Share of the capacity in use, in parts of a million; without a known capacity, the count itself.
        Pick::Room => match known.streams {
            Some(all) => u128::from(known.streams_open) * 1_000_000 / u128::from(all.max(1)),
            None => u128::from(known.streams_open),
        },
        // What was never timed goes first: otherwise it never would be.
        Pick::Speed => known.first_token_ms.map_or(0, u128::from),
        // What has no price may cost anything, so it goes last.
        Pick::Cost => known.expected_cost.map_or(u128::MAX, |cost| cost.in_trillionths()),
    };
    (Reverse(standing == Standing::Taken), known.health == HealthState::Failing, measure, draw)
}

/// Weighted order without replacement: the smallest of `-ln(u) / weight` comes first (Efraimidis and Spirakis, 2006).
fn by_share(draw: u64, weight: u32) -> u128 {
    let mantissa = u32::try_from(draw >> 32).unwrap_or(u32::MAX);
    let uniform = (f64::from(mantissa) + 1.0) / (f64::from(u32::MAX) + 2.0);
    let key = -uniform.ln() / f64::from(weight.max(1));
    // At most 23 (the logarithm of 2^32), so that a millionth of it fits without loss that matters.
    std::time::Duration::from_secs_f64(key).as_nanos()
}

/// A number for this seed, stage and place: the finaliser of SplitMix64 (Steele, Lea, Flood, 2014).
fn draw(seed: u64, stage: usize, place: usize) -> u64 {
    let salt = u64::try_from(stage * 1_000 + place + 1).unwrap_or(u64::MAX);
    let mut z = seed.wrapping_add(salt.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::route::{StageDeadlines, StageOffer};
    use rstest::rstest;

    fn offer(text: &str) -> OfferName {
        OfferName::parse(text).unwrap()
    }

    fn stage(pick: Pick, offers: &[(&str, u32)]) -> Stage {
        let offers = offers
            .iter()
            .map(|(name, share)| StageOffer { offer: offer(name), share: std::num::NonZeroU32::new(*share) })
            .collect();
        Stage { offers, pick, moves_on: vec![], deadlines: StageDeadlines::default() }
    }

    fn view() -> OfferView {
        OfferView {
            health: HealthState::Well,
            rests_until: None,
            streams_open: 0,
            streams: Some(8),
            is_kept_for_others: false,
            first_token_ms: Some(300),
            expected_cost: None,
            unfit: None,
        }
    }

    fn order(pick: Pick, known: impl Fn(&str) -> OfferView) -> Vec<String> {
        let route = Route {
            stages: vec![stage(pick, &[("a/m", 1), ("b/m", 1)]), stage(Pick::Room, &[("c/m", 1)])],
            is_strict: false,
            origins: Vec::new(),
        };
        let plan = make(&route, |name| known(name.upstream().as_str()), 5);
        plan.taken().map(|planned| planned.offer.upstream().to_string()).collect()
    }

    #[rstest]
    #[case::more_room(Pick::Room, OfferView { streams_open: 7, ..view() })]
    #[case::faster(Pick::Speed, OfferView { first_token_ms: Some(900), ..view() })]
    #[case::cheaper(Pick::Cost, OfferView { expected_cost: None, ..view() })]
    #[case::well_before_failing(Pick::Room, OfferView { health: HealthState::Failing, ..view() })]
    fn b_goes_before_a(#[case] pick: Pick, #[case] a: OfferView) {
        let cheap = OfferView { expected_cost: Some(Money::parse("0.01").unwrap()), ..view() };
        assert_eq!(order(pick, |name| if name == "a" { a.clone() } else { cheap.clone() }), ["b", "a", "c"]);
    }

    #[test]
    fn what_rests_or_is_full_is_left_out_with_the_reason() {
        let until = DateTime::from_timestamp(1_790_000_000, 0);
        let route = Route {
            stages: vec![stage(Pick::Room, &[("a/m", 1), ("b/m", 1), ("c/m", 1), ("d/m", 1)])],
            is_strict: false,
            origins: Vec::new(),
        };
        let plan = make(
            &route,
            |name| match name.upstream().as_str() {
                "a" => OfferView { rests_until: until, ..view() },
                "b" => OfferView { streams_open: 8, ..view() },
                "d" => OfferView { unfit: Some("does not offer tools".to_owned()), ..view() },
                _ => view(),
            },
            1,
        );
        assert_eq!(plan.taken().map(|planned| planned.offer.clone()).collect::<Vec<_>>(), [offer("c/m")]);
        let reasons: Vec<_> = plan.offers.iter().map(|planned| planned.reason.as_str()).collect();
        assert!(reasons.contains(&"8 of 8 streams taken") && reasons.contains(&"does not offer tools"), "{reasons:?}");
        assert!(reasons.iter().any(|reason| reason.starts_with("asked to be left alone until")), "{reasons:?}");
    }

    #[rstest]
    #[case::none(None, 0, "0 streams open")]
    #[case::one(None, 1, "1 stream open")]
    #[case::some(None, 2, "2 streams open")]
    #[case::of_a_number(Some(8), 1, "1 of 8 streams taken")]
    fn room_is_told(#[case] streams: Option<u32>, #[case] streams_open: u32, #[case] reason: &str) {
        let known = OfferView { streams, streams_open, ..view() };
        assert_eq!(judge(&stage(Pick::Room, &[]), &known, false), (Standing::Taken, reason.to_owned()));
    }

    #[test]
    fn shares_are_kept_over_many_requests() {
        let route = Route {
            stages: vec![stage(Pick::Share, &[("a/m", 3), ("b/m", 1)])],
            is_strict: false,
            origins: Vec::new(),
        };
        let firsts = (0..4_000).filter(|seed| make(&route, |_| view(), *seed).offers[0].offer == offer("a/m")).count();
        assert!((2_850..3_150).contains(&firsts), "{firsts} of 4000 for three quarters");
    }

    proptest::proptest! {
        /// Whatever is known of them, every offer stands in the plan once for each of its mentions, stages in order, and no
        /// offer is tried twice.
        #[test]
        fn every_offer_has_its_place_and_its_reason(
            stages in proptest::collection::vec(proptest::collection::vec(0u8..5, 1..4), 1..4),
            full in proptest::collection::vec(proptest::prelude::any::<bool>(), 5),
            failing in proptest::collection::vec(proptest::prelude::any::<bool>(), 5),
            seed: u64,
        ) {
            let name = |number: u8| format!("u{number}/m");
            let picks = [Pick::Share, Pick::Room, Pick::Speed, Pick::Cost];
            let stages: Vec<Stage> = stages.iter().zip(picks.iter().cycle()).map(|(offers, pick)| {
                let names: Vec<String> = offers.iter().map(|number| name(*number)).collect();
                stage(*pick, &names.iter().map(|name| (name.as_str(), 1)).collect::<Vec<_>>())
            }).collect();
            let mentions: usize = stages.iter().map(|stage| stage.offers.len()).sum();
            let route = Route { stages, is_strict: false, origins: Vec::new() };
            let known = |offer: &OfferName| {
                let number = usize::from(offer.upstream().as_str().as_bytes()[1] - b'0');
                let health = if failing[number] { HealthState::Failing } else { HealthState::Well };
                OfferView { health, streams_open: if full[number] { 8 } else { 3 }, ..view() }
            };
            let plan = make(&route, known, seed);
            proptest::prop_assert_eq!(plan.offers.len(), mentions);
            proptest::prop_assert!(plan.offers.is_sorted_by_key(|planned| planned.stage));
            proptest::prop_assert!(plan.offers.iter().all(|planned| !planned.reason.is_empty()));
            let taken: Vec<&OfferName> = plan.taken().map(|planned| &planned.offer).collect();
            let distinct: std::collections::BTreeSet<&&OfferName> = taken.iter().collect();
            proptest::prop_assert_eq!(distinct.len(), taken.len());
            proptest::prop_assert_eq!(&make(&route, known, seed), &plan, "the same seed gives the same plan");
        }
    }
}
