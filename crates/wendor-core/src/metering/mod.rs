//! Metering: what a request used, what that costs, and how many requests become one figure.
//!
//! What upstreams report (or an estimate) enters, ledger entries and roll-ups leave. Money is decimal throughout.
//!
//! - [`usage`]: token counts by kind
//! - [`estimate`]: tokens where nobody counted
//! - [`money`] and [`rate`]: amounts, rates, and where a request is priced
//! - [`entry`]: the ledger entry and the detail kept with it
//! - [`sketch`]: many durations as one mergeable sketch
//! - [`rollup`]: the hourly sums
//! - [`spool_frame`]: an entry as a frame of the spool
//! - [`summary`] and [`latency`]: what happened, in a sentence, and where the time went

pub mod entry;
pub mod estimate;
pub mod latency;
pub mod money;
pub mod rate;
pub mod rollup;
pub mod sketch;
pub mod spool_frame;
pub mod summary;
pub mod usage;
