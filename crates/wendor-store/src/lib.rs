//! Wendor's records in PostgreSQL, through SQLx. SQL lives in this crate and nowhere else.
//!
//! Domain values enter and leave; a transaction is whole inside one function; lists are bounded. Dropping a future of this
//! crate midway rolls its transaction back. Errors are [`StoreError`], which knows whether the database was away.
//!
//! - [`Store`]: connecting, migrating, the change counter
//! - [`revisions`]: the configuration's revisions, teams and rates
//! - [`audit`]: what was done, written with what it tells of
//! - [`keys`]: keys of apps
//! - [`codes`]: codes of authenticator apps, and who must have them
//! - [`credentials`]: upstreams' credentials, encrypted
//! - [`inventory`]: what upstreams serve, what changed, what is proven
//! - [`people`], [`tokens`]: people and what they present
//! - [`ledger`]: draining settled requests: lines, details, roll-ups, quota windows
//! - [`events`]: what happened, and whom it was told
//! - [`partitions`]: the months that these come in, and how long each is kept
//! - [`requests`]: reading requests back; [`past`]: in bulk
//! - [`usage`]: figures over a range, of lines added by the database; [`sums`]: of whole hours, days and thirds of
//!   months, read in their place
//! - [`quotas`]: what windows hold

pub mod audit;
pub mod codes;
pub mod credentials;
pub mod dearest;
mod error;
pub mod events;
pub mod inventory;
pub mod keys;
pub mod ledger;
mod line_sums;
pub mod partitions;
pub mod past;
pub mod people;
pub mod quotas;
pub mod requests;
pub mod revisions;
mod rolled;
mod rollups;
mod row;
mod store;
mod summed_lines;
mod summing;
pub mod sums;
pub mod tokens;
pub mod usage;

pub use error::StoreError;
pub use store::{Changes, SchemaState, Store, crosses_network_plainly};
