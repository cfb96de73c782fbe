//! The client as people run it: what it prints, and the exit status that programs go by.

use rstest::rstest;
use serde_json::Value;
use wendor_e2e::ferry::Ferry;
use wendor_e2e::wendor::wendor;
use wendor_standins::fault::Fault;

#[tokio::test]
async fn asking_streams_the_answer_and_ends_with_a_line_about_it() {
    let ferry = Ferry::begin().await;
    let asked = ferry.wendor(&["ask", "night-sailings", "When is the last ferry?"]).await;
    assert_eq!(asked.status, 0, "{}", asked.err);
    assert!(asked.out.len() > 20 && asked.out.ends_with('\n'), "{}", asked.out);
    let line = asked.err.trim();
    // The time before the first attempt takes a cell or none.
    assert!(line.starts_with(['├', '·']) && line.contains('├') && line.contains('▇'), "{line}");
    for part in ["quayside/dunlin-70b", "1 attempt", " in, ", " out", "first token 0.", "EUR"] {
        assert!(line.contains(part), "{part} is not in {line}");
    }
    let json = ferry.wendor(&["ask", "night-sailings", "--json", "When is the last ferry?"]).await;
    let json: Value = serde_json::from_str(&json.out).unwrap();
    assert_eq!(json["text"].as_str().unwrap().trim(), asked.out.trim());
    assert_eq!(json["request"]["request"]["team"], "timetables");
}

#[rstest]
#[case::not_understood(&["usage", "--by", "colour"], 2, "is not one of team, route")]
#[case::no_label(&["usage", "--by", "label: "], 2, "say which label")]
#[case::bad_time(&["usage", "--last", "soon"], 2, "invalid --last `soon`")]
#[case::no_such_route(&["ask", "night-sailing", "hi"], 4, "Nearest: night-sailings.")]
#[case::no_such_request(&["request", "show", "01JDF3-0000000000"], 4, "There is no request")]
#[case::no_such_key(&["key", "revoke", "nobody00"], 4, "There is no key")]
#[case::no_such_team(&["request", "list", "--team", "timetable"], 4, "nearest: `timetables`")]
#[case::bad_filter(&["request", "list", "--end", "lost"], 2, "is not one of proper, output-cap")]
#[case::no_such_file(&["catalogue", "check", "/nowhere.toml"], 2, "cannot be read")]
#[tokio::test]
async fn what_cannot_be_done_says_why_and_exits_so(#[case] args: &[&str], #[case] status: i32, #[case] told: &str) {
    let ferry = Ferry::begin().await;
    let ran = ferry.wendor(args).await;
    assert_eq!((ran.status, ran.out.as_str()), (status, ""), "{}", ran.err);
    assert!(ran.err.contains(told), "{}", ran.err);
}

#[tokio::test]
async fn upstreams_that_fail_and_quotas_have_their_own_exit_status() {
    let quotas = r#"{ measure = "requests", per = "month", limit = 1 }"#.to_owned();
    let ferry = Ferry::with(wendor_e2e::ferry::Wishes { quotas, ..Default::default() }).await;
    ferry.quayside.set_fault(Fault::Refuse).await.unwrap();
    let failed = ferry.wendor(&["ask", "harbour", "hi"]).await;
    assert_eq!(failed.status, 6, "{}", failed.err);
    assert!(failed.err.contains("quayside/dunlin-70b unreachable"), "{}", failed.err);
    let refused = ferry.wendor(&["ask", "harbour", "hi"]).await;
    assert_eq!(refused.status, 5, "{}", refused.err);
    let broken = {
        ferry.quayside.set_fault(Fault::CutMidway).await.unwrap();
        let text = ferry.get("/catalogue").await["text"].as_str().unwrap().replace("limit = 1", "limit = 9");
        ferry.apply(&text).await;
        ferry.wendor(&["ask", "harbour", "hi"]).await
    };
    assert_eq!(broken.status, 6, "{}", broken.err);
    assert!(broken.err.contains("The answer broke off") && broken.err.contains('⌁'), "{}", broken.err);
}

#[rstest]
#[case::no_token(&["usage"], &[], 3, "Not signed in")]
#[case::bad_token(&["usage"], &[("WENDOR_TOKEN", "wdt-nonsense")], 3, "must be whole")]
#[case::no_key(&["ask", "night-sailings", "hi"], &[], 3, "No key: set WENDOR_KEY")]
#[case::nothing_there(&["team", "list"], &[("WENDOR_URL", "http://127.0.0.1:9"), ("WENDOR_TOKEN", "x")], 7, "nothing answers there")]
#[case::unknown_command(&["fly"], &[], 2, "unrecognized subcommand")]
#[tokio::test]
async fn without_what_it_needs_a_command_says_what_is_missing(
    #[case] args: &[&str],
    #[case] environment: &[(&str, &str)],
    #[case] status: i32,
    #[case] told: &str,
) {
    let ferry = Ferry::begin().await;
    let url = ferry.service.url.clone();
    let environment = [&[("WENDOR_URL", url.as_str())], environment].concat();
    let ran = wendor(args, &environment, "").await;
    assert_eq!(ran.status, status, "{}", ran.err);
    assert!(ran.err.contains(told), "{}", ran.err);
}

