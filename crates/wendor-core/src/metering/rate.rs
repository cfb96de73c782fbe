//! Rates and the rate card, and the place where a request is priced: [`price`].
//!
//! A rate is per million tokens by kind, with up to six decimals and the day from which it is in force. The card keeps
//! its history and only grows. No rate means unpriced, which is not zero.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use wendor_wire::images::{ImageSize, Images};
use wendor_wire::usage::TokenCounts;

use super::money::Money;
use crate::name::OfferName;

/// What an offer costs from a day on.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Rate {
    /// First day in force, UTC.
    pub effective_on: NaiveDate,
    /// Per million input tokens.
    pub input: Decimal,
    /// Per million input tokens read from the cache; as `input` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub input_cached: Option<Decimal>,
    /// Per million input tokens written to the cache; as `input` when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cache_written: Option<Decimal>,
    /// Per million output tokens.
    pub output: Decimal,
    /// Per image; images of an offer without it are unpriced.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub image: Option<Decimal>,
    /// Per image of a size, where that differs.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub image_sizes: BTreeMap<ImageSize, Decimal>,
}

impl Rate {
    /// What an image of `size` costs.
    #[must_use]
    pub fn per_image(&self, size: Option<ImageSize>) -> Option<Decimal> {
        size.and_then(|size| self.image_sizes.get(&size)).copied().or(self.image)
    }

    /// The dearest that a million input tokens can be: in the worst case all of them are written to the cache.
    #[must_use]
    pub fn dearest_input(&self) -> Decimal {
        let kinds = [Some(self.input), self.input_cached, self.cache_written];
        kinds.into_iter().flatten().max().unwrap_or(self.input)
    }

    /// The dearest that an image can be, whatever its size turns out to be.
    #[must_use]
    pub fn dearest_image(&self) -> Option<Decimal> {
        self.image_sizes.values().copied().chain(self.image).max()
    }
}

/// All rates with their history.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct RateCard(BTreeMap<OfferName, BTreeMap<NaiveDate, Rate>>);

impl RateCard {
    /// Adds a rate; the last one added for a day counts.
    pub fn add(&mut self, offer: OfferName, rate: Rate) {
        self.0.entry(offer).or_default().insert(rate.effective_on, rate);
    }

    /// The rate of `offer` in force on `day`.
    #[must_use]
    pub fn in_force(&self, offer: &OfferName, day: NaiveDate) -> Option<&Rate> {
        self.0.get(offer)?.range(..=day).next_back().map(|(_, rate)| rate)
    }

    /// The rate that begins on exactly that day.
    #[must_use]
    pub fn of_day(&self, offer: &OfferName, day: NaiveDate) -> Option<&Rate> {
        self.0.get(offer)?.get(&day)
    }

    /// All rates, by offer and day.
    pub fn iter(&self) -> impl Iterator<Item = (&OfferName, &Rate)> {
        self.0.iter().flat_map(|(offer, rates)| rates.values().map(move |rate| (offer, rate)))
    }
}

/// What a request cost, by kind; the parts sum to the whole.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cost {
    /// Of input read anew.
    pub input: Money,
    /// Input that the upstream had in its cache.
    pub input_cached: Money,
    /// Of input written to the cache.
    pub cache_written: Money,
    /// Output, thinking included.
    pub output: Money,
    /// All images that were made.
    #[serde(default, skip_serializing_if = "Money::is_zero")]
    pub images: Money,
}

impl Cost {
    /// The whole.
    #[must_use]
    pub fn total(self) -> Money {
        self.input + self.input_cached + self.cache_written + self.output + self.images
    }
}

/// Prices what was used: each kind's count times its rate, over a million for tokens. Exact: a rate has at most 6 decimals, so
/// an amount has at most 12. Unpriced where there are images and no rate for them.
///
/// ```
/// use wendor_core::metering::rate::{Rate, price};
/// use wendor_wire::{images::Images, usage::TokenCounts};
/// let rate = Rate {
///     effective_on: "2026-11-01".parse().unwrap(),
///     input: "3.00".parse().unwrap(),
///     input_cached: Some("0.30".parse().unwrap()),
///     cache_written: None,
///     output: "15.00".parse().unwrap(),
///     image: Some("0.04".parse().unwrap()),
///     image_sizes: Default::default(),
/// };
/// let tokens = TokenCounts { input: 3_200, input_cached: 5_920, output: 1_024, ..TokenCounts::default() };
/// assert_eq!(price(tokens, Images::default(), &rate).unwrap().total().to_string(), "0.026736");
/// assert_eq!(price(TokenCounts::default(), Images::of(2, None), &rate).unwrap().total().to_string(), "0.08");
/// ```
#[must_use]
pub fn price(tokens: TokenCounts, images: Images, rate: &Rate) -> Option<Cost> {
    let million = Decimal::from(1_000_000);
    let amount = |count: u64, per_million: Decimal| Money::product(count.into(), per_million).over(million);
    Some(Cost {
        input: amount(tokens.input, rate.input),
        input_cached: amount(tokens.input_cached, rate.input_cached.unwrap_or(rate.input)),
        cache_written: amount(tokens.cache_written, rate.cache_written.unwrap_or(rate.input)),
        output: amount(tokens.output, rate.output),
        images: match images.count {
            0 => Money::ZERO,
            count => Money::product(count.into(), rate.per_image(images.size)?),
        },
    })
}

