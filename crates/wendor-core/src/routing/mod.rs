//! Which offers serve a request, in which order, and what happens when one fails.
//!
//! A route and what is known of its upstreams enter; a [`plan::Plan`] leaves, as data with a reason for every offer
//! taken or left, so that it can be shown without being run. Called by the data plane's plan and attempt steps.
//!
//! - [`effect`]: what a change of the catalogue would have done to requests of the past
//! - [`failure`]: what an app is told when all fail
//! - [`health`]: what the last attempts say of an offer or upstream, and whether it rests
//! - [`retries`]: how many extra attempts an upstream is given
//! - [`reason`]: why an offer is taken or left
//! - [`queue`]: who is served next where there is only so much room
//! - [`loading`]: a model that its server loads
//! - [`pace`]: how fast a service lets us ask
//! - [`plan`]: the order of attempts

pub mod effect;
pub mod failure;
pub mod health;
pub mod loading;
pub mod pace;
pub mod plan;
pub mod queue;
pub mod reason;
pub mod recent;
pub mod retries;
pub(crate) mod together;
pub mod waits;
