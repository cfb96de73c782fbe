//! `wendor request follow`: requests while they are under way, a line at each step, and one at the end.

use std::collections::BTreeMap;
use std::time::Duration;

use wendor_gateway::admin::requests::RequestLine;
use wendor_gateway::admin::under_way::{UnderWayLine, UnderWayShown};

use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::FollowArgs;
use crate::output::{self, Reader};
use crate::words;

/// How often it is looked.
const EVERY: Duration = Duration::from_millis(500);

/// What was told of a request last: step, offer, attempt, place.
type Printed = (String, Option<String>, Option<u32>, Option<usize>);

pub(super) async fn run(args: FollowArgs, management: &Management, reader: Reader) -> Result<(), Failure> {
    let FollowArgs { id, team, route, upstream } = args;
    let mut printed: BTreeMap<String, Printed> = BTreeMap::new();
    let mut after: Option<u64> = None;
    loop {
        let query = [
            ("request", id.clone()),
            ("team", team.clone()),
            ("route", route.clone()),
            ("upstream", upstream.clone()),
            ("after", after.map(|after| after.to_string())),
        ];
        let looked: UnderWayShown = management.get("/requests/under-way", &query).await?;
        for request in &looked.requests {
            // Places change all the time; they are told of the one that is followed.
            let place = request.place.filter(|_| id.is_some());
            let step = (request.step.clone(), request.offer.clone(), request.attempt, place);
            if printed.insert(request.id.clone(), step.clone()) != Some(step) {
                tell(reader, request, || step_line(request))?;
            }
        }
        for request in &looked.ended {
            printed.remove(&request.id);
            tell(reader, request, || end_line(request))?;
        }
        if let Some(id) = &id {
            let is_open = looked.requests.iter().any(|request| request.id == *id);
            if !looked.ended.is_empty() {
                return Ok(());
            }
            if !is_open {
                return has_ended(id, management, reader).await;
            }
        } else if after.is_none() && looked.count == 0 && reader == Reader::Person {
            output::note("Nothing is under way; what comes is shown. Ctrl-C ends it.");
        }
        after = Some(looked.cursor);
        tokio::time::sleep(EVERY).await;
    }
}

/// One that was not under way when it was looked for.
async fn has_ended(id: &str, management: &Management, reader: Reader) -> Result<(), Failure> {
    use wendor_gateway::admin::requests::RequestShown;
    let shown: RequestShown = management.get(&format!("/requests/{}", part(id)), &[]).await?;
    tell(reader, &shown.request, || end_line(&shown.request))
}

/// A line for people; for programs the same as JSON, an object a line.
fn tell<T: serde::Serialize>(reader: Reader, line: &T, words: impl FnOnce() -> String) -> Result<(), Failure> {
    match reader {
        Reader::Program => output::json_line(line),
        Reader::Person => output::line(&words()),
    }
}

fn head(at: chrono::DateTime<chrono::Utc>, id: &str, team: &str, route: &str) -> String {
    format!("{}  {id}  {team}  {route}", at.format("%H:%M:%S"))
}

fn step_line(request: &UnderWayLine) -> String {
    let offer = request.offer.as_deref().unwrap_or_default();
    let says = match request.step.as_str() {
        "waiting for room" => match request.place {
            Some(place) => format!("waits for room at {offer}, place {place}"),
            None => format!("waits for room at {offer}"),
        },
        "waiting for a load" => format!("waits while {offer} loads its model"),
        "sent" => match request.attempt {
            Some(number) if number > 1 => format!("sent to {offer}, attempt {number}"),
            Some(_) | None => format!("sent to {offer}"),
        },
        "answering" => format!("answered by {offer}"),
        _ => "planned".to_owned(),
    };
    // When it came to this step, not when it was looked at.
    let after_ms = request.whole_ms.saturating_sub(request.step_ms);
    let at = request.at + chrono::TimeDelta::milliseconds(i64::try_from(after_ms).unwrap_or(i64::MAX));
    let after = words::exact_wait(after_ms);
    format!("{}  {says}, {after} after it arrived", head(at, &request.id, &request.team, &request.route))
}

fn end_line(request: &RequestLine) -> String {
    let ended = request.at + chrono::TimeDelta::milliseconds(i64::try_from(request.whole_ms).unwrap_or(i64::MAX));
    let mut parts = vec![format!("ended {} after {}", request.end, words::exact_wait(request.whole_ms))];
    parts.extend(request.failure.as_ref().filter(|failure| **failure != request.end).cloned());
    if request.attempts != 1 {
        parts.push(format!("{} attempts", request.attempts));
    }
    if request.waited_ms > 0 {
        parts.push(format!("waited {}", words::exact_wait(request.waited_ms)));
    }
    parts.extend(request.first_token_ms.map(|wait| format!("first token after {}", words::exact_wait(wait))));
    parts.push(format!("{} output tokens", words::grouped(request.tokens.output)));
    format!("{}  {}", head(ended, &request.id, &request.team, &request.route), parts.join(", "))
}
