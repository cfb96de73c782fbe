//! A streamed answer that lets wait: until `head_after` its status stays free for a proper error; then its head goes out, and heartbeats keep the
//! connection open until an offer answers. Where none does, the error comes in the stream, as of one that breaks off.
//!
//! Only in dialects that have heartbeats. Which offer answers is not known when the head goes out, so its headers do not say so; the record does.

use std::future::Future;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use actix_web::body::{BodySize, MessageBody};
use actix_web::http::header::HeaderName;
use actix_web::{HttpResponse, web};
use bytes::Bytes;
use tokio::time::{Instant, Sleep, sleep, timeout_at};
use wendor_wire::codec::Closing;
use wendor_wire::dialects;
use wendor_wire::rejection;

use super::account::Account;
use super::admit::Admitted;
use super::attempt::{Answering, attempt};
use super::clients::Clients;
use super::exchange::{RejectedReply, Reply};
use super::fault::caught;
use super::refusal::{Refusal, identify};
use super::relay::{self, BrokenOff, LINGER, StreamBody, as_stream};
use super::settle::Outcome;
use super::ticket::Ticket;

/// Between two heartbeats.
const HEARTBEAT_EVERY: Duration = Duration::from_secs(10);

type Attempting = Pin<Box<dyn Future<Output = Result<Answering, Refusal>>>>;
type Frames = Pin<Box<dyn Future<Output = (Bytes, Closing)>>>;

/// Whether a request may be answered so.
#[must_use]
pub fn may_be_late(ticket: &Ticket) -> bool {
    ticket.account().streamed && dialects::of(ticket.call().dialect).heartbeat().is_some()
}

/// The answer of an admitted and planned request, or its head when that lets wait.
///
/// # Errors
/// Why there is none, as long as that comes in time.
pub fn answer(admitted: Admitted, clients: web::Data<Clients>) -> impl Future<Output = Result<HttpResponse, Refusal>> {
    let account = admitted.ticket.shared_account();
    let until = Instant::from_std(account.call.started) + account.app.settings.timing.head_after;
    let mut attempting: Attempting = Box::pin(async move { attempt(admitted, &clients).await });
    async move {
        match timeout_at(until, &mut attempting).await {
            Ok(answering) => Ok(relay::answer(answering?).await),
            Err(_elapsed) => Ok(head(account, attempting)),
        }
    }
}

fn head(account: Arc<Account>, attempting: Attempting) -> HttpResponse {
    let mut response = HttpResponse::Ok();
    identify(&mut response, &account.call);
    response.insert_header((HeaderName::from_static("wendor-revision"), account.snapshot.revision_told()));
    if let Some(leaving) = &account.leaving {
        leaving.sunset().into_iter().for_each(|sunset| {
            response.insert_header((HeaderName::from_static("sunset"), sunset));
        });
        response.insert_header((HeaderName::from_static("wendor-notes"), leaving.words.as_str()));
    }
    as_stream(&mut response, account.call.dialect);
    let app = account.app.clone();
    let attempting = async move {
        tokio::select! {
            biased;
            answered = caught(attempting) => answered.unwrap_or(Err(Refusal::Fault)),
            () = app.stopping.over() => Err(Refusal::Stopped),
        }
    };
    let heartbeat = Box::pin(sleep(Duration::ZERO));
    response.body(LateBody { account, heartbeat, phase: Phase::Waiting(Box::pin(attempting)) })
}

/// The body of an answer whose head has gone out.
struct LateBody {
    account: Arc<Account>,
    heartbeat: Pin<Box<Sleep>>,
    phase: Phase,
}

enum Phase {
    /// Nobody answers yet.
    Waiting(Attempting),
    /// The answer has begun; its rest is passed on.
    Streaming(StreamBody),
    /// It ends with these frames, once that is on record.
    Ending(Frames),
    /// The error must have left before the connection breaks.
    Lingering(Pin<Box<Sleep>>),
    /// Everything has gone out.
    Over,
}

impl LateBody {
    /// What comes of the attempts.
    fn follow(&self, answered: Result<Answering, Refusal>) -> Phase {
        match answered {
            Ok(Answering { reply: Reply::Stream(stream), along }) => Phase::Streaming(relay::body(*stream, along)),
            Ok(Answering { reply: Reply::Rejected(reply), along }) => self.rejected(reply, along.ticket),
            // A stream is asked for, so it is none; should it be, the ticket in it settles as not answered.
            Ok(Answering { reply: Reply::Whole(_), .. }) => self.refused(Refusal::Fault),
            Err(refusal) => self.refused(refusal),
        }
    }

    fn rejected(&self, reply: RejectedReply, ticket: Box<Ticket>) -> Phase {
        let to = ticket.call().dialect;
        // Whatever its dialect: its own words are a body, and in a stream they are told in ours.
        let rejected = rejection::told(reply.status, &reply.bytes, ticket.id().as_str());
        let frames = dialects::of(to).reader().broken_off(&rejected);
        Phase::Ending(Box::pin(async move {
            ticket.settle(Outcome::Rejected(reply.status, reply.kind)).wait().await;
            (Bytes::from(frames.0), frames.1)
        }))
    }

    fn refused(&self, refusal: Refusal) -> Phase {
        let error = refusal.told_late(&self.account.app, &self.account.call);
        let (frames, closing) = dialects::of(self.account.call.dialect).reader().broken_off(&error);
        Phase::Ending(Box::pin(std::future::ready((Bytes::from(frames), closing))))
    }

    fn poll_heartbeat(&mut self, context: &mut Context<'_>) -> Poll<Bytes> {
        ready!(self.heartbeat.as_mut().poll(context));
        self.heartbeat.as_mut().reset(Instant::now() + HEARTBEAT_EVERY);
        let heartbeat = dialects::of(self.account.call.dialect).heartbeat().unwrap_or_default();
        Poll::Ready(Bytes::from_static(heartbeat.as_bytes()))
    }
}

impl MessageBody for LateBody {
    type Error = BrokenOff;

    fn size(&self) -> BodySize {
        BodySize::Stream
    }

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Bytes, BrokenOff>>> {
        loop {
            self.phase = match &mut self.phase {
                Phase::Waiting(attempting) => match attempting.as_mut().poll(context) {
                    Poll::Ready(answered) => self.follow(answered),
                    Poll::Pending => return self.poll_heartbeat(context).map(|bytes| Some(Ok(bytes))),
                },
                Phase::Streaming(stream) => return Pin::new(stream).poll_next(context),
                Phase::Ending(frames) => {
                    let (bytes, closing) = ready!(frames.as_mut().poll(context));
                    self.phase = match closing {
                        Closing::Clean => Phase::Over,
                        Closing::Broken => Phase::Lingering(Box::pin(sleep(LINGER))),
                    };
                    return Poll::Ready(Some(Ok(bytes)));
                }
                Phase::Lingering(timer) => {
                    ready!(timer.as_mut().poll(context));
                    self.phase = Phase::Over;
                    return Poll::Ready(Some(Err(BrokenOff)));
                }
                Phase::Over => return Poll::Ready(None),
            };
        }
    }
}
