//! Rates and the rate card, and the place where a request is priced: [`price`].
//!
//! A rate is per million tokens by kind, with up to six decimals and the day from which it is in force. The card keeps
//! its history and only grows. No rate means unpriced, which is not zero.

use std::collections::BTreeMap;

use chrono::NaiveDate;
use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};

use super::money::Money;
use super::usage::TokenCounts;
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
    /// Of input from the cache.
    pub input_cached: Money,
    /// Of input written to the cache.
    pub cache_written: Money,
    /// Of output.
    pub output: Money,
}

impl Cost {
    /// The whole.
    #[must_use]
    pub fn total(self) -> Money {
        self.input + self.input_cached + self.cache_written + self.output
    }
}

/// Prices tokens: each kind's count times its rate, over a million. Exact: a rate has at most 6 decimals, so an
/// amount has at most 12.
///
/// ```
/// use wendor_core::metering::{rate::{price, Rate}, usage::TokenCounts};
/// let rate = Rate {
///     effective_on: "2026-11-01".parse().unwrap(),
///     input: "3.00".parse().unwrap(),
///     input_cached: Some("0.30".parse().unwrap()),
///     cache_written: None,
///     output: "15.00".parse().unwrap(),
/// };
/// let tokens = TokenCounts { input: 3_200, input_cached: 5_920, output: 1_024, ..TokenCounts::default() };
/// assert_eq!(price(tokens, &rate).total().to_string(), "0.026736");
/// ```
#[must_use]
pub fn price(tokens: TokenCounts, rate: &Rate) -> Cost {
    let amount =
        |count: u64, per_million: Decimal| Money::new(Decimal::from(count) * per_million / Decimal::from(1_000_000));
    Cost {
        input: amount(tokens.input, rate.input),
        input_cached: amount(tokens.input_cached, rate.input_cached.unwrap_or(rate.input)),
        cache_written: amount(tokens.cache_written, rate.cache_written.unwrap_or(rate.input)),
        output: amount(tokens.output, rate.output),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn rate(day: &str, input: &str) -> Rate {
        let input = input.parse().unwrap();
        Rate { effective_on: day.parse().unwrap(), input, input_cached: None, cache_written: None, output: input }
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
        let found = card.in_force(&offer, day.parse().unwrap()).map(|rate| rate.input.to_string());
        assert_eq!(found.as_deref(), input);
    }

    proptest! {
        /// Money that was split up and added again is the same to the last digit, and fits the store's 12 decimals.
        #[test]
        fn parts_sum_to_the_whole(counts in prop::collection::vec((0u64..10_000_000, 0u64..10_000_000), 1..20), per_million in 0i64..1_000_000_000) {
            let rate = Rate { input: Decimal::new(per_million, 6), output: Decimal::new(per_million, 6), ..rate("2026-11-01", "0") };
            let tokens = |input, output| TokenCounts { input, output, ..TokenCounts::default() };
            let apart: Money = counts.iter().map(|(input, output)| price(tokens(*input, *output), &rate).total()).sum();
            let (input, output) = counts.iter().fold((0, 0), |sum, pair| (sum.0 + pair.0, sum.1 + pair.1));
            prop_assert_eq!(apart, price(tokens(input, output), &rate).total());
            prop_assert!(apart.amount().scale() <= 12);
        }
    }
}
