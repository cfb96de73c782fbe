//! The service: the data plane that serves apps, the management API that serves people and programs, and the tasks behind.
//!
//! [`serve`] takes everything that the world provides and runs until it is told to stop. Apps' requests are followed in
//! [`data_plane`]; who manages what in [`admin`]; the console's pages are served by [`console`]; what goes on by itself in [`tasks`].

pub mod admin;
pub mod allowances;
pub mod app;
pub mod behind;
pub mod caller;
pub mod certificates;
pub mod checks;
pub mod clock;
pub mod codes;
mod console;
pub mod credentials;
pub mod data_plane;
mod early;
pub mod events;
pub mod fleet;
pub mod gate;
pub mod guesses;
pub mod health_changes;
pub mod hosts;
pub mod identity;
pub mod keys;
mod listeners;
pub mod metrics;
pub mod recent;
mod serve;
pub mod settings;
pub mod sharing;
pub mod snapshot;
mod sockets;
pub mod spool;
pub mod stopping;
pub mod tasks;
pub mod trust;
pub mod under_way;
pub mod vault;
pub mod vital;

pub use listeners::Listeners;
pub use serve::{ServeError, World, serve};