/// The most that a request can cost at `rate`: all of its input at the dearest kind, all of its output, and so many images.
#[must_use]
pub fn worst_price(tokens: TokenCounts, images: u32, rate: &Rate) -> Money {
    let input = Money::product(tokens.all_input().into(), rate.dearest_input()).over(Decimal::from(1_000_000));
    let output = Money::product(tokens.output.into(), rate.output).over(Decimal::from(1_000_000));
    let images = rate.dearest_image().map_or(Money::ZERO, |per_image| Money::product(images.into(), per_image));
    input + output + images
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn rate(day: &str, input: &str) -> Rate {
        let input = input.parse().unwrap();
        Rate {
            effective_on: day.parse().unwrap(),
            input,
            input_cached: None,
            cache_written: None,
            output: input,
            image: None,
            image_sizes: BTreeMap::new(),
        }
    }

    #[rstest]
    #[case::before_the_first("2026-10-31", None)]
    #[case::on_its_day("2026-11-01", Some("1"))]
    #[case::until_the_next("2026-11-14", Some("1"))]
    #[case::the_next("2026-11-15", Some("2"))]
    fn the_rate_in_force(#[case] day: &str, #[case] input: Option<&str>) {
        let offer = OfferName::parse("quarry/fulmar-large").unwrap();
        let mut card = RateCard::default();
        card.add(offer.clone(), rate("2026-11-15", "2"));
        card.add(offer.clone(), rate("2026-11-01", "1"));
        let in_force = card.in_force(&offer, day.parse().unwrap()).map(|rate| rate.input.to_string());
        assert_eq!(in_force.as_deref(), input);
    }

    #[rstest]
    #[case::of_no_size(None, Some("0.04"), Some("0.08"))]
    #[case::of_a_dear_size(Some("1024x1024"), Some("0.04"), Some("0.5"))]
    #[case::of_another_size(Some("64x64"), Some("0.04"), Some("0.08"))]
    #[case::without_a_rate(None, None, None)]
    #[case::a_size_alone(Some("1024x1024"), None, Some("0.5"))]
    fn images_are_priced_by_the_piece(
        #[case] size: Option<&str>,
        #[case] image: Option<&str>,
        #[case] cost: Option<&str>,
    ) {
        let large = ImageSize::parse("1024x1024").unwrap();
        let image_sizes = [(large, "0.25".parse().unwrap())].into();
        let rate = Rate { image: image.map(|rate| rate.parse().unwrap()), image_sizes, ..rate("2026-11-01", "1") };
        let images = Images::of(2, size.map(|size| ImageSize::parse(size).unwrap()));
        let priced = price(TokenCounts::default(), images, &rate).map(|cost| cost.total().to_string());
        assert_eq!(priced.as_deref(), cost);
    }

    proptest! {
        /// Whatever counts and rates there are, the worst price covers the price, and nothing overflows.
        #[test]
        fn the_worst_price_covers_every_price(
            (input, cached, written, output) in (any::<u64>(), any::<u64>(), any::<u64>(), any::<u64>()),
            rates in prop::collection::vec(0i64..i64::MAX, 4), images in any::<u32>()) {
            let [input_rate, cached_rate, written_rate, output_rate] = rates[..] else { return Ok(()) };
            let decimal = |value: i64| Decimal::new(value, 6);
            let rate = Rate {
                input: decimal(input_rate), input_cached: Some(decimal(cached_rate)), cache_written: Some(decimal(written_rate)),
                output: decimal(output_rate), image: Some(decimal(input_rate)), ..rate("2026-11-01", "0") };
            let tokens = TokenCounts { input: input / 3, input_cached: cached / 3, cache_written: written / 3, output, ..TokenCounts::default() };
            let cost = price(tokens, Images::of(usize::try_from(images).unwrap(), None), &rate).unwrap();
            prop_assert!(worst_price(tokens, images, &rate) >= cost.total() || worst_price(tokens, images, &rate) == Money::MOST);
        }

        /// Money that was split up and added again is the same to the last digit, and fits the store's 12 decimals.
        #[test]
        fn parts_sum_to_the_whole(counts in prop::collection::vec((0u64..10_000_000, 0u64..10_000_000), 1..20), per_million in 0i64..1_000_000_000) {
            let rate = Rate { input: Decimal::new(per_million, 6), output: Decimal::new(per_million, 6), ..rate("2026-11-01", "0") };
            let tokens = |input, output| TokenCounts { input, output, ..TokenCounts::default() };
            let total_of = |tokens| price(tokens, Images::default(), &rate).unwrap().total();
            let apart: Money = counts.iter().map(|(input, output)| total_of(tokens(*input, *output))).sum();
            let (input, output) = counts.iter().fold((0, 0), |sum, pair| (sum.0 + pair.0, sum.1 + pair.1));
            prop_assert_eq!(apart, total_of(tokens(input, output)));
            prop_assert!(apart.amount().scale() <= 12);
        }
    }

    #[test]
    fn the_dearest_input_is_that_of_the_dearest_kind() {
        let dearest = |cached: &str, written: &str| {
            let parse = |text: &str| (!text.is_empty()).then(|| text.parse().unwrap());
            Rate { input_cached: parse(cached), cache_written: parse(written), ..rate("2026-11-01", "3.1") }
                .dearest_input()
                .to_string()
        };
        assert_eq!([dearest("", ""), dearest("0.31", "3.9"), dearest("4", "")], ["3.1", "3.9", "4"]);
    }
}
