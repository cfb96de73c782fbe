//! Stand-ins: simulated model servers with faults on demand, and what the demo needs beside them.
//!
//! They ship with Wendor for the demo and for its tests; they answer with made-up text of a ferry operator, count what they
//! serve, and fail in the ways that real servers fail.
//!
//! - [`server`]: one stand-in: listening, refusing
//! - [`memory`]: what it is and remembers, its tally among it
//! - [`fault`]: the ways to fail
//! - [`chat`]: answers in every dialect, [`stream`] those that stream; [`script`]: what they say, in none
//! - `other`: vectors, counts, legacy texts, images
//! - [`text`]: what they say
//! - [`control`]: the small control call of a set of stand-ins
//! - [`history`]: thirty days of a made-up past, as a segment of the spool
//! - [`traffic`]: a trickle of live requests

mod asked;
pub mod chat;
pub mod control;
pub mod fault;
pub mod history;
mod limit;
pub mod manners;
pub mod memory;
mod other;
mod places;
pub mod script;
pub mod server;
pub mod stream;
pub mod text;
pub mod traffic;
