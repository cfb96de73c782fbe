//! The path of one request, from an app's call to the ledger:
//!
//! 1. [`admit`]: who asks, what for, may they, is there room in their quotas
//! 2. [`plan`]: which offers can serve it, in which order, and why
//! 3. [`attempt`]: one offer after the other until one answers; a single try is [`exchange`]
//! 4. [`relay`]: the answer on its way to the app; **a streamed byte passes in [`relay::StreamBody`]**
//! 5. [`settle`]: tokens, price, the ledger entry into the spool, what was reserved and not used given back
//!
//! From admission on a [`ticket::Ticket`] goes along, and holds an [`open_attempt::OpenAttempt`] for each attempt that is open.
//! Cancellation is one of the flows: when the app goes away the server drops the handler or the body, the ticket in it is dropped and
//! settles with its attempts, and the upstream's connection is closed with it.
//! What is refused before it has a ticket never reaches the ledger: [`refusal`] says how the app is told. A panic on the way stays with
//! its request: [`fault`].

pub mod account;
pub mod admit;
pub mod attempt;
mod beginning;
pub mod body;
pub mod call;
pub mod clients;
pub mod course;
mod dated;
pub mod error_page;
pub mod exchange;
mod failing;
pub mod fault;
mod header_texts;
pub mod images;
pub mod late;
mod launch;
pub mod listing;
pub mod marks;
pub mod open_attempt;
pub mod opening;
pub mod outlet;
pub mod page;
pub mod pieces;
pub mod plan;
pub mod presented;
pub mod preset;
pub mod progress;
mod race;
mod reached;
pub mod refusal;
mod refusal_words;
mod refused;
pub mod relay;
pub mod settle;
mod stream_clock;
pub mod ticket;
mod watch;
pub mod whole_reply;

use std::sync::Arc;

use actix_web::dev::{Payload, ServiceRequest, ServiceResponse, Url};
use actix_web::http::header::{HeaderMap, HeaderValue};
use actix_web::http::{ConnectionType, Method};
use actix_web::{HttpMessage, HttpResponse, web};
use admit::{Admitted, Asked};
use call::Call;
use clients::Clients;
use fault::{Fault, caught};
use presented::Query;
use refusal::Refusal;
use wendor_wire::count;
use wendor_wire::dialect::Dialect;
use wendor_wire::endpoint::{Endpoint, Hints, InPath, Kind, resolve};

use crate::app::App;
use crate::caller::is_encrypted_here;
use crate::sharing::Connection;

/// `/v1/chat/completions`, the path that most requests take. Its method is looked at here: a guard of the server's would cost every
/// request three allocations.
///
/// # Errors
/// When the service was put together wrongly: its state is missing.
pub async fn chat_completions(request: ServiceRequest) -> Result<ServiceResponse, actix_web::Error> {
    if request.method() == Method::POST {
        let endpoint = Endpoint { dialect: Dialect::ChatCompletions, kind: Kind::Chat(InPath::default()) };
        return answer(request, endpoint).await;
    }
    // Boxed: it is the rare one of the two, and each would keep room for the other.
    Box::pin(any(request)).await
}

/// Every other path of apps: which endpoint it is, in which dialect, is told by [`wendor_wire::endpoint`].
///
/// # Errors
/// When the service was put together wrongly: its state is missing.
pub async fn any(request: ServiceRequest) -> Result<ServiceResponse, actix_web::Error> {
    if request.method() == Method::OPTIONS {
        let app = request.app_data::<web::Data<App>>().cloned().ok_or_else(missing)?;
        if let Some(told) = page::preflight(&request, &app) {
            return Ok(request.into_response(told));
        }
    }
    let resolved = resolve(request.method().as_str(), request.path(), hints(request.headers()));
    match resolved {
        Ok(endpoint) => match endpoint.kind {
            Kind::Chat(_) | Kind::Count(_) | Kind::Embed(..) | Kind::Passed(_) => answer(request, endpoint).await,
            Kind::Models | Kind::Model(_) | Kind::ShowModel | Kind::Loaded | Kind::Version => {
                listing::answer(request, endpoint).await
            }
        },
        Err(none) => listing::nothing_here(request, none),
    }
}

/// What headers tell of the dialect, where paths are shared. No vendor's name is known here, only patterns.
fn hints(headers: &HeaderMap) -> Hints {
    let is_date = |value: &HeaderValue| {
        value.to_str().is_ok_and(|text| text.len() == 10 && text.split('-').map(str::len).eq([4, 2, 2]))
    };
    let mut hints = Hints::default();
    for (name, value) in headers {
        hints.has_version_date |= name.as_str().ends_with("-version") && is_date(value);
        hints.has_named_key |= name.as_str().ends_with("-api-key") && name != "x-api-key";
    }
    hints
}

