//! The order in which offers are tried for one request, with a reason for every offer taken or left.
//!
//! A route, what is known of each offer and a seed enter; a [`Plan`] leaves. It is data: it can be shown without being
//! run, and it is kept with the request. Picking by share uses the seed, so that the same seed gives the same order.

use std::cmp::Reverse;
use std::collections::BTreeSet;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use smallvec::SmallVec;

use super::health::Asking;
use super::queue::NoRoom;
use super::reason::{Reason, Streams};
use super::together::{Kept, mixed};
use crate::catalog::route::{Pick, Route, Stage, StageOffer};
use crate::metering::money::Money;
use crate::name::OfferName;

/// What is known of an offer when a plan is made.
#[derive(Clone, Debug)]
pub struct OfferView {
    /// Whether it may be asked.
    pub asking: Asking,
    /// Streams of its upstream, at the moment of `room`.
    pub streams: Streams,
    /// Since when its server loads the model.
    pub loads_since: Option<DateTime<Utc>>,
    /// Whether there is room for this request there.
    pub room: Result<(), NoRoom>,
    /// The usual wait for a first token of late.
    pub first_token_ms: Option<u64>,
    /// What this request would cost there at most; `None` when unpriced.
    pub expected_cost: Option<Money>,
    /// Why it cannot serve this request, whatever its state.
    pub unfit: Option<Reason>,
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
    /// Where an attempt would go.
    pub offer: OfferName,
    /// Taken or left out.
    pub standing: Standing,
    /// Why.
    pub reason: Reason,
    /// What the request would cost there at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub expected_cost: Option<Money>,
}

/// The offers of a route in the order in which they are tried; those left out stand last in their stage.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Plan {
    /// In the order of the attempts, skipped ones with their reason.
    pub offers: Vec<PlannedOffer>,
}

impl Plan {
    /// The offers to try, in order.
    pub fn taken(&self) -> impl Iterator<Item = &PlannedOffer> {
        self.offers.iter().filter(|planned| planned.standing == Standing::Taken)
    }
}

/// What decides among offers by chance or by what is asked.
#[derive(Clone, Copy, Debug)]
pub struct Lot {
    /// Decides among equals and by share; the same gives the same order.
    pub seed: u64,
    /// What the conversation opens with ([`wendor_wire::opening`]), where turns of one are kept together.
    pub opening: Option<u64>,
}

/// Plans the offers of `route`. `view` tells what is known of each.
pub fn make(route: &Route, view: impl Fn(&OfferName) -> OfferView, lot: Lot) -> Plan {
    let count = route.offers().count();
    let mut seen = BTreeSet::new();
    let mut offers = Vec::with_capacity(count);
    for (index, stage) in route.stages.iter().enumerate() {
        let known: SmallVec<[OfferView; 4]> = stage.offers.iter().map(|entry| view(&entry.offer)).collect();
        let kept = Kept::of(stage, &known, lot.opening.unwrap_or(lot.seed));
        let mut ranked: SmallVec<[(Rank, PlannedOffer); 4]> = SmallVec::with_capacity(known.len());
        for (place, (entry, known)) in stage.offers.iter().zip(&known).enumerate() {
            let draw = draw(lot.seed, index, place);
            let weight = entry.share.unwrap_or(1);
            let is_repeat = count > 1 && !seen.insert(&entry.offer);
            let (standing, reason) = judge(stage, entry, known, is_repeat);
            let reason = if reason == Reason::OfConversation { kept.reason(&entry.offer, known) } else { reason };
            let carries_more = stage.pick == Pick::Together && kept.carries_more(known);
            let distance = if stage.pick == Pick::Together { kept.distance(&entry.offer) } else { 0 };
            let chances = Chances { distance, draw, weight };
            let rank = rank(stage.pick, known, standing, carries_more, &chances);
            let planned = PlannedOffer {
                stage: index + 1,
                pick: stage.pick,
                offer: entry.offer.clone(),
                standing,
                reason,
                expected_cost: known.expected_cost,
            };
            ranked.push((rank, planned));
        }
        ranked.sort_by_key(|(rank, _)| *rank);
        offers.extend(ranked.into_iter().map(|(_, planned)| planned));
    }
    Plan { offers }
}

