//! Attacks, played: each by the upstream, the page or the client that attacks.

mod audit;
mod bodies;
mod crowd;
mod images;
mod listeners;
mod names;
mod noise;
mod pages;
mod people;
mod roles;
mod secrets;
pub mod sign_in;
mod terminals;
