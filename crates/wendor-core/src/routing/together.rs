//! Keeping the turns of a conversation at one offer, so that what it has read before is in its memory.

use super::plan::OfferView;
use super::reason::Reason;
use crate::catalog::route::{Pick, Stage};
use crate::name::OfferName;

/// By how much an offer may carry more than its part of a stage before turns of conversations go elsewhere, in per cent ("bounded loads":
/// Mirrokni, Thorup and Zadimoghaddam, 2018).
const MORE_THAN_ITS_PART: u32 = 125;

/// Which offer of a stage the turns of a conversation go to: the one with the highest number for it ("rendezvous hashing": Thaler and
/// Ravishankar, 1998), so that an offer that goes or comes moves no conversation of the others.
pub(super) struct Kept {
    opening: u64,
    /// The highest number of those that can serve it.
    highest: u64,
    /// Streams that one may carry before others go before it.
    bound: u32,
}

impl Kept {
    pub(super) fn of(stage: &Stage, known: &[OfferView], opening: u64) -> Self {
        let mut kept = Self { opening, highest: 0, bound: u32::MAX };
        if stage.pick != Pick::Together {
            return kept;
        }
        let able: Vec<_> = stage.offers.iter().zip(known).filter(|(_, known)| known.unfit.is_none()).collect();
        kept.highest = able.iter().map(|(entry, _)| kept.number(&entry.offer)).max().unwrap_or(0);
        let open: u32 = able.iter().map(|(_, known)| known.streams.open).fold(1, u32::saturating_add);
        let count = u32::try_from(able.len().max(1)).unwrap_or(u32::MAX);
        kept.bound = open.saturating_mul(MORE_THAN_ITS_PART).div_ceil(count.saturating_mul(100));
        kept
    }

    fn number(&self, offer: &OfferName) -> u64 {
        let name = offer.as_str();
        mixed(name.bytes().fold(self.opening, |mixed_so_far, byte| mixed(mixed_so_far ^ u64::from(byte))))
    }

    /// Smaller is asked earlier.
    pub(super) fn distance(&self, offer: &OfferName) -> u128 {
        u128::from(u64::MAX - self.number(offer))
    }

    pub(super) fn carries_more(&self, known: &OfferView) -> bool {
        known.streams.open >= self.bound
    }

    pub(super) fn reason(&self, offer: &OfferName, known: &OfferView) -> Reason {
        match (self.number(offer) == self.highest, self.carries_more(known)) {
            (true, false) => Reason::OfConversation,
            (true, true) => Reason::CarriesMore,
            (false, _) => Reason::OfOtherConversations,
        }
    }
}

/// The finaliser of SplitMix64.
pub(crate) fn mixed(mut z: u64) -> u64 {
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}

#[cfg(test)]
mod tests {
    use chrono::DateTime;

    use super::*;
    use crate::catalog::route::{Route, StageDeadlines, StageOffer};
    use crate::routing::health::Asking;
    use crate::routing::plan::{Lot, make};
    use crate::routing::reason::Streams;

    fn view(open: u32) -> OfferView {
        OfferView {
            loads_since: None,
            asking: Asking::Freely,
            streams: Streams { open, of: Some(8) },
            room: Ok(()),
            first_token_ms: None,
            expected_cost: None,
            unfit: None,
        }
    }

    fn three() -> Route {
        Route {
            stages: vec![Stage {
                offers: ["a/m", "b/m", "c/m"]
                    .map(|name| StageOffer { offer: OfferName::parse(name).unwrap(), share: None })
                    .into(),
                pick: Pick::Together,
                moves_on: vec![],
                deadlines: StageDeadlines::default(),
                is_hedged: false,
            }],
            ..Route::of(Vec::new())
        }
    }

    /// Which upstream is asked first for a conversation that opens so.
    fn first(opening: u64, known: impl Fn(&str) -> OfferView) -> (String, Reason) {
        let plan =
            make(&three(), |name| known(name.upstream().as_str()), Lot { seed: opening ^ 77, opening: Some(opening) });
        let first = plan.taken().next().unwrap();
        (first.offer.upstream().to_string(), first.reason.clone())
    }

    #[test]
    fn turns_of_a_conversation_go_to_one_offer_and_all_have_some() {
        let mut counts = std::collections::BTreeMap::new();
        for opening in 0..3_000 {
            let (upstream, reason) = first(mixed(opening), |_| view(0));
            assert_eq!(reason, Reason::OfConversation);
            assert_eq!(first(mixed(opening), |_| view(0)).0, upstream, "whatever else is drawn");
            *counts.entry(upstream).or_insert(0) += 1;
        }
        assert!(counts.len() == 3 && counts.values().all(|count| (850..1_150).contains(count)), "{counts:?}");
    }

    #[test]
    fn one_that_goes_moves_its_own_conversations_alone() {
        let without_a = |name: &str| {
            let asking = if name == "a" { Asking::Rests(DateTime::UNIX_EPOCH) } else { Asking::Freely };
            OfferView { asking, ..view(0) }
        };
        for opening in (0..500).map(mixed) {
            let ((before, _), (after, _)) = (first(opening, |_| view(0)), first(opening, without_a));
            assert!(before == after || before == "a", "{before} and then {after}");
            assert_ne!(after, "a");
        }
    }

    #[test]
    fn one_that_carries_more_than_its_part_lets_others_go_before_it() {
        let loaded = |name: &str| view(if name == "a" { 6 } else { 1 });
        let mut moved = 0;
        for opening in (0..500).map(mixed) {
            let ((before, _), (after, reason)) = (first(opening, |_| view(0)), first(opening, loaded));
            assert_ne!(after, "a", "six of eight are more than its part of three");
            moved += usize::from(before == "a");
            assert_eq!(reason == Reason::OfConversation, before != "a", "{before} {reason:?}");
        }
        assert!(moved > 100, "{moved}");
    }

    /// The first numbers of the published generator for the state 1234567.
    #[test]
    fn it_mixes_as_the_published_generator_does() {
        let numbers: Vec<u64> = (1..=3)
            .map(|step: u64| mixed(1_234_567_u64.wrapping_add(step.wrapping_mul(0x9e37_79b9_7f4a_7c15))))
            .collect();
        assert_eq!(numbers, [6_457_827_717_110_365_317, 3_203_168_211_198_807_973, 9_817_491_932_198_370_423]);
    }
}
