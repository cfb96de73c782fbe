//! Stored values as domain values: what the database holds was checked when it was written, so a value that cannot be read is an
//! error with its column, never a default.

use rust_decimal::Decimal;
use wendor_core::name::Name;
use wendor_core::routing::queue::Lane;

use crate::StoreError;

/// A count that is never negative.
pub(crate) fn count(value: i64, column: &'static str) -> Result<u64, StoreError> {
    u64::try_from(value).map_err(|error| StoreError::unreadable(column, error))
}

/// A count as the database takes it; what passes its range is a fault in counting and is held at the largest value.
pub(crate) fn bigint(value: u64) -> i64 {
    i64::try_from(value).unwrap_or(i64::MAX)
}

pub(crate) fn name(value: &str, column: &'static str) -> Result<Name, StoreError> {
    Name::parse(value).map_err(|error| StoreError::unreadable(column, error))
}

/// The same amount with the ledger's twelve decimals, so that sums have one scale.
pub(crate) fn numeric(value: Decimal) -> Decimal {
    let mut value = value;
    value.rescale(value.scale().min(12));
    value
}

/// A lane's word; the usual lane where there is none.
pub(crate) fn lane(word: Option<String>, column: &'static str) -> Result<Lane, StoreError> {
    word.map_or(Ok(Lane::default()), |word| Lane::parse(&word).ok_or_else(|| StoreError::unreadable(column, word)))
}
