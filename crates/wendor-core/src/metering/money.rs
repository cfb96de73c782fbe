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

    /// The most that is counted: what twelve decimals leave room for in the store. Arithmetic that would pass it stays there, since a
    /// figure that cannot be right must not end the request that it was made for.
    pub const MOST: Self = Self(Decimal::from_parts(0x6fc0_ffff, 0x002386f2, 0, false, 0));

    /// An amount.
    #[must_use]
    pub fn new(amount: Decimal) -> Self {
        Self(amount.normalize())
    }

    /// So many times `each`.
    #[must_use]
    pub fn product(count: Decimal, each: Decimal) -> Self {
        count.checked_mul(each).map_or(Self::MOST, Self::bounded)
    }

    /// One part of `parts`.
    #[must_use]
    pub fn over(self, parts: Decimal) -> Self {
        self.0.checked_div(parts).map_or(Self::MOST, Self::new)
    }

    fn bounded(amount: Decimal) -> Self {
        Self::new(amount.clamp(-Self::MOST.0, Self::MOST.0))
    }

    /// Whether it is nothing.
    #[must_use]
    pub fn is_zero(&self) -> bool {
        self.0.is_zero()
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
        let trillionths = self.0.checked_mul(Decimal::from(1_000_000_000_000u64));
        trillionths.and_then(|amount| u128::try_from(amount.trunc()).ok()).unwrap_or(u128::MAX)
    }
}

impl std::ops::Add for Money {
    type Output = Self;
    fn add(self, other: Self) -> Self {
        self.0.checked_add(other.0).map_or(Self::MOST, Self::bounded)
    }
}

impl std::ops::Sub for Money {
    type Output = Self;
    fn sub(self, other: Self) -> Self {
        self + Self(-other.0)
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
    fn what_would_overflow_stays_at_the_most() {
        let most = Money::product(u64::MAX.into(), Decimal::MAX);
        assert_eq!(most, Money::MOST);
        assert_eq!(most + most, Money::MOST);
        assert_eq!(Money::MOST.to_string(), "9999999999999999");
        assert_eq!(Money::product(3.into(), "0.000001".parse().unwrap()).to_string(), "0.000003");
    }

    #[test]
    fn sums_are_exact_and_ordered_by_trillionths() {
        let tenths: Money = (0..10).map(|_| Money::parse("0.1").unwrap()).sum();
        assert_eq!(tenths.to_string(), "1");
        assert_eq!(Money::parse("0.000000000001").unwrap().in_trillionths(), 1);
        assert_eq!(Money::parse("ten"), None);
        assert_eq!(serde_json::to_string(&Money::parse("0.10").unwrap()).unwrap(), "\"0.1\"");
    }

    #[test]
    fn a_part_of_an_amount_is_exact_and_of_no_parts_it_is_the_most() {
        let amount = Money::parse("0.9").unwrap();
        assert_eq!(amount.over(3.into()).to_string(), "0.3");
        assert_eq!(amount.over(Decimal::ZERO), Money::MOST);
        assert_eq!((amount.is_zero(), Money::ZERO.is_zero()), (false, true));
        assert_eq!(amount.in_trillionths(), 900_000_000_000);
        assert_eq!(Money::parse("-1").unwrap().in_trillionths(), u128::MAX, "what is less than nothing goes last");
    }
}
