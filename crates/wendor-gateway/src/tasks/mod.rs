//! What goes on by itself: each task is owned by [`crate::serve()`], ends when it is told to, and is joined there.
//!
//! - [`spool_drain`]: from the spool into the database
//! - [`orphans`]: drains the spools of instances that are gone
//! - [`retention`]: makes and drops the months of the records
//! - [`revision_watch`]: looks for changes and replaces the snapshot
//! - [`guard`]: undoes a revision whose bounds are passed
//! - [`inventory`]: looks at what upstreams serve
//! - [`probe`]: tries connections to upstreams that rest or that nobody asks

pub mod deliveries;
pub mod events;
pub mod guard;
pub mod inventory;
pub mod orphans;
pub mod probe;
pub mod retention;
pub mod revision_watch;
pub mod spool_drain;
pub mod summing;