#[tokio::test]
async fn lists_are_columns_for_people_and_json_for_programs() {
    let ferry = Ferry::begin().await;
    let empty = ferry.wendor(&["request", "list"]).await;
    assert!(empty.out.starts_with("No matching requests."), "{}", empty.out);
    ferry.wendor(&["ask", "night-sailings", "hi"]).await;
    ferry.drained().await;
    for (args, head) in [
        (["request", "list"], "request "),
        (["key", "list"], "key "),
        (["team", "list"], "team "),
        (["route", "list"], "route "),
        (["upstream", "list"], "upstream "),
        (["token", "list"], "token "),
        (["person", "list"], "person "),
        (["catalogue", "revisions"], "revision "),
    ] {
        let listed = ferry.wendor(&args).await;
        assert_eq!(listed.status, 0, "{args:?}: {}", listed.err);
        assert!(
            listed.out.trim_start().starts_with(head) && listed.out.lines().count() >= 2,
            "{args:?}\n{}",
            listed.out
        );
        assert!(listed.out.lines().all(|line| line.trim_end() == line), "{args:?} has blanks at the ends of lines");
        let json = ferry.wendor(&[&args[..], &["--json"]].concat()).await;
        assert!(serde_json::from_str::<Value>(&json.out).is_ok(), "{args:?}\n{}", json.out);
    }
    let spool = ferry.wendor(&["spool", "show"]).await.out;
    assert!(spool.starts_with("Nothing is pending"), "{spool}");
}

#[tokio::test]
async fn a_one_time_sign_in_works_once_and_keeps_a_private_token() {
    let ferry = Ferry::begin().await;
    let database = [("WENDOR_DATABASE_URL", ferry.database.url.as_str())];
    let added = wendor(&["person", "add", "duty-desk", "--role", "operator"], &database, "").await;
    let home = ferry.folder().join("home");
    let environment = [("XDG_CONFIG_HOME", home.to_str().unwrap())];
    let sign_in = ["sign-in", "--url", ferry.service.url.as_str()];
    let signed_in = wendor(&sign_in, &environment, &added.out).await;
    assert_eq!(signed_in.status, 0, "{}", signed_in.err);
    assert!(signed_in.out.contains("as duty-desk"), "{}", signed_in.out);
    let kept = home.join("wendor/client.toml");
    let mode = std::os::unix::fs::PermissionsExt::mode(&std::fs::metadata(&kept).unwrap().permissions());
    assert_eq!(mode & 0o777, 0o600);
    assert_eq!(wendor(&["team", "list"], &environment, "").await.status, 0, "url and token are kept");
    let again = wendor(&sign_in, &environment, &added.out).await;
    assert_eq!(again.status, 3);
    assert!(again.err.contains("was used or has expired"), "{}", again.err);
    let twice = wendor(&["person", "add", "duty-desk", "--role", "operator"], &database, "").await;
    assert!(twice.status == 2 && twice.err.contains("`duty-desk` exists already"), "{}", twice.err);
    let no_team = wendor(&["person", "add", "clerk", "--role", "lead"], &database, "").await;
    assert!(no_team.err.contains("a lead belongs to a team"), "{}", no_team.err);
}

#[tokio::test]
async fn serve_check_tells_where_each_setting_came_from_and_starts_nothing() {
    let ferry = Ferry::begin().await;
    let environment = [("WENDOR_DATABASE_URL", ferry.database.url.as_str()), ("WENDOR_GRACE", "5s")];
    let output = wendor(&["serve", "--check", "--listen", "127.0.0.1:9"], &environment, "").await;
    assert_eq!(output.status, 0, "{}", output.err);
    let words = output.out.split_whitespace().collect::<Vec<_>>().join(" ");
    let schema = format!("schema {}", wendor_store::Store::known_schema());
    for line in [
        schema.as_str(),
        "It would listen on http://127.0.0.1:9",
        "listen 127.0.0.1:9 flag",
        "grace 5s environment",
        "spool_sync always default",
    ] {
        assert!(words.contains(line), "{line} is not in\n{}", output.out);
    }
    let wrong = wendor(&["serve", "--check", "--workers", "none"], &[], "").await;
    assert_eq!(wrong.status, 2);
    assert!(
        wrong.err.contains("workers (flag): `none` is invalid") && wrong.err.contains("database_url (default)"),
        "{}",
        wrong.err
    );
}
