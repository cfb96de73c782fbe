//! Why a period cost more or less than the one before: as a sum of price, volume and mix.
//!
//! What offers were used for, day by day, enters; parts that sum to the difference to the last digit leave. A thing that is paid for is a kind
//! of token at an offer, with `q` tokens and `p` a token, before (0) and after (1); `Q` are all tokens and `C` all money:
//!
//! - price: `sum of q1 (p1 - p0)`: the same tokens at other rates. Where nothing was used before, `p0` is the rate of then, if there was one
//! - volume: `(Q1 - Q0) C0 / Q0`: more tokens of the same mix at the same rates
//! - mix: `sum of p0 (q1 - q0 Q1 / Q0)`: other offers, or more of the dearer kinds of tokens
//! - other: images, corrections, and what has no rate to be told by
//!
//! This is the usual price-volume-mix analysis of management accounting, with tokens as the volume.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use rust_decimal::Decimal;
use wendor_wire::images::Images;
use wendor_wire::usage::TokenCounts;

use super::money::Money;
use super::rate::{RateCard, price};
use crate::name::OfferName;

/// What an offer was used for on a day.
#[derive(Clone, Debug)]
pub struct DayUse {
    /// The offer.
    pub offer: OfferName,
    /// The day, UTC.
    pub day: NaiveDate,
    /// Tokens by kind.
    pub tokens: TokenCounts,
}

/// A period.
#[derive(Clone, Debug)]
pub struct Period {
    /// What was used.
    pub uses: Vec<DayUse>,
    /// What all of it cost, whatever for.
    pub cost: Money,
    /// Its last day, whose rates count for what was not used in it.
    pub last: NaiveDate,
}

/// An offer's part of the difference.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct OfferPart {
    /// The offer.
    pub offer: OfferName,
    /// By its rates.
    pub price: Money,
    /// By its share of all tokens, and by its kinds of tokens.
    pub mix: Money,
    /// Tokens of the period before.
    pub tokens_before: u64,
    /// Tokens of the period.
    pub tokens: u64,
}

/// Why one period cost another amount than the one before.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Why {
    /// What the period before cost.
    pub before: Money,
    /// What the period cost.
    pub after: Money,
    /// By rates.
    pub price: Money,
    /// By how much was used.
    pub volume: Money,
    /// By what was used.
    pub mix: Money,
    /// By anything else.
    pub other: Money,
    /// The parts of offers, the largest first.
    pub offers: Vec<OfferPart>,
}

/// Kinds of tokens that have a rate each.
const KINDS: usize = 4;

/// A period's tokens and money by offer and kind.
type ByKind = BTreeMap<OfferName, [(Decimal, Decimal); KINDS]>;

fn by_kind(period: &Period, rates: &RateCard) -> ByKind {
    let mut sums = ByKind::new();
    for DayUse { offer, day, tokens } in &period.uses {
        // Without a rate it cost nothing that could be told apart.
        let Some(cost) = rates.in_force(offer, *day).and_then(|rate| price(*tokens, Images::default(), rate)) else {
            continue;
        };
        let counts = [tokens.input, tokens.input_cached, tokens.cache_written, tokens.output];
        let costs = [cost.input, cost.input_cached, cost.cache_written, cost.output];
        let own = sums.entry(offer.clone()).or_default();
        for ((sum, count), cost) in own.iter_mut().zip(counts).zip(costs) {
            sum.0 += Decimal::from(count);
            sum.1 += cost.amount();
        }
    }
    sums
}

/// What a million tokens of each kind cost on a day.
fn rates_of(offer: &OfferName, day: NaiveDate, rates: &RateCard) -> Option<[Decimal; KINDS]> {
    let rate = rates.in_force(offer, day)?;
    let or_input = |kind: Option<Decimal>| kind.unwrap_or(rate.input);
    Some([rate.input, or_input(rate.input_cached), or_input(rate.cache_written), rate.output])
}

fn all(sums: &ByKind) -> (Decimal, Decimal) {
    sums.values().flatten().fold((Decimal::ZERO, Decimal::ZERO), |all, one| (all.0 + one.0, all.1 + one.1))
}

/// What an offer's rates and its mix did, by kind of token before and after, and what kinds cost then.
fn parts_of(
    was: &[(Decimal, Decimal); KINDS],
    is: &[(Decimal, Decimal); KINDS],
    earlier: Option<[Decimal; KINDS]>,
    growth: Option<Decimal>,
) -> (Decimal, Decimal) {
    let million = Decimal::from(1_000_000);
    let (mut price, mut mix) = (Decimal::ZERO, Decimal::ZERO);
    for (kind, ((q0, c0), (q1, c1))) in was.iter().zip(is).enumerate() {
        let of_then = earlier.and_then(|earlier| earlier.get(kind).copied()).map(|rate| rate / million);
        let at_old = match (c0.checked_div(*q0), of_then) {
            (Some(each), _) | (None, Some(each)) => q1 * each,
            (None, None) => *c1,
        };
        price += c1 - at_old;
        mix += at_old - growth.map_or(Decimal::ZERO, |growth| c0 * growth);
    }
    (price, mix)
}