fn judge(stage: &Stage, entry: &StageOffer, known: &OfferView, is_repeat: bool) -> (Standing, Reason) {
    let left_out = |reason| (Standing::LeftOut, reason);
    if is_repeat {
        return left_out(Reason::StandsEarlier);
    }
    if let Some(why) = &known.unfit {
        return left_out(why.clone());
    }
    if stage.pick == Pick::Share && entry.share == Some(0) {
        return left_out(Reason::ShareOfNothing);
    }
    match known.asking {
        Asking::Freely | Asking::OnTrial => {}
        Asking::IsTried(_) => return left_out(Reason::IsTried),
        Asking::Rests(until) => return left_out(Reason::Rests { until }),
        Asking::LeftAlone(until) => return left_out(Reason::LeftAlone { until }),
    }
    if let Some(since) = known.loads_since {
        let is_held = stage.deadlines.loading_ms.is_some_and(|millis| millis > 0);
        let standing = if is_held { Standing::Taken } else { Standing::LeftOut };
        return (standing, Reason::Loads { since });
    }
    if let Err(why) = known.room {
        let waits = stage.deadlines.waits_for_room();
        let standing = if waits { Standing::Taken } else { Standing::LeftOut };
        return (standing, Reason::no_room(why, known.streams, waits));
    }
    let reason = match (known.asking, stage.pick) {
        (Asking::OnTrial, _) => Reason::OnTrial,
        (_, Pick::Share) => Reason::Share,
        (_, Pick::Room) => Reason::Room(known.streams),
        (_, Pick::Speed) => Reason::Speed { first_token_ms: known.first_token_ms },
        (_, Pick::Cost) => Reason::Cost { at_most: known.expected_cost },
        (_, Pick::Together) => Reason::OfConversation,
    };
    (Standing::Taken, reason)
}

/// Smaller is tried earlier: taken before left out, what is on trial before the others (nothing else would bring it back), with room
/// before without, those that carry no more than their part before those that do, then by the stage's measure, then by chance.
type Rank = (Reverse<bool>, bool, bool, bool, u128, u64);

/// What tells offers of a stage apart that are equally good.
struct Chances {
    /// How far it is from the conversation's own.
    distance: u128,
    /// A number drawn for it.
    draw: u64,
    /// Its share.
    weight: u32,
}

fn rank(pick: Pick, known: &OfferView, standing: Standing, carries_more: bool, chances: &Chances) -> Rank {
    let Chances { distance, draw, weight } = *chances;
    let measure = match pick {
        Pick::Share => by_share(draw, weight),
        // Share of the capacity in use, in parts of a million; without a known capacity, the count itself.
        Pick::Room => match known.streams.of {
            Some(all) => u128::from(known.streams.open) * 1_000_000 / u128::from(all.max(1)),
            None => u128::from(known.streams.open),
        },
        // What was never timed goes first: otherwise it never would be.
        Pick::Speed => known.first_token_ms.map_or(0, u128::from),
        // What has no price may cost anything, so it goes last.
        Pick::Cost => known.expected_cost.map_or(u128::MAX, |cost| cost.in_trillionths()),
        Pick::Together => distance,
    };
    let is_on_trial = known.asking == Asking::OnTrial;
    (Reverse(standing == Standing::Taken), !is_on_trial, known.room.is_err(), carries_more, measure, draw)
}

/// Weighted order without replacement: the smallest of `-ln(u) / weight` comes first (weighted random sampling with a reservoir, algorithm A-ES).
fn by_share(draw: u64, weight: u32) -> u128 {
    let mantissa = u32::try_from(draw >> 32).unwrap_or(u32::MAX);
    let uniform = (f64::from(mantissa) + 1.0) / (f64::from(u32::MAX) + 2.0);
    let key = -uniform.ln() / f64::from(weight.max(1));
    // At most 23 (the logarithm of 2^32), so that a millionth of it fits without loss that matters.
    std::time::Duration::from_secs_f64(key).as_nanos()
}

