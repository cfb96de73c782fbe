//! The path of one request, from an app's call to the ledger:
//!
//! 1. [`admit`]: who asks, what for, may they, is there room in their quotas
//! 2. [`plan`]: which offers can serve it, in which order, and why
//! 3. [`attempt`]: one offer after the other until one answers; a single try is [`exchange`]
//! 4. [`relay`]: the answer on its way to the app; **a streamed byte passes in [`relay::StreamBody`]**
//! 5. [`settle`]: tokens, price, the ledger entry into the spool, what was reserved and not used given back
//!
//! From admission on a [`ticket::Ticket`] goes along. Cancellation is one of the flows: when the app goes away the server drops
//! the handler or the body, the ticket in it is dropped and settles as cancelled, and the upstream's connection is closed with it.
//! What is refused before it has a ticket never reaches the ledger: [`refusal`] says how the app is told.

pub mod admit;
pub mod attempt;
pub mod body;
pub mod clients;
pub mod exchange;
pub mod listing;
pub mod marks;
pub mod outlet;
pub mod pieces;
pub mod plan;
pub mod refusal;
pub mod relay;
pub mod settle;
pub mod ticket;

use std::sync::Arc;
use std::time::Instant;

use actix_web::dev::{Payload, ServiceRequest, ServiceResponse, Url};
use actix_web::{HttpMessage, HttpResponse, web};
use chrono::{DateTime, Utc};
use wendor_core::request_id::RequestId;

use crate::app::App;
use admit::Asked;
use attempt::Answering;
use clients::Clients;
use exchange::Reply;
use refusal::Refusal;

/// A request that has arrived.
#[derive(Clone, Debug)]
pub struct Call {
    /// Its id.
    pub id: RequestId,
    /// When it arrived.
    pub arrived_at: DateTime<Utc>,
    /// The same on the clock that only runs forward.
    pub started: Instant,
}

impl Call {
    /// A request that arrives now.
    #[must_use]
    pub fn begin(app: &App) -> Self {
        let arrived_at = app.clock.now();
        Self { id: app.ids.next(arrived_at), arrived_at, started: Instant::now() }
    }

    /// Milliseconds since it arrived.
    #[must_use]
    pub fn elapsed_ms(&self) -> u64 {
        u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX)
    }
}

/// `POST /v1/chat/completions`.
///
/// # Errors
/// When the service was put together wrongly: its state is missing.
pub async fn chat_completions(mut request: ServiceRequest) -> Result<ServiceResponse, actix_web::Error> {
    let missing = || actix_web::error::ErrorInternalServerError("the state of the service is missing");
    let app = request.app_data::<web::Data<App>>().cloned().ok_or_else(missing)?.into_inner();
    let clients = request.app_data::<web::Data<Clients>>().cloned().ok_or_else(missing)?;
    let call = Call::begin(&app);
    let asked = Asked::read(request.headers(), request.query_string());
    let payload = request.take_payload();
    let_go_of_head(&mut request);
    let response = match serve(&app, &call, (asked, payload), &clients).await {
        Ok(answer) => answer,
        Err(refusal) => refusal.answer(&app, &call),
    };
    Ok(request.into_response(response))
}

/// Headers and address are slices of the buffer that the server read them into, together with the first part of the body. What was
/// needed of them is taken: while they are held, that buffer stays, for as long as the request takes.
fn let_go_of_head(request: &mut ServiceRequest) {
    let head = request.head_mut();
    head.headers = Default::default();
    head.uri = Default::default();
    *request.match_info_mut().get_mut() = Url::default();
}

async fn serve(
    app: &Arc<App>,
    call: &Call,
    (asked, payload): (Asked, Payload),
    clients: &Clients,
) -> Result<HttpResponse, Refusal> {
    let mut admitted = admit::admit(app, call, asked, payload).await?;
    plan::plan(&mut admitted);
    let Answering { reply, along } = attempt::attempt(admitted, clients).await?;
    match reply {
        Reply::Stream(stream) => Ok(relay::stream(*stream, along)),
        Reply::Whole(reply) => Ok(relay::whole(reply, along).await),
        Reply::Rejected(reply) => Ok(relay::rejected(reply, along).await),
    }
}
