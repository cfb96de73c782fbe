//! What the tests of the running service stand on: the real binary on loopback with a database of its own, stand-ins for model
//! servers, and the client as people run it.
//!
//! - [`ferry`]: a whole installation for one test
//! - [`filling`]: a past of any size; [`holding`]: a ledger that takes nothing for a while
//! - [`service`]: the service's process
//! - [`wendor`]: the command line
//! - [`site`]: another web site
//! - [`waiting`]: asking until something is so

pub mod browser;
pub mod ferry;
pub mod filling;
pub mod holding;
pub mod service;
pub mod site;
pub mod waiting;
pub mod wendor;
