//! What is worth a look: how a day stands beside what was expected of it, and what needs someone.
//!
//! Figures enter; sentences and paces leave. Nothing here decides anything about a request.

pub mod attention;
pub mod expected;
pub mod reached;
