//! The service is killed, and the power is lost, at random moments under load.

use std::collections::BTreeMap;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use rstest::rstest;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::fault::Fault;
use wendor_standins::server::{Outcome, Profile, Served};

use super::load::{Load, check_recorded};
use super::{of, tell};

const QUOTAS: &str = r#"{ measure = "requests", per = "month", limit = 100000000 }, { measure = "tokens", per = "month", limit = 100000000000 }, { measure = "cost", per = "month", limit = 100000000 }"#;

/// An installation whose first offer tells its input at once, and fails in all the ways that cost something or nothing.
async fn begin(settings: Vec<(&'static str, String)>) -> Ferry {
    let dialect = wendor_wire::dialect::Dialect::Messages;
    let quayside = Profile { dialect, ..Profile::quick("quayside", &["dunlin-70b"]) };
    let wishes = Wishes { quotas: QUOTAS.to_owned(), quayside: Some(quayside), settings, ..Wishes::default() };
    let ferry = Ferry::with(wishes).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let messages = text.replacen("dialect = \"chat-completions\"", "dialect = \"messages\"", 2).replacen(
        "dialect = \"messages\"",
        "dialect = \"chat-completions\"",
        1,
    );
    // Upstreams stand in the order of their names: quarry is the first of the two.
    // A stall is given up soon, so that what it used is recorded between two ends.
    ferry.apply(&messages.replace("first_event = \"500ms\"", "first_event = \"100ms\"")).await;
    ferry
}

const FAULTS: [Fault; 5] = [
    Fault::StallAfterRole,
    Fault::None,
    Fault::Status { status: 500, retry_after: None },
    Fault::CutMidway,
    Fault::None,
];

/// Under load, does `end` to the service so many times at random moments, and starts it again.
async fn under_load(ferry: &mut Ferry, times: usize, end: impl Fn(&mut Ferry)) -> super::load::Seen {
    let load = Load::begin(ferry, 12, Duration::from_millis(2));
    let mut random = SmallRng::seed_from_u64(50);
    for round in 0..times {
        let fault = FAULTS[round % FAULTS.len()].clone();
        ferry.quayside.set_fault(fault.clone()).await.unwrap();
        if fault == Fault::StallAfterRole {
            let left = ferry.quayside.tally().client_left;
            // Streams are given up, whole answers break at once: after three of these the offer rests, and one attempt is made at a time,
            // ever later. So no more can be waited for than one.
            let given_up = || async { (ferry.quayside.tally().client_left > left).then_some(()) };
            wendor_e2e::waiting::until("an attempt to be given up", given_up).await;
        }
        // A moment that nothing else decides; some answers lie before it.
        let before = load.answered();
        let wait = Duration::from_micros(random.random_range(20_000..400_000));
        tokio::time::sleep(wait).await;
        wendor_e2e::waiting::until("an answer", || async { (load.answered() > before + 5).then_some(()) }).await;
        end(ferry);
        ferry.restart().await;
        load.goes_to(ferry);
        if (round + 1) % 10 == 0 {
            tell(&format!("{} of {times} ends, {} answers seen", round + 1, load.answered()));
        }
    }
    ferry.quayside.set_fault(Fault::None).await.unwrap();
    load.end().await
}

/// Input and output that the stand-ins say of one request; one attempt `is_untold` when it was given up before its server said anything.
fn told(known: &[Served], is_untold: bool) -> (i64, i64) {
    // One that breaks the connection before it has said anything has told nothing that could be counted.
    let has_told = |one: &&Served| one.outcome != Outcome::Fault;
    let (whole, others): (Vec<&Served>, Vec<&Served>) =
        known.iter().filter(has_told).partition(|one| one.outcome == Outcome::Served);
    // A whole reply may be written out just when it is given up, and nobody reads it then. One of them was the answer.
    let answers = &whole[if is_untold { whole.len().saturating_sub(1) } else { 0 }..];
    let input: u64 = answers.iter().chain(&others).map(|one| one.input_tokens).sum();
    let output: u64 = answers.iter().map(|one| one.output_tokens).sum();
    (i64::try_from(input).unwrap(), i64::try_from(output).unwrap())
}

/// What the ledger has of each request that an app saw the end of equals what the stand-ins say of it, attempts that failed included.
async fn check_tokens(ferry: &Ferry, ids: &[String]) -> usize {
    let mut served: BTreeMap<String, Vec<Served>> = BTreeMap::new();
    for one in [ferry.quayside.served(), ferry.quarry.served()].concat() {
        if let Some(id) = one.request.clone() {
            served.entry(id).or_default().push(one);
        }
    }
    let mut connection = ferry.database.connect().await;
    let lines: Vec<(String, String, bool, i64, i64)> = sqlx::query_as(
        "select request, kind, streamed, tokens_input + tokens_input_cached + tokens_cache_written, tokens_output from ledger where request = any($1)",
    )
    .bind(ids)
    .fetch_all(&mut connection)
    .await
    .unwrap();
    // On a busy machine an attempt may be given up before its stream has opened: then nobody was told anything of it.
    let untold: Vec<String> = sqlx::query_scalar(
        "select entry_id from request_detail, jsonb_array_elements(detail -> 'attempts') attempt
         where entry_id = any($1) and attempt -> 'failure' ->> 'detail' like 'no answer within%'",
    )
    .bind(ids)
    .fetch_all(&mut connection)
    .await
    .unwrap();
    let mut failed = 0;
    let mut by_request: BTreeMap<&str, (i64, i64)> = BTreeMap::new();
    for (request, kind, streamed, input, output) in &lines {
        let sums = by_request.entry(request).or_default();
        let is_attempt = kind == "attempt";
        // A stream tells its input at its opening; of a whole reply that never came nobody knows more than an estimate, which is taken
        // for what the stand-in says.
        let known = served[request].iter().find(|one| one.outcome == Outcome::ClientLeft);
        sums.0 += match (is_attempt, untold.contains(request), known) {
            (true, is_untold, Some(one)) if is_untold || !streamed => i64::try_from(one.input_tokens).unwrap(),
            // It was sent, and its server had not read it yet: the ledger has what it may have cost.
            (true, true, None) => 0,
            _ => *input,
        };
        sums.1 += if is_attempt { 0 } else { *output };
        failed += usize::from(is_attempt);
    }
    for (id, (input, output)) in by_request {
        let known = &served[id];
        let expected = told(known, untold.iter().any(|entry| entry == id));
        let shown = ferry.get(&format!("/requests/{id}")).await;
        assert_eq!((input, output), expected, "{id}: {known:?}, {}", shown["attempts"]);
    }
    failed
}

#[tokio::test]
async fn killed_at_random_moments_no_answer_is_lost_and_none_is_doubled() {
    let kills = of(5, 50);
    let mut ferry = begin(Vec::new()).await;
    let seen = under_load(&mut ferry, kills, |ferry| ferry.service.kill()).await;
    check_recorded(&ferry, &seen).await;
    let failed = check_tokens(&ferry, &seen.whole).await;
    assert!(failed > 0, "attempts that failed and used something are part of the drill");
    tell(&format!(
        "crash: {kills} kills, {} answers seen to their end, each recorded once; {failed} failed attempts among them; sums equal the stand-ins'",
        seen.whole.len()
    ));
}

/// The layer that keeps what was synced, built once a test.
fn layer(folder: &Path) -> String {
    let library = folder.join("unsynced.so");
    let source = concat!(env!("CARGO_MANIFEST_DIR"), "/tests/e2e/drills/unsynced.c");
    let built = Command::new("cc").args(["-shared", "-fPIC", "-O1", "-o"]).arg(&library).arg(source).status();
    assert!(built.expect("a C compiler is there").success());
    library.display().to_string()
}

/// The spool's folder as a disk may have it after the power was lost: what was synced, and nothing else.
fn lose_what_was_not_synced(spool: &Path, store: &Path) {
    let names = std::fs::read_to_string(store.join("names")).expect("the folder was synced once");
    for file in std::fs::read_dir(spool).unwrap() {
        let path = file.unwrap().path();
        if path.is_file() {
            std::fs::remove_file(path).unwrap();
        }
    }
    let kept: Vec<(Vec<u8>, &str)> = names
        .lines()
        .filter_map(|line| line.split_once(' '))
        .map(|(inode, name)| (std::fs::read(store.join(inode)).unwrap_or_default(), name))
        .collect();
    // Inodes of the new files are others, and mean others.
    for file in std::fs::read_dir(store).unwrap() {
        std::fs::remove_file(file.unwrap().path()).unwrap();
    }
    let mut names = String::new();
    for (content, name) in kept {
        std::fs::write(spool.join(name), &content).unwrap();
        // What is left stays on the disk.
        let inode = std::os::unix::fs::MetadataExt::ino(&std::fs::metadata(spool.join(name)).unwrap());
        std::fs::write(store.join(inode.to_string()), content).unwrap();
        names.push_str(&format!("{inode} {name}\n"));
    }
    std::fs::write(store.join("names"), names).unwrap();
}

#[rstest]
#[case::always("always", true)]
#[case::never("never", false)]
#[tokio::test]
async fn a_loss_of_power_costs_what_the_setting_says(#[case] sync: &str, #[case] keeps_all: bool) {
    let losses = of(3, 50);
    let folder = tempfile::tempdir().unwrap();
    let store = folder.path().join("durable");
    std::fs::create_dir(&store).unwrap();
    let mut ferry = begin(vec![("WENDOR_SPOOL_SYNC", "always".to_owned())]).await;
    ferry.service.kill();
    ferry.start.environment.retain(|(name, _)| name != "WENDOR_SPOOL_SYNC");
    ferry.start.environment.extend([
        ("WENDOR_SPOOL_SYNC".to_owned(), sync.to_owned()),
        ("LD_PRELOAD".to_owned(), layer(folder.path())),
        ("DRILL_FOLDER".to_owned(), ferry.start.spool.canonicalize().unwrap().display().to_string()),
        ("DRILL_STORE".to_owned(), store.display().to_string()),
    ]);
    // The first start under the layer makes the folder durable as it is.
    std::fs::remove_dir_all(&ferry.start.spool).unwrap();
    ferry.restart().await;
    let spool = ferry.start.spool.clone();
    let seen = under_load(&mut ferry, losses, |ferry| {
        ferry.service.kill();
        if store.join("names").exists() {
            lose_what_was_not_synced(&spool, &store);
        } else {
            std::fs::remove_dir_all(&spool).unwrap();
        }
    })
    .await;
    ferry.drained().await;
    let mut connection = ferry.database.connect().await;
    let recorded: i64 = sqlx::query_scalar("select count(*) from unnest($1::text[]) id where exists (select from ledger where request = id and kind = 'request')")
        .bind(&seen.whole)
        .fetch_one(&mut connection)
        .await
        .unwrap();
    let lost = seen.whole.len() - usize::try_from(recorded).unwrap();
    tell(&format!(
        "power, spool_sync = {sync}: {losses} losses, {} answers seen to their end, {lost} of them lost",
        seen.whole.len()
    ));
    if keeps_all {
        check_recorded(&ferry, &seen).await;
        check_tokens(&ferry, &seen.whole).await;
    } else {
        assert!(lost > 0, "the drill must be able to lose something");
    }
}
