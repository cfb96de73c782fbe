//! What the gateway is told: upstreams with their offers, routes, teams with their quotas, keys and roles, as data.
//!
//! One [`Catalogue`] is the document of one revision. It is read and checked by [`file`], compared by [`difference`],
//! and stored as JSON; past the reading nothing in it is checked again.
//!
//! - [`address`]: the base address of an upstream
//! - [`upstream`]: address, dialect, credential reference, offers
//! - [`webhook`] and [`event_kind`]: who is told of events, and of which
//! - [`weights`]: which weights a model's name stands for
//! - [`route`]: stages and how to pick among their offers
//! - [`preset`]: what a route adds to requests
//! - [`retirement`]: how the name of a route stands on a day
//! - [`team`]: who pays: access and quotas
//! - [`key`]: the text of keys and tokens, their hash, and what a key may do
//! - [`role`]: what a person may do
//! - [`document`]: the whole
//! - [`file`]: the catalogue as a TOML file, both ways
//! - [`difference`]: what changes from one state to another; [`consequence`]: what that means for those who use it
//! - [`guard`]: bounds with which a change undoes itself
//! - [`edit`]: changes of single things; [`former`]: names that things had

pub mod address;
mod auth;
pub mod consequence;
pub mod difference;
pub mod document;
pub mod edit;
pub mod event_kind;
pub mod file;
pub mod former;
pub mod guard;
pub mod key;
pub mod origin;
pub mod preset;
pub mod reach;
pub mod retirement;
pub mod role;
pub mod route;
pub mod team;
pub mod upstream;
pub mod webhook;
pub mod weights;

pub use document::Catalogue;
