//! Bodies and replies made from each dialect's grammar, in the many forms that a dialect has for the same thing.
//!
//! - [`dice`]: what decides between forms, led back to by one number
//! - [`text`]: JSON as it is written by different hands
//! - [`asked`]: what a request means, and [`bodies`]: the same as a body of each dialect
//! - [`answered`]: what a reply means, and [`replies`]: the same as a stream of each dialect, and [`wholes`]: as one body
//! - [`mangled`]: what is nearly right

pub mod answered;
pub mod asked;
pub mod bodies;
pub mod dice;
pub mod mangled;
pub mod replies;
pub mod text;
pub mod wholes;
