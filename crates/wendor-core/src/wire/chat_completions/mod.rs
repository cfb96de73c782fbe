//! The dialect of `POST /v1/chat/completions` (PROTOCOLS section 2), same dialect on both sides.
//!
//! - [`request`]: what Wendor has to know of an app's request, and the body as the upstream gets it
//! - [`stream`]: what each frame of a stream says, and when a stream has come to its proper end
//! - [`reply`]: what a whole reply says
//! - [`usage`]: the dialect's usage object as token counts
//! - [`error`]: errors as the dialect's clients read them
//! - [`models`]: the listing of routes

pub mod error;
pub mod models;
pub mod reply;
pub mod request;
pub mod stream;
pub mod usage;
