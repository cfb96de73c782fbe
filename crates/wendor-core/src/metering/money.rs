//! Money: decimal, never binary floating point, rounded only where shown.
//!
//! Amounts have at most 12 decimals (a rate has up to 6 and counts per million), as the store's `numeric(28,12)`.

use rust_decimal::{Decimal, RoundingStrategy};
use serde::{Deserialize, Serialize};

/// An amount in the installation's one currency.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Money(Decimal);

impl Money {
    /// Nothing.
    pub const ZERO: Self = Self(Decimal::ZERO);

    /// An amount.
    #[must_use]
    pub fn new(amount: Decimal) -> Self {
        Self(amount.normalize())
    }

    /// Reads an amount such as `12.5`.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        text.parse().ok().map(Self::new)
    }

    /// The amount itself.
    #[must_use]
    pub fn amount(self) -> Decimal {
        self.0
    }

    /// Rounded half away from zero to `decimals`, for people.
    #[must_use]
    pub fn shown(self, decimals: u32) -> String {
        let rounded = self.0.round_dp_with_strategy(decimals, RoundingStrategy::MidpointAwayFromZero);
        format!("{rounded:.places$}", places = usize::try_from(decimals).unwrap_or(0))
    }

    /// Whole trillionths, for ordering by cost.
    #[must_use]
    pub fn in_trillionths(self) -> u128 {
        u128::try_from((self.0 * Decimal::from(1_000_000_000_000u64)).trunc()).unwrap_or(u128::MAX)
    }
}

impl std::ops::Add for Money {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        Self::new(self.0 + other.0)
    }
}

impl std::iter::Sum for Money {
    fn sum<I: Iterator<Item = Self>>(amounts: I) -> Self {
        amounts.fold(Self::ZERO, |sum, amount| sum + amount)
    }
}

impl std::fmt::Display for Money {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::half_goes_up("0.00005", 4, "0.0001")]
    #[case::less_goes_down("0.00004999", 4, "0.0000")]
    #[case::filled_up("12", 2, "12.00")]
    #[case::no_decimals("12.5", 0, "13")]
    fn amounts_are_rounded_only_where_shown(#[case] amount: &str, #[case] decimals: u32, #[case] shown: &str) {
        assert_eq!(Money::parse(amount).unwrap().shown(decimals), shown);
        assert_eq!(Money::parse(amount).unwrap().to_string(), amount.trim_end_matches('0'));
    }

    #[test]
    fn sums_are_exact_and_ordered_by_trillionths() {
        let tenths: Money = (0..10).map(|_| Money::parse("0.1").unwrap()).sum();
        assert_eq!(tenths.to_string(), "1");
        assert_eq!(Money::parse("0.000000000001").unwrap().in_trillionths(), 1);
        assert_eq!(Money::parse("ten"), None);
        assert_eq!(serde_json::to_string(&Money::parse("0.10").unwrap()).unwrap(), "\"0.1\"");
    }
}