async fn answer(mut request: ServiceRequest, endpoint: Endpoint) -> Result<ServiceResponse, actix_web::Error> {
    let app = request.app_data::<web::Data<App>>().cloned().ok_or_else(missing)?.into_inner();
    let clients = request.app_data::<web::Data<Clients>>().cloned().ok_or_else(missing)?;
    let call = Call::begin(&app, endpoint.dialect, request.head(), is_encrypted_here(request.request()));
    let mut payload = request.take_payload();
    // What is asked is in no variable of its own here: the state of a request would keep room for it to its end.
    let serving = caught(serve(&app, &call, asked_by(&app, &request, endpoint), &mut payload, &clients));
    let_go_of_head(&mut request);
    let served = tokio::select! {
        biased;
        served = serving => served,
        () = app.stopping.over() => Ok(Err(Refusal::Stopped)),
    };
    let mut response = match served {
        Ok(Ok(answer)) => answer,
        Ok(Err(refusal)) => {
            body::discard(&mut payload).await;
            refusal.answer(&app, &call)
        }
        Err(Fault) => Refusal::Fault.answer(&app, &call),
    };
    if app.stopping.is_announced() {
        // The next request is to find another instance, not a connection that closes under it.
        response.head_mut().set_connection_type(ConnectionType::Close);
    }
    Ok(request.into_response(response))
}

fn asked_by(app: &App, request: &ServiceRequest, endpoint: Endpoint) -> Asked {
    let connection = request.request().conn_data::<Arc<Connection>>().cloned();
    Asked::read(request.headers(), Query::of(app, request.query_string()), endpoint, connection)
}

fn missing() -> actix_web::Error {
    actix_web::error::ErrorInternalServerError("the state of the service is missing")
}

/// Headers and address are slices of the buffer that the server read them into, together with the first part of the body. What was
/// needed of them is taken: while they are held, that buffer stays, for as long as the request takes.
fn let_go_of_head(request: &mut ServiceRequest) {
    let head = request.head_mut();
    head.headers = Default::default();
    head.uri = Default::default();
    *request.match_info_mut().get_mut() = Url::default();
}

/// The count that an app asks for where no offer can be asked: an estimate, said to be one. Nothing was asked, so nothing is recorded.
fn estimated_count(call: &Call, admitted: Admitted) -> HttpResponse {
    let body = count::reply(call.dialect, admitted.request.input_tokens);
    admitted.ticket.refuse();
    let mut response = HttpResponse::Ok();
    refusal::identify(&mut response, call);
    response.insert_header((
        "wendor-notes",
        "the count is an estimate: no offer of this route counts tokens in this dialect",
    ));
    response.content_type("application/json").body(body)
}

/// A request with its plan.
struct Planned {
    admitted: Admitted,
    /// Whether it asks for a count and no offer can be asked.
    is_estimated: bool,
    /// Whether its answer may begin before an offer does.
    may_be_late: bool,
}

fn planned(mut admitted: Admitted) -> Planned {
    fault::wanted_by_a_test("fault-in-plan", admitted.ticket.account().marks.run.as_deref());
    plan::plan(&mut admitted);
    let is_count = matches!(admitted.request.endpoint.kind, Kind::Count(_));
    let is_estimated = is_count && admitted.ticket.plan().taken().next().is_none();
    let may_be_late = late::may_be_late(&admitted.ticket);
    Planned { admitted, is_estimated, may_be_late }
}

async fn serve(
    app: &Arc<App>,
    call: &Call,
    asked: Asked,
    payload: &mut Payload,
    clients: &web::Data<Clients>,
) -> Result<HttpResponse, Refusal> {
    // Nothing here borrows what is admitted: the state of a request would keep room for it twice.
    let Planned { admitted, is_estimated, may_be_late } = planned(admit::admit(app, call, asked, payload).await?);
    if is_estimated {
        return Ok(estimated_count(call, admitted));
    }
    if may_be_late {
        // Boxed: a stream keeps its own state, and no whole answer the room for it.
        return Box::pin(late::answer(admitted, clients.clone())).await;
    }
    Ok(relay::answer(attempt::attempt(admitted, clients).await?).await)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The size of what a function's future keeps.
    fn state<A, B, F: Future>(_: impl Fn(A, B) -> F) -> usize {
        size_of::<F>()
    }

    /// The allocator keeps blocks of about one size together. Where the state of a request, which is soon gone, lies among what stays for
    /// as long as a stream is open, the pages that it has touched stay as well: among the 8 KB buffers of connections (7 to 8 KB), or among
    /// their tasks (2.5 to 3 KB).
    #[test]
    fn the_state_of_a_request_lies_apart_from_what_stays() {
        assert!(state(answer) <= 7 * 1024, "{}", state(answer));
        assert!(state(late::answer) <= 2_560, "{}", state(late::answer));
    }
}