/// A number for this seed, stage and place: the finaliser of SplitMix64.
fn draw(seed: u64, stage: usize, place: usize) -> u64 {
    let salt = u64::try_from(stage * 1_000 + place + 1).unwrap_or(u64::MAX);
    mixed(seed.wrapping_add(salt.wrapping_mul(0x9e37_79b9_7f4a_7c15)))
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
        let offers =
            offers.iter().map(|(name, share)| StageOffer { offer: offer(name), share: Some(*share) }).collect();
        Stage { offers, pick, moves_on: vec![], deadlines: StageDeadlines::default(), is_hedged: false }
    }

    fn view() -> OfferView {
        OfferView {
            asking: Asking::Freely,
            streams: Streams { open: 0, of: Some(8) },
            loads_since: None,
            room: Ok(()),
            first_token_ms: Some(300),
            expected_cost: None,
            unfit: None,
        }
    }

    fn lot(seed: u64) -> Lot {
        Lot { seed, opening: None }
    }

    fn streams(open: u32) -> Streams {
        Streams { open, of: Some(8) }
    }

    fn full() -> OfferView {
        OfferView { streams: streams(8), room: Err(NoRoom::Full), ..view() }
    }

    fn noon() -> DateTime<Utc> {
        DateTime::from_timestamp(1_790_000_000, 0).unwrap()
    }

    fn order(pick: Pick, known: impl Fn(&str) -> OfferView) -> Vec<String> {
        let route = Route {
            stages: vec![stage(pick, &[("a/m", 1), ("b/m", 1)]), stage(Pick::Room, &[("c/m", 1)])],
            ..Route::of(Vec::new())
        };
        let plan = make(&route, |name| known(name.upstream().as_str()), lot(5));
        plan.taken().map(|planned| planned.offer.upstream().to_string()).collect()
    }

    #[rstest]
    #[case::more_room(Pick::Room, OfferView { streams: streams(7), ..view() })]
    #[case::faster(Pick::Speed, OfferView { first_token_ms: Some(900), ..view() })]
    #[case::cheaper(Pick::Cost, OfferView { expected_cost: None, ..view() })]
    #[case::with_room_before_without(Pick::Speed, OfferView { first_token_ms: Some(1), ..full() })]
    fn b_goes_before_a(#[case] pick: Pick, #[case] a: OfferView) {
        let cheap = OfferView { expected_cost: Some(Money::parse("0.01").unwrap()), ..view() };
        assert_eq!(order(pick, |name| if name == "a" { a.clone() } else { cheap.clone() }), ["b", "a", "c"]);
    }

    #[test]
    fn what_is_on_trial_comes_first_whatever_its_measure() {
        let slow = OfferView { asking: Asking::OnTrial, first_token_ms: Some(9_000), ..view() };
        assert_eq!(order(Pick::Speed, |name| if name == "b" { slow.clone() } else { view() }), ["b", "a", "c"]);
    }

    #[rstest]
    #[case::rests(OfferView { asking: Asking::Rests(noon()), ..view() }, Reason::Rests { until: noon() })]
    #[case::is_tried(OfferView { asking: Asking::IsTried(noon()), ..view() }, Reason::IsTried)]
    #[case::left_alone(OfferView { asking: Asking::LeftAlone(noon()), ..view() }, Reason::LeftAlone { until: noon() })]
    #[case::full(full(), Reason::Full(streams(8)))]
    #[case::for_others(OfferView { streams: streams(7), room: Err(NoRoom::ForOthers), ..view() }, Reason::KeptForOthers(streams(7)))]
    #[case::tokens(
        OfferView { streams: streams(1), room: Err(NoRoom::Tokens { under_way: 90, of: 100, asked: 20 }), ..view() },
        Reason::told("90 of 100 tokens under way, and it asks for 20")
    )]
    #[case::of_the_batch_lane(
        OfferView { streams: streams(7), room: Err(NoRoom::ForInteractive), ..view() },
        Reason::told("7 of 8 streams taken, and the others are kept for the interactive lane")
    )]
    #[case::waited_for(
        OfferView { streams: streams(7), room: Err(NoRoom::ForWaiting), ..view() },
        Reason::told("7 of 8 streams taken, and others wait already")
    )]
    #[case::unfit(OfferView { unfit: Some(Reason::IsDrained), ..full() }, Reason::IsDrained)]
    fn what_cannot_be_asked_is_left_out_with_the_reason(#[case] known: OfferView, #[case] reason: Reason) {
        let mut stage = stage(Pick::Room, &[("a/m", 1), ("b/m", 1)]);
        stage.deadlines.room_ms = Some(0);
        let route = Route::of(vec![stage]);
        let plan = make(&route, |name| if name.upstream().as_str() == "a" { known.clone() } else { view() }, lot(1));
        assert_eq!(plan.taken().map(|planned| planned.offer.clone()).collect::<Vec<_>>(), [offer("b/m")]);
        assert_eq!(plan.offers[1].reason, reason);
    }

    #[test]
    fn where_its_stage_waits_a_full_one_is_taken_behind_the_others() {
        let route = Route::of(vec![stage(Pick::Room, &[("a/m", 1), ("b/m", 1)])]);
        let plan = make(&route, |name| if name.upstream().as_str() == "a" { full() } else { view() }, lot(1));
        let reasons: Vec<&Reason> = plan.taken().map(|planned| &planned.reason).collect();
        assert_eq!(reasons, [&Reason::Room(streams(0)), &Reason::WaitsForRoom(streams(8))]);
    }

    #[test]
    fn a_share_of_nothing_is_nothing() {
        let route = Route { stages: vec![stage(Pick::Share, &[("a/m", 0), ("b/m", 1)])], ..Route::of(Vec::new()) };
        let plan = make(&route, |_| view(), lot(1));
        assert_eq!(plan.taken().count(), 1);
        assert_eq!(plan.offers[1].reason, Reason::ShareOfNothing);
    }

    #[test]
    fn shares_are_kept_over_many_requests() {
        let route = Route { stages: vec![stage(Pick::Share, &[("a/m", 3), ("b/m", 1)])], ..Route::of(Vec::new()) };
        let firsts =
            (0..4_000).filter(|seed| make(&route, |_| view(), lot(*seed)).offers[0].offer == offer("a/m")).count();
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
            let route = Route::of(stages);
            let known = |offer: &OfferName| {
                let number = usize::from(offer.upstream().as_str().as_bytes()[1] - b'0');
                let asking = if failing[number] { Asking::Rests(noon()) } else { Asking::Freely };
                OfferView { asking, ..if full[number] { self::full() } else { view() } }
            };
            let plan = make(&route, known, lot(seed));
            proptest::prop_assert_eq!(plan.offers.len(), mentions);
            proptest::prop_assert!(plan.offers.is_sorted_by_key(|planned| planned.stage));
            proptest::prop_assert!(plan.offers.iter().all(|planned| !planned.reason.words().is_empty()));
            let taken: Vec<&OfferName> = plan.taken().map(|planned| &planned.offer).collect();
            let distinct: std::collections::BTreeSet<&&OfferName> = taken.iter().collect();
            proptest::prop_assert_eq!(distinct.len(), taken.len());
            proptest::prop_assert_eq!(&make(&route, known, lot(seed)), &plan, "the same seed gives the same plan");
        }
    }

    fn route(stages: Vec<Stage>) -> Route {
        Route::of(stages)
    }

    #[test]
    fn stages_are_counted_from_one() {
        let stages = vec![stage(Pick::Room, &[("a/m", 1), ("b/m", 1)]), stage(Pick::Room, &[("c/m", 1)])];
        let plan = make(&route(stages), |_| view(), lot(1));
        assert_eq!(plan.offers.iter().map(|planned| planned.stage).collect::<Vec<_>>(), [1, 1, 2]);
    }

    #[test]
    fn a_share_of_nothing_leaves_the_others() {
        let plan = make(&route(vec![stage(Pick::Share, &[("a/m", 0), ("b/m", 1)])]), |_| view(), lot(1));
        assert_eq!(plan.taken().map(|planned| planned.offer.clone()).collect::<Vec<_>>(), [offer("b/m")]);
    }

    #[test]
    fn room_is_compared_by_the_part_that_is_taken() {
        let known = |name: &str| {
            let streams =
                if name == "a" { Streams { open: 3, of: Some(8) } } else { Streams { open: 4, of: Some(16) } };
            OfferView { streams, ..view() }
        };
        assert_eq!(order(Pick::Room, known), ["b", "a", "c"]);
    }

    #[rstest]
    #[case::held(Some(1), Standing::Taken)]
    #[case::not_at_all(Some(0), Standing::LeftOut)]
    #[case::not_set(None, Standing::LeftOut)]
    fn one_that_loads_is_waited_for_where_its_stage_says_so(
        #[case] loading_ms: Option<u64>,
        #[case] expected: Standing,
    ) {
        let mut stage = stage(Pick::Room, &[("a/m", 1)]);
        stage.deadlines.loading_ms = loading_ms;
        let plan = make(&route(vec![stage]), |_| OfferView { loads_since: Some(noon()), ..view() }, lot(1));
        let PlannedOffer { standing, reason, .. } = &plan.offers[0];
        assert_eq!((*standing, reason), (expected, &Reason::Loads { since: noon() }));
    }

    /// `-ln(u) / weight` in billionths, at the ends of what can be drawn and in its middle.
    #[rstest]
    #[case::the_least(0, 1, 22_180_709_777..=22_180_709_779)]
    #[case::the_most(u64::MAX, 1, 0..=0)]
    #[case::the_middle(u64::MAX / 2, 1, 693_147_180..=693_147_182)]
    #[case::of_twice_the_weight(u64::MAX / 2, 2, 346_573_589..=346_573_592)]
    fn a_share_is_drawn_by_the_formula(
        #[case] draw: u64,
        #[case] weight: u32,
        #[case] key: std::ops::RangeInclusive<u128>,
    ) {
        assert!(key.contains(&by_share(draw, weight)), "{}", by_share(draw, weight));
    }

    #[test]
    fn every_stage_and_place_draws_a_number_of_its_own() {
        let drawn: BTreeSet<u64> = (0..4).flat_map(|stage| (0..4).map(move |place| draw(0, stage, place))).collect();
        assert!(drawn.len() == 16 && !drawn.contains(&mixed(0)), "{drawn:?}");
    }
}
