//! The computation of Wendor: everything that decides, counts or translates, and nothing that waits.
//!
//! No async, no I/O, no clock, no randomness of its own: instants, seeds and random bytes are arguments. What enters
//! is bytes and state, what leaves is values; the service and the client are thin shells around it. What is said on the wire is below it, in
//! `wendor-wire`.
//!
//! - [`catalog`]: upstreams, offers, routes, teams and keys as data; the catalogue file; the difference of two states
//! - [`diagnosis`]: why an upstream does not answer, and what can be done
//! - [`serving`]: what of a request an offer can serve, and the body that goes up to it
//! - [`held`]: credentials in what apps send
//! - [`routing`]: which offers serve a request, in which order, and what falls over
//! - [`quota`]: windows, reservations, settlement
//! - [`metering`]: tokens, rates, money, latency sketches, ledger entries, roll-ups
//! - [`client_code`]: ready code that asks a route
//! - [`watch`]: what needs attention, and what was to be expected
//! - [`words`]: counts, sizes, lengths of time and lists as people read them

pub mod audit;
pub mod base32;
pub mod caller;
pub mod catalog;
pub mod client_code;
pub mod diagnosis;
pub mod held;
pub mod metering;
pub mod name;
pub mod quota;
pub mod request_id;
pub mod routing;
pub mod secret;
pub mod serving;
pub mod shown;
pub mod trace;
pub mod watch;
pub mod words;
