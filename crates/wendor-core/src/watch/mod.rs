//! What is worth a look: how a day stands beside what was expected of it, and what needs attention.
//!
//! Figures enter; sentences and paces leave. Page not found decides anything about a request.
//!
//! - [`attention`], [`nearing`]: what needs attention, in words
//! - [`event`], [`conditions`]: what began, ended or happened, for the list of events and for webhooks; [`signature`]: how they are signed
//! - [`expected`]: what a day should have cost; [`reached`]: whom an upstream's trouble reaches

pub mod attention;
pub mod conditions;
pub mod event;
pub mod expected;
pub mod nearing;
pub mod reached;
pub mod signature;
