//! A request at an offer: whether it can be served there, and the body that goes up.
//!
//! - [`fit`]: whether an offer can serve a request
//! - [`sending`]: the body that goes up for one offer, spliced or written anew

pub mod fit;
pub mod sending;
