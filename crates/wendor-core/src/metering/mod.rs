//! Metering: what a request used, what that costs, and how many requests become one figure.
//!
//! What upstreams report (or an estimate) enters, ledger entries and roll-ups leave. Money is decimal throughout.
//!
//! - [`calibration`]: what estimates of tokens are at an offer
//! - [`money`] and [`rate`]: amounts, rates, and where a request is priced
//! - [`entry`], [`end`] and [`detail`]: a line of the ledger, how requests end, and what is kept beside a line for a shorter time
//! - [`sketch`]: many durations as one mergeable sketch
//! - [`rollup`]: the hourly sums; [`sums`]: of these, by longer spans and by fewer things; [`line_sums`]: by what they do not tell
//!   apart
//! - [`spool_frame`]: an entry as a frame of the spool
//! - [`adjustment`]: what lines should have cost at another rate
//! - [`export`]: lines as comma-separated values
//! - [`why`]: why a period cost more or less than the one before
//! - [`summary`] and [`latency`]: what happened, in a sentence, and where the time went

pub mod adjustment;
pub mod calibration;
pub mod detail;
pub mod end;
pub mod entry;
pub mod export;
pub mod latency;
pub mod line_sums;
pub mod money;
pub mod preset;
pub mod rate;
pub mod rollup;
pub mod sketch;
pub mod spool_frame;
pub mod summary;
pub mod sums;
pub mod why;
