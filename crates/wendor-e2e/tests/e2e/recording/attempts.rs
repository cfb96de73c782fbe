//! What attempts used that did not answer, and apps that gave up.

use rstest::rstest;
use rust_decimal::Decimal;
use serde_json::json;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::waiting::until;
use wendor_standins::fault::Fault;
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;

use super::{together, used};

fn money(value: &serde_json::Value) -> Decimal {
    value.as_str().unwrap_or_else(|| panic!("{value}")).parse().unwrap()
}

#[tokio::test]
async fn an_attempt_given_up_on_a_deadline_is_money_of_its_own() {
    let quotas = r#"{ measure = "cost", per = "month", limit = 10 }, { measure = "tokens", per = "month", limit = 100000 }, { measure = "requests", per = "month", limit = 10 }"#;
    let ferry = Ferry::with(Wishes { quotas: quotas.to_owned(), ..Wishes::default() }).await;
    ferry.quayside.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", true)).await;
    assert_eq!(header(&answer, "wendor-offer"), "quarry/fulmar-large");
    let id = header(&answer, "wendor-request-id");
    answer.bytes().await.unwrap();
    ferry.drained().await;
    let shown = ferry.request(&id).await;
    let spent = &shown["attempts"][0];
    assert_eq!(
        (&spent["failure"], &spent["used_estimated"], &spent["used"]["output"]),
        (&json!("timed-out"), &json!(true), &json!(0)),
        "{shown}"
    );
    assert!(spent["used"]["all_input"].as_u64().unwrap() > 10, "its input was read: {spent}");
    assert_eq!(shown["failed_cost"], spent["used_cost"]);
    let sums = together(&ferry).await;
    assert_eq!((&sums["requests"], &sums["failed_attempts"]["count"]), (&json!(1), &json!(1)));
    assert_eq!(sums["failed_attempts"]["cost"], spent["used_cost"]);
    assert_eq!(money(&sums["cost"]), money(&shown["request"]["cost"]) + money(&spent["used_cost"]));
    assert_eq!(money(&used(&ferry, "cost").await), money(&sums["cost"]), "the quota counts both");
    let tokens = sums["tokens"]["all_input"].as_u64().unwrap() + sums["tokens"]["output"].as_u64().unwrap();
    assert_eq!(used(&ferry, "tokens").await, json!(tokens.to_string()));
    assert_eq!(used(&ferry, "requests").await, json!("1"), "and it was one request");
    let mut connection = ferry.database.connect().await;
    let lines: Vec<(String, String)> =
        sqlx::query_as("select kind, offer from ledger order by kind").fetch_all(&mut connection).await.unwrap();
    let expected = [("attempt", "quayside/dunlin-70b"), ("request", "quarry/fulmar-large")];
    assert_eq!(lines, expected.map(|(kind, offer)| (kind.to_owned(), offer.to_owned())));
    let printed = ferry.wendor(&["usage"]).await.out;
    assert!(printed.contains("went to 1 attempt that did not answer."), "{printed}");
    sqlx::query("update ledger set kind = 'refund' where kind = 'attempt'").execute(&mut connection).await.unwrap_err();
}

/// An attempt that could not have used anything leaves no line.
#[rstest]
#[case::nobody_listens(Fault::Refuse)]
#[case::it_breaks_down(Fault::Status { status: 500, retry_after: None })]
#[case::it_has_no_room(Fault::Status { status: 429, retry_after: None })]
#[tokio::test]
async fn an_attempt_that_used_nothing_has_no_line(#[case] fault: Fault) {
    let ferry = Ferry::begin().await;
    ferry.quayside.set_fault(fault).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    assert_eq!(header(&answer, "wendor-attempts"), "2");
    ferry.drained().await;
    let sums = together(&ferry).await;
    assert_eq!((&sums["requests"], &sums["failed_attempts"]["count"]), (&json!(1), &json!(0)));
}

