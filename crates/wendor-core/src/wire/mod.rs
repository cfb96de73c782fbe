//! What apps and upstreams say to each other, read and changed byte by byte.
//!
//! Bytes enter, facts and changed bytes leave; what a codec cannot read is an error with its reason, never a panic.
//! Where app and upstream speak the same dialect, frames pass as slices of what was read, untouched.
//!
//! - [`sse`]: server-sent events, taken from bytes that are cut anywhere
//! - [`members`]: the members of a JSON object with their places, so that a body is changed by splicing
//! - [`scan`]: one pass over a body: how deep it nests, how many tokens its texts may be
//! - [`chat_completions`]: the dialect of `POST /v1/chat/completions`

pub mod chat_completions;
pub mod members;
pub mod scan;
pub mod sse;
