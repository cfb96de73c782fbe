//! Attacks, played: each by the upstream, the page or the client that attacks.

mod pages;
mod secrets;