/// Takes the difference between two periods apart.
#[must_use]
pub fn why(before: &Period, after: &Period, rates: &RateCard) -> Why {
    let (was, is) = (by_kind(before, rates), by_kind(after, rates));
    let ((all_before, cost_before), (all_after, cost_after)) = (all(&was), all(&is));
    let growth = all_after.checked_div(all_before);
    let nothing = [(Decimal::ZERO, Decimal::ZERO); KINDS];
    let mut offers = Vec::new();
    let mut by_price = Decimal::ZERO;
    for offer in is.keys().chain(was.keys().filter(|offer| !is.contains_key(*offer))) {
        let (was, is) = (was.get(offer).unwrap_or(&nothing), is.get(offer).unwrap_or(&nothing));
        let (price, mix) = parts_of(was, is, rates_of(offer, before.last, rates), growth);
        by_price += price;
        let count = |kinds: &[(Decimal, Decimal); KINDS]| {
            u64::try_from(kinds.iter().map(|(tokens, _)| *tokens).sum::<Decimal>()).unwrap_or(u64::MAX)
        };
        offers.push(OfferPart {
            offer: offer.clone(),
            price: Money::new(price),
            mix: Money::new(if growth.is_some() { mix } else { Decimal::ZERO }),
            tokens_before: count(was),
            tokens: count(is),
        });
    }
    let other = (after.cost.amount() - cost_after) - (before.cost.amount() - cost_before);
    let volume = match growth {
        Some(growth) => cost_before * growth - cost_before,
        None => cost_after - by_price,
    };
    // What is left is the mix, so that the parts are the whole.
    let mix = cost_after - cost_before - by_price - volume;
    offers.sort_by_key(|part| {
        let size = part.price.amount().abs() + part.mix.amount().abs();
        (std::cmp::Reverse(size), part.offer.to_string())
    });
    Why {
        before: before.cost,
        after: after.cost,
        price: Money::new(by_price),
        volume: Money::new(volume),
        mix: Money::new(mix),
        other: Money::new(other),
        offers,
    }
}

