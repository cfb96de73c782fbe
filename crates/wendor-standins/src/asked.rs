//! What stands before the answer to a question: a limit, a model that loads; and the events that it takes.

use std::sync::Arc;
use std::time::{Duration, Instant};

use hyper::Response;
use wendor_wire::endpoint::Endpoint;

use crate::chat::{self, AnswerBody};
use crate::fault::Fault;
use crate::limit::Place;
use crate::memory::{REMEMBERED, Shared};
use crate::server::{Question, WithStatus, served};

/// Whether it still loads its model.
fn loads(shared: &Shared) -> bool {
    let (load, now) = (Duration::from_millis(shared.manners().says_loading_ms), Instant::now());
    let since = *shared.state().asked_since.get_or_insert(now);
    now.duration_since(since) < load
}

/// The answer to a question, unless it is beyond the limit of the minute.
pub(crate) async fn asked(
    shared: Arc<Shared>,
    endpoint: Endpoint,
    question: Question,
    fault: Fault,
) -> Result<Response<AnswerBody>, std::io::Error> {
    let (dialect, limit) = (shared.profile.dialect, shared.manners().requests_a_minute);
    let count = |limit| shared.state().of_minute.count(limit, Instant::now());
    let place = limit.map(count);
    if loads(&shared) {
        return Ok(chat::error(dialect, 503, "unavailable_error", "Loading model"));
    }
    let mut response = if place.is_some_and(Place::is_beyond) {
        chat::error(dialect, 429, "rate_limit_exceeded", "The limit of requests a minute is used up.")
    } else {
        served(shared, endpoint, question, fault).await?
    };
    place.into_iter().for_each(|place| place.tell(response.headers_mut()));
    Ok(response)
}

/// An event that came: it is remembered if it is taken.
pub(crate) fn taken(shared: &Shared, fault: Fault) -> Response<AnswerBody> {
    let empty = chat::json(AnswerBody::whole(""));
    if let Fault::Status { status, .. } = fault {
        return empty.with_status(status);
    }
    let mut state = shared.state();
    let event = state.last_seen.clone();
    if state.events.len() == REMEMBERED {
        state.events.pop_front();
    }
    state.events.extend(event);
    empty.with_status(204)
}
