//! Why an upstream does not answer: what was seen of it enters, layer by layer, and what is the matter leaves in plain words, with a
//! remedy that is data wherever Wendor can apply it.
//!
//! The service looks ([`seen`] says what it may see) and asks this module after each layer what to make of it; nothing here opens a
//! connection. The layers in order are [`report::Step`]; a check stops at the first that fails.
//!
//! - [`pasted`]: an address as people paste it
//! - [`settings`]: what can be seen without a request
//! - [`reach`]: name and connection; [`encryption`], with [`hello`] for what is too old to be spoken
//! - [`first_words`]: whether HTTP is spoken, or something stands in the server's place; [`speech`]: path and dialect
//! - [`refusal`]: an answer that says no: key, header, terms, credit
//! - [`listing`]: the models that are there beside the offers
//! - [`inventory`]: what changes there from one look to the next
//! - [`heard`], [`rhythm`], [`answer`]: a streamed and a whole answer
//! - [`proof`], [`picture`]: abilities proven
//! - [`finding`]: every finding there is; [`remedy`]: what can be done; [`change`]: a remedy applied
//! - [`report`]: what a check says

pub mod answer;
pub mod change;
pub mod encryption;
pub mod finding;
pub mod first_words;
pub mod heard;
pub mod hello;
pub mod inventory;
pub mod listing;
pub mod pasted;
pub mod picture;
pub mod proof;
pub mod reach;
pub mod refusal;
pub mod remedy;
pub mod report;
pub mod rhythm;
pub mod seen;
pub mod settings;
#[cfg(test)]
mod sketch;
pub mod speech;