/// An app that goes away after an attempt has failed was not answered; one that goes away at once has only cancelled.
#[rstest]
#[case::after_a_failure(Fault::Status { status: 500, retry_after: None }, "night-sailings", "abandoned", 1)]
#[case::at_once(Fault::StallBeforeFirst, "harbour", "cancelled", 0)]
#[tokio::test]
async fn an_app_that_gives_up_while_it_waits_was_not_answered(
    #[case] fault: Fault,
    #[case] route: &str,
    #[case] end: &str,
    #[case] not_answered: u64,
) {
    let ferry = Ferry::with(Wishes { patience: Some("30s"), ..Wishes::default() }).await;
    ferry.quayside.set_fault(fault).await.unwrap();
    ferry.quarry.set_fault(Fault::StallBeforeFirst).await.unwrap();
    let waited_for = if route == "harbour" { &ferry.quayside } else { &ferry.quarry };
    let body = question(route, true);
    tokio::select! {
        _answer = ferry.ask(&body) => panic!("a stalled upstream has answered"),
        () = until("it to be waited for", || async { (waited_for.tally().requests > 0).then_some(()) }) => {}
    }
    let line = until("it to be recorded", || async {
        ferry.get("/requests").await["requests"].as_array().unwrap().first().cloned()
    })
    .await;
    assert_eq!((&line["end"], &line["tokens"]["all_input"]), (&json!(end), &json!(0)), "{line}");
    let sums = together(&ferry).await;
    assert_eq!((&sums["not_answered"], &sums["cancelled"]), (&json!(not_answered), &json!(1 - not_answered)));
    assert_eq!(sums["failed_attempts"]["count"], 1, "the one that was waited for had read the input");
    let shown = ferry.wendor(&["usage"]).await.out;
    assert!(shown.contains("cancelled"), "{shown}");
}

/// What is reported on the way is not all of it: the larger of reported and estimated counts, in every dialect.
#[rstest]
#[tokio::test]
async fn streams_that_do_not_end_count_what_had_come(
    #[values(
        Dialect::ChatCompletions,
        Dialect::Responses,
        Dialect::Messages,
        Dialect::GenerateContent,
        Dialect::LocalChat
    )]
    dialect: Dialect,
    #[values(Fault::CutMidway, Fault::StallMidway)] fault: Fault,
) {
    let ferry = Ferry::begin().await;
    let profile = Profile { dialect, answer_tokens: (80, 80), ..Profile::quick("skerry", &["dunlin-7b"]) };
    let standin = StandIn::start(profile).await.unwrap();
    let stage = r#"{ offers = ["skerry/dunlin-7b"], between_events = "20s" }"#;
    ferry
        .apply(&format!(
            "[upstreams.skerry]\naddress = \"http://{}\"\ndialect = \"{dialect}\"\nhosting = \"own\"\n\
         offers.dunlin-7b = {{ rates = [{{ from = 2026-01-01, input = 1, output = 2 }}] }}\n\
         [routes.tides]\nstages = [{stage}]\n[teams.timetables]\n",
            standin.address()
        ))
        .await;
    let is_cut = fault == Fault::CutMidway;
    standin.set_fault(fault).await.unwrap();
    let conversation = wendor_wire::conversation::Conversation {
        dialect,
        delivery: wendor_wire::conversation::Delivery::Streamed(wendor_wire::conversation::UsageFrame::Asked),
        ..plain()
    };
    let target = target(dialect);
    let body = dialects::of(dialect).write_request(&conversation, &target);
    let url = format!("{}{}", ferry.service.url, dialects::of(dialect).path("tides", true));
    let request = ferry.http.post(url).bearer_auth(&ferry.key).header("content-type", "application/json").body(body);
    let mut answer = request.send().await.unwrap();
    assert_eq!(answer.status(), 200);
    let id = header(&answer, "wendor-request-id");
    let mut came = Vec::new();
    // A cut one is read to its break, one that stalls is left after some pieces.
    while is_cut || came.len() < 200 {
        match answer.chunk().await {
            Ok(Some(part)) => came.extend_from_slice(&part),
            Ok(None) | Err(_) => break,
        }
    }
    drop(answer);
    let shown = ferry.request(&id).await;
    let end = if is_cut { "cut-off" } else { "cancelled" };
    assert_eq!((&shown["request"]["end"], &shown["request"]["estimated"]), (&json!(end), &json!(true)), "{shown}");
    let tokens = &shown["request"]["tokens"];
    let (input, output) = (tokens["all_input"].as_u64().unwrap(), tokens["output"].as_u64().unwrap());
    assert!(input > 0 && output > 3, "{input} in, {output} out; what came: {}", String::from_utf8_lossy(&came));
}

/// A short question.
fn plain() -> wendor_wire::conversation::Conversation {
    let body = question("tides", true).to_string();
    let outside = wendor_wire::codec::Outside { is_streamed: true, ..Default::default() };
    let mut read = dialects::of(Dialect::ChatCompletions).read_request(&body, outside).unwrap();
    read.output_limit = Some(400);
    read
}

fn target(dialect: Dialect) -> wendor_wire::verdict::Target<'static> {
    wendor_wire::verdict::Target {
        dialect,
        model: "tides",
        marks: &[],
        controls: wendor_wire::ability::Controls::default(),
        seals: wendor_wire::seal::SealDomain::unmarked(),
        output_cap: None,
    }
}