impl Why {
    /// In a sentence, with amounts of two decimals in `currency`.
    #[must_use]
    pub fn words(&self, currency: &str) -> String {
        let amount = |money: Money| Money::new(money.amount().abs()).shown(2);
        let difference = Money::new(self.after.amount() - self.before.amount());
        let is_shown = |money: Money| amount(money) != "0.00";
        let part = |money: Money, more: &str, less: &str| {
            let (sign, what) = if money.amount().is_sign_negative() { ("-", less) } else { ("+", more) };
            is_shown(money).then(|| format!("{sign}{} {what}", amount(money)))
        };
        let parts = [
            part(self.volume, "for more tokens", "for fewer tokens"),
            part(self.price, "for higher rates", "for lower rates"),
            part(self.mix, "for dearer offers and kinds of tokens", "for cheaper offers and kinds of tokens"),
            part(
                self.other,
                "for images, corrections and what has no rate",
                "for images, corrections and what has no rate",
            ),
        ];
        let parts: Vec<String> = parts.into_iter().flatten().collect();
        if !is_shown(difference) && parts.is_empty() {
            return format!("It cost as much as the previous period, {} {currency}.", self.after.shown(2));
        }
        let how = if difference.amount().is_sign_negative() { "less" } else { "more" };
        format!("It cost {} {currency} {how} than the previous period: {}.", amount(difference), parts.join(", "))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::rate::Rate;
    use proptest::prelude::*;
    use rstest::rstest;

    fn offer(name: &str) -> OfferName {
        OfferName::parse(name).unwrap()
    }

    fn day(day: u32) -> NaiveDate {
        NaiveDate::from_ymd_opt(2026, 11, day).unwrap()
    }

    /// Two a million in and four out at quay until the tenth, then three and six; ten and twenty at quarry.
    fn rates() -> RateCard {
        let mut rates = RateCard::default();
        for (name, from, input, output) in [("quay/a", 1, 2, 4), ("quay/a", 11, 3, 6), ("quarry/b", 1, 10, 20)] {
            let rate = Rate {
                effective_on: day(from),
                input: Decimal::from(input),
                input_cached: None,
                cache_written: None,
                output: Decimal::from(output),
                image: None,
                image_sizes: BTreeMap::new(),
            };
            rates.add(offer(name), rate);
        }
        rates
    }

    fn period(uses: &[(&str, u32, u64, u64)], last: u32) -> Period {
        let rates = rates();
        let uses: Vec<DayUse> = uses
            .iter()
            .map(|(name, on, input, output)| DayUse {
                offer: offer(name),
                day: day(*on),
                tokens: TokenCounts { input: input * 1_000_000, output: output * 1_000_000, ..TokenCounts::default() },
            })
            .collect();
        let cost = uses.iter().filter_map(|used| {
            let rate = rates.in_force(&used.offer, used.day)?;
            price(used.tokens, Images::default(), rate).map(super::super::rate::Cost::total)
        });
        Period { cost: cost.sum(), uses, last: day(last) }
    }

    #[rstest]
    #[case::twice_as_much(&[("quay/a", 1, 2, 1)], &[("quay/a", 2, 4, 2)], ["0", "8", "0"], "It cost 8.00 EUR more than the previous period: +8.00 for more tokens.")]
    #[case::a_dearer_rate(&[("quay/a", 1, 2, 1)], &[("quay/a", 11, 2, 1)], ["4", "0", "0"], "It cost 4.00 EUR more than the previous period: +4.00 for higher rates.")]
    #[case::a_dearer_offer(&[("quay/a", 1, 2, 1)], &[("quarry/b", 2, 2, 1)], ["0", "0", "32"], "It cost 32.00 EUR more than the previous period: +32.00 for dearer offers and kinds of tokens.")]
    #[case::longer_answers(&[("quay/a", 1, 2, 1)], &[("quay/a", 2, 1, 2)], ["0", "0", "2"], "It cost 2.00 EUR more than the previous period: +2.00 for dearer offers and kinds of tokens.")]
    #[case::all_at_once(&[("quay/a", 1, 2, 1)], &[("quay/a", 11, 1, 1), ("quarry/b", 12, 2, 2)], ["3", "8", "50"], "It cost 61.00 EUR more than the previous period: +8.00 for more tokens, +3.00 for higher rates, +50.00 for dearer offers and kinds of tokens.")]
    #[case::nothing_before(&[], &[("quay/a", 2, 2, 1)], ["0", "8", "0"], "It cost 8.00 EUR more than the previous period: +8.00 for more tokens.")]
    #[case::nothing_now(&[("quay/a", 1, 2, 1)], &[], ["0", "-8", "0"], "It cost 8.00 EUR less than the previous period: -8.00 for fewer tokens.")]
    #[case::nothing_at_all(&[], &[], ["0", "0", "0"], "It cost as much as the previous period, 0.00 EUR.")]
    fn a_difference_is_taken_apart(
        #[case] before: &[(&str, u32, u64, u64)],
        #[case] after: &[(&str, u32, u64, u64)],
        #[case] parts: [&str; 3],
        #[case] words: &str,
    ) {
        let why = why(&period(before, 10), &period(after, 20), &rates());
        let told = [why.price, why.volume, why.mix].map(|money| money.to_string());
        assert_eq!(told.each_ref().map(String::as_str), parts);
        assert_eq!((why.words("EUR").as_str(), why.other), (words, Money::ZERO));
    }

    #[test]
    fn what_has_no_rate_is_told_as_other() {
        let (before, mut after) = (period(&[("quay/a", 1, 2, 1)], 10), period(&[("quay/a", 2, 2, 1)], 20));
        after.cost = after.cost + Money::parse("1.5").unwrap();
        let why = why(&before, &after, &rates());
        assert_eq!((why.other.to_string().as_str(), why.volume), ("1.5", Money::ZERO));
        assert!(
            why.words("EUR").ends_with("+1.50 for images, corrections and what has no rate."),
            "{}",
            why.words("EUR")
        );
    }

    proptest! {
        /// The parts are the whole, and those of the offers are theirs.
        #[test]
        fn the_parts_sum_to_the_difference(
            before in prop::collection::vec((0usize..2, 1u32..11, 0u64..50, 0u64..50), 0..6),
            after in prop::collection::vec((0usize..2, 8u32..21, 0u64..50, 0u64..50), 0..6),
        ) {
            let named = |uses: Vec<(usize, u32, u64, u64)>| -> Vec<(&'static str, u32, u64, u64)> {
                uses.into_iter().map(|(at, day, input, output)| (["quay/a", "quarry/b"][at], day, input, output)).collect()
            };
            let (before, after) = (period(&named(before), 10), period(&named(after), 20));
            let why = why(&before, &after, &rates());
            let sum = why.price.amount() + why.volume.amount() + why.mix.amount() + why.other.amount();
            let tiny = Decimal::new(1, 9);
            prop_assert!((sum - (after.cost.amount() - before.cost.amount())).abs() < tiny);
            let of = |part: fn(&OfferPart) -> Money| why.offers.iter().map(|offer| part(offer).amount()).sum::<Decimal>();
            prop_assert!((of(|offer| offer.price) - why.price.amount()).abs() < tiny);
            if !before.uses.iter().all(|used| used.tokens == TokenCounts::default()) {
                prop_assert!((of(|offer| offer.mix) - why.mix.amount()).abs() < tiny, "{:?}", why);
            }
        }
    }
}
