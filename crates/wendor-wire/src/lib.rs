//! What apps and upstreams say to each other, read and changed byte by byte.
//!
//! Bytes enter, facts and changed bytes leave; what a codec cannot read is an error with its reason, never a panic.
//! Where app and upstream speak the same dialect, frames pass as slices of what was read, untouched; otherwise request and answer
//! go through the neutral conversation.
//!
//! - [`endpoint`]: which endpoint a path is, in which dialect
//! - [`asked`]: what must be known of a request, and the body for an upstream of the same dialect
//! - [`rewriting`]: what changes of a body for an upstream of the same dialect
//! - [`frames`], [`sse`], [`ndjson`]: frames of streams, taken from bytes that are cut anywhere
//! - [`members`]: the members of a JSON object with their places, so that a body is changed by splicing
//! - [`scan`]: one pass over a body: how deep it nests, how many tokens its texts may be
//! - [`json`]: JSON read with its paths, and written so that every client can read it
//! - [`conversation`]: what is asked and answered, in no dialect
//! - [`verdict`]: what becomes of a request at an offer
//! - [`codec`]: what every dialect can do, and the list of them
//! - [`chat_completions`], [`responses`], [`messages`], [`generate_content`], [`local_chat`]: the dialects
//! - [`passage`]: one stream on its way from an upstream to an app; [`sent`]: what leaves together
//! - [`count`]: counts of tokens by estimate; [`embedding`]: vectors of texts
//! - [`form`]: parts of uploads
//! - [`limits`]: what a passed body asks for at most
//! - [`listing`]: models as each dialect lists them
//! - [`facts`]: what is known of an answer while it comes
//! - [`percent`]: parts of paths and queries, escaped
//! - [`plain`]: whole replies that pass as they are
//! - [`native`]: members that one dialect alone knows; [`seal`]: whose thinking it is; [`image`]: what an image is by its bytes;
//!   [`rejection`]: what an app is told of an upstream that rejects its request; [`upstream_error`]: how an upstream failed that says so in its stream

pub mod ability;
pub mod addition;
pub mod address;
mod as_text;
pub mod asked;
pub mod bad_request;
pub mod bounded;
pub mod change;
pub mod chat_completions;
pub mod cited;
pub mod codec;
pub mod conversation;
pub mod count;
pub mod dialect;
pub mod dialects;
mod effort;
pub mod embedding;
pub mod endpoint;
mod error_object;
pub mod estimate;
pub mod failure;
pub mod form;
pub mod frames;
mod gaps;
pub mod generate_content;
pub mod halves;
pub mod image;
pub mod images;
pub mod json;
pub mod limits;
pub mod listing;
pub mod local_chat;
mod logprobs;
mod malformed;
pub mod members;
pub mod messages;
mod named_schema;
pub mod native;
pub mod ndjson;
pub mod nearest;
pub mod opening;
pub mod passage;
pub mod percent;
pub mod plain;
pub mod preset;
pub mod refusal_code;
pub mod rejection;
pub mod responses;
pub mod rewriting;
pub mod scan;
pub mod schema;
pub mod seal;
pub mod sent;
mod sound;
pub mod sse;
pub mod steps;
pub mod told_limits;
pub mod upstream_error;
pub mod usage;
mod usage_wish;
pub mod verdict;
mod worded;
