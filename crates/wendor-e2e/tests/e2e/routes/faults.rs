//! The fault table: every fault of a server, with a stage behind it and without, streamed and whole, for an app of each dialect: what it
//! gets, what is recorded, and in which time. The table was written down before the code.

use std::time::{Duration, Instant};

use futures_util::future::join_all;
use rstest::rstest;
use serde_json::Value;
use wendor_e2e::ferry::{Ferry, header};
use wendor_standins::fault::Fault;
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::frames::FrameDecoder;

use crate::errors::request;

const MODEL: &str = "dunlin-7b";

/// The longest time of a cell: the longest of its deadlines and a good while for a busy machine.
const LONGEST: Duration = Duration::from_secs(20);

/// What an app gets.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Gets {
    /// The answer, from the offer that was asked first.
    Answer,
    /// With a stage behind it the answer of that one; without one this status.
    Next(u16),
    /// The rejection by this status, whether there is a stage behind it or not.
    Rejection(u16),
    /// An answer that begins and breaks off, told as its dialect can.
    BrokenOff,
}

/// A fault, and by streamed and whole: what an app gets, and the kind recorded of the first attempt.
type Row = (&'static str, Fault, (Gets, &'static str), (Gets, &'static str));

fn status(status: u16, retry_after: Option<u32>) -> Fault {
    Fault::Status { status, retry_after }
}

fn table() -> Vec<Row> {
    let both = |name, fault, gets, kind| (name, fault, (gets, kind), (gets, kind));
    vec![
        both("well", Fault::None, Gets::Answer, ""),
        both("late", Fault::Slow { millis: 150, percent: 100 }, Gets::Answer, ""),
        both("refused", Fault::Refuse, Gets::Next(502), "unreachable"),
        both("rejected", status(400, None), Gets::Rejection(400), "rejected"),
        both("speechless", Fault::Speechless { status: 400 }, Gets::Next(400), "malformed"),
        both("speechless-422", Fault::Speechless { status: 422 }, Gets::Next(422), "malformed"),
        both("credential", status(401, None), Gets::Next(502), "misconfigured"),
        both("forbidden", status(403, None), Gets::Next(502), "misconfigured"),
        both("no-model", status(404, None), Gets::Next(502), "misconfigured"),
        both("waited-for", status(408, None), Gets::Next(504), "timed-out"),
        both("too-long", status(413, None), Gets::Rejection(413), "too-long"),
        both("limited", status(429, None), Gets::Next(503), "rate-limited"),
        both("limited-until", status(429, Some(9)), Gets::Next(429), "rate-limited"),
        both("broken", status(500, None), Gets::Next(502), "server-error"),
        both("bad-gateway", status(502, None), Gets::Next(502), "server-error"),
        both("busy", status(503, None), Gets::Next(503), "overloaded"),
        both("overloaded", status(529, None), Gets::Next(503), "overloaded"),
        both("says-nothing", Fault::StallBeforeFirst, Gets::Next(504), "timed-out"),
        ("role-alone", Fault::StallAfterRole, (Gets::Next(504), "timed-out"), (Gets::Next(502), "cut-off")),
        ("stalls", Fault::StallMidway, (Gets::BrokenOff, "timed-out"), (Gets::Next(502), "cut-off")),
        ("cut", Fault::CutMidway, (Gets::BrokenOff, "cut-off"), (Gets::Next(502), "cut-off")),
        ("ended", Fault::EndMidway, (Gets::BrokenOff, "cut-off"), (Gets::Next(502), "malformed")),
        both("garbage", Fault::Garbage, Gets::Next(502), "malformed"),
        ("garbage-midway", Fault::GarbageMidway, (Gets::BrokenOff, "malformed"), (Gets::Next(502), "malformed")),
    ]
}

/// One cell of the table, with a server of its own: what befalls one says nothing of another.
struct Cell {
    row: Row,
    streamed: bool,
    has_next: bool,
    standin: StandIn,
}

impl Cell {
    fn name(&self) -> String {
        let (streamed, next) =
            (if self.streamed { "stream" } else { "whole" }, if self.has_next { "next" } else { "alone" });
        format!("{}-{streamed}-{next}", self.row.0)
    }

    fn catalogue(&self) -> String {
        let (name, address) = (self.name(), self.standin.address());
        let next = if self.has_next { ", { offers = [\"quarry/fulmar-large\"] }" } else { "" };
        format!(
            "[upstreams.{name}]\naddress = \"http://{address}\"\nhosting = \"own\"\noffers.{MODEL} = {{}}\n\
             [routes.{name}]\nstages = [{{ offers = [\"{name}/{MODEL}\"], first_event = \"600ms\", reply = \"600ms\", \
             between_events = \"600ms\" }}{next}]\n"
        )
    }
}

async fn cells() -> Vec<Cell> {
    let mut cells = Vec::new();
    for row in table() {
        for (streamed, has_next) in [(true, true), (true, false), (false, true), (false, false)] {
            let standin = StandIn::start(Profile::quick(row.0, &[MODEL])).await.unwrap();
            cells.push(Cell { row: row.clone(), streamed, has_next, standin });
        }
    }
    // Once all have their ports: one that refuses gives its own away.
    for cell in &cells {
        cell.standin.set_fault(cell.row.1.clone()).await.unwrap();
    }
    cells
}

/// Whether an answer as an app of that dialect gets it is a proper one.
pub fn is_proper(dialect: Dialect, streamed: bool, body: &[u8]) -> bool {
    let codec = dialects::of(dialect);
    if !streamed {
        return codec.read_whole(body).is_ok();
    }
    let (mut decoder, mut reader, mut events) = (FrameDecoder::new(codec.framing()), codec.reader(), Vec::new());
    if decoder.push(body).is_err() {
        return false;
    }
    while let Some(frame) = decoder.next_frame() {
        if frame.data.is_some_and(|data| reader.read(&data, &mut events).is_err()) {
            return false;
        }
    }
    reader.is_finished()
}

async fn check(ferry: &Ferry, dialect: Dialect, cell: &Cell) {
    let name = cell.name();
    let (path, body) = request(dialect, &name, cell.streamed);
    let began = Instant::now();
    let answer = ferry.http.post(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key).json(&body).send();
    let answer = answer.await.unwrap();
    let (status, id) = (answer.status().as_u16(), header(&answer, "wendor-request-id"));
    let offer = header(&answer, "wendor-offer");
    // One dialect's clients see nothing but a broken connection.
    let bytes = answer.bytes().await.map(|bytes| bytes.to_vec());
    let (gets, kind) = if cell.streamed { cell.row.2 } else { cell.row.3 };
    assert!(began.elapsed() < LONGEST, "{dialect} {name}: {:?}", began.elapsed());
    let proper = bytes.as_ref().is_ok_and(|bytes| is_proper(dialect, cell.streamed, bytes));
    let (expected, is_answer, from) = match (gets, cell.has_next) {
        (Gets::Answer, _) => (200, true, name.as_str()),
        (Gets::Next(_), true) => (200, true, "quarry"),
        (Gets::Next(status), false) | (Gets::Rejection(status), _) => (status, false, ""),
        (Gets::BrokenOff, _) => (200, false, name.as_str()),
    };
    let text = bytes.map(|bytes| String::from_utf8_lossy(&bytes).into_owned());
    assert_eq!((status, proper), (expected, is_answer), "{dialect} {name}: {text:?}");
    assert!(offer.starts_with(from), "{dialect} {name}: {offer}");
    let shown = ferry.request(&id).await;
    let first = &shown["attempts"][0]["failure"];
    let wanted = if kind.is_empty() { Value::Null } else { Value::from(kind) };
    assert_eq!(*first, wanted, "{dialect} {name}: {shown}");
    let attempts = if matches!(gets, Gets::Next(_)) && cell.has_next { 2 } else { 1 };
    assert_eq!(shown["request"]["attempts"], attempts, "{dialect} {name}");
}

#[rstest]
#[tokio::test]
async fn what_an_app_gets(
    #[values(
        Dialect::ChatCompletions,
        Dialect::Responses,
        Dialect::Messages,
        Dialect::GenerateContent,
        Dialect::LocalChat
    )]
    dialect: Dialect,
) {
    let ferry = Ferry::begin().await;
    let cells = cells().await;
    let own = ferry.catalogue(&Default::default());
    let all: String = std::iter::once(own).chain(cells.iter().map(Cell::catalogue)).collect::<Vec<_>>().join("\n");
    ferry.apply(&all).await;
    // Not all at once: the next server is given no more extra attempts than it is meant to be.
    for some in cells.chunks(8) {
        join_all(some.iter().map(|cell| check(&ferry, dialect, cell))).await;
    }
}
