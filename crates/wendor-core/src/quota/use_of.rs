//! How much of each measure a request reserves, and how much it has used in the end.
//!
//! Tokens and cost enter, an amount leaves. What does not depend on the offer (requests, tokens) is reserved at
//! admission; cost is reserved when an offer's turn comes.

use rust_decimal::Decimal;
use wendor_wire::usage::TokenCounts;

use super::Measure;
use crate::metering::money::Money;

/// What a request may use at most.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WorstCase {
    /// Input tokens, estimated.
    pub input_tokens: u64,
    /// Output tokens: what the app allows, or what the offers make at most.
    pub output_tokens: u64,
    /// Images asked for.
    pub images: u32,
}

impl WorstCase {
    /// What is reserved of `measure` at admission; `None` for cost, which depends on the offer.
    #[must_use]
    pub fn of(self, measure: Measure) -> Option<Decimal> {
        match measure {
            Measure::Requests => Some(Decimal::ONE),
            Measure::InputTokens => Some(self.input_tokens.into()),
            Measure::OutputTokens => Some(self.output_tokens.into()),
            Measure::Tokens => Some(Decimal::from(self.input_tokens) + Decimal::from(self.output_tokens)),
            Measure::Cost => None,
        }
    }

    /// The larger of both, measure by measure.
    #[must_use]
    pub fn or(self, other: Self) -> Self {
        Self {
            input_tokens: self.input_tokens.max(other.input_tokens),
            output_tokens: self.output_tokens.max(other.output_tokens),
            images: self.images.max(other.images),
        }
    }

    /// The same as counts by kind, for pricing: nothing of it counts as cached.
    #[must_use]
    pub fn counts(self) -> TokenCounts {
        TokenCounts { input: self.input_tokens, output: self.output_tokens, ..TokenCounts::default() }
    }
}

/// What a settled request has used of `measure`; an unpriced one has used no money.
#[must_use]
pub fn settled(measure: Measure, tokens: TokenCounts, cost: Option<Money>) -> Decimal {
    match measure {
        Measure::Requests => Decimal::ONE,
        Measure::InputTokens => tokens.all_input().into(),
        Measure::OutputTokens => tokens.output.into(),
        Measure::Tokens => Decimal::from(tokens.all_input()) + Decimal::from(tokens.output),
        Measure::Cost => cost.map_or(Decimal::ZERO, Money::amount),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::requests(Measure::Requests, Some(1), 1)]
    #[case::input(Measure::InputTokens, Some(30), 24)]
    #[case::output(Measure::OutputTokens, Some(100), 7)]
    #[case::both(Measure::Tokens, Some(130), 31)]
    #[case::cost(Measure::Cost, None, 2)]
    fn what_is_reserved_and_what_is_settled(
        #[case] measure: Measure,
        #[case] reserved: Option<u64>,
        #[case] used: u64,
    ) {
        let worst = WorstCase { input_tokens: 30, output_tokens: 100, images: 0 };
        assert_eq!(worst.of(measure), reserved.map(Decimal::from));
        let tokens = TokenCounts { input: 10, input_cached: 12, cache_written: 2, output: 7, reasoning: 5, preset: 0 };
        assert_eq!(settled(measure, tokens, Money::parse("2")), Decimal::from(used));
    }

    #[test]
    fn something_without_a_price_uses_no_money() {
        assert_eq!(settled(Measure::Cost, TokenCounts::default(), None), Decimal::ZERO);
    }

    #[test]
    fn the_worst_case_is_priced_as_plain_input_and_output() {
        let worst = WorstCase { input_tokens: 30, output_tokens: 100, images: 2 };
        assert_eq!(worst.counts(), TokenCounts { input: 30, output: 100, ..TokenCounts::default() });
    }
}
