//! Bodies of those who have not signed in yet: small, in time, and within the memory that all bodies may take together.

use std::time::Duration;

use actix_web::http::StatusCode;
use actix_web::web;
use serde::de::DeserializeOwned;

use super::problem::Problem;
use crate::app::App;
use crate::data_plane::body::{self, ReadBody};
use crate::data_plane::refusal::Refusal;

/// The most that anybody can send unasked.
const LIMIT: usize = 64 * 1024;

/// A body has to arrive within it, or the connection is closed.
const TIME: Duration = Duration::from_secs(10);

/// Reads a value.
///
/// # Errors
/// When the body is too large, too slow or not of that form.
pub(super) async fn read<T: DeserializeOwned>(app: &App, payload: web::Payload) -> Result<T, Problem> {
    let read = body::read_within(app, &mut payload.into_inner(), None, None, LIMIT, TIME).await;
    let ReadBody { bytes, .. } = read.map_err(|refusal| told(&refusal))?;
    serde_json::from_slice(&bytes)
        .map_err(|error| Problem::BadValue { field: "body", message: format!("cannot be read: {error}") })
}

fn told(refusal: &Refusal) -> Problem {
    let status = StatusCode::from_u16(refusal.status()).unwrap_or(StatusCode::BAD_REQUEST);
    Problem::BadBody(status, refusal.message())
}
