//! The client's manners, as docs/client.md says them: widths, colours, letters, errors, closed pipes and full disks.

use std::process::{Command, Stdio};

use rstest::rstest;
use serde_json::Value;
use wendor_e2e::ferry::Ferry;
use wendor_e2e::service::binary;
use wendor_e2e::wendor::{Ran, wendor};

/// Lists of every kind, and what is asked of them.
const LISTS: [&str; 14] = [
    "now",
    "usage --last 7d --by offer",
    "request list",
    "request refusals",
    "key list",
    "team list",
    "route list",
    "upstream list",
    "upstream models",
    "event list",
    "audit list",
    "person list",
    "token list",
    "catalogue revisions",
];

async fn ferry() -> Ferry {
    let ferry = Ferry::begin().await;
    ferry.wendor(&["ask", "night-sailings", "When is the last ferry?"]).await;
    ferry.wendor(&["ask", "night-sailing", "When is the last ferry?"]).await;
    ferry.drained().await;
    ferry
}

/// Runs a line of the shell with `wendor` in it, as the owner, with nothing else of the test's environment.
async fn shell(ferry: &Ferry, environment: &[(&str, &str)], line: &str) -> Ran {
    let line = line.replace("wendor ", &format!("{} ", binary().display()));
    let mut command = Command::new("/bin/bash");
    command.arg("-c").arg(line).env_clear().env("PATH", "/usr/bin:/bin").env("TERM", "xterm");
    command.env("WENDOR_URL", &ferry.service.url).env("WENDOR_TOKEN", &ferry.owner).env("WENDOR_KEY", &ferry.key);
    command.envs(environment.iter().copied()).stdin(Stdio::null());
    let ran = tokio::task::spawn_blocking(move || command.output().expect("there is a shell"));
    let ran = ran.await.expect("nothing panics there");
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).expect("commands print UTF-8");
    Ran { out: text(ran.stdout), err: text(ran.stderr), status: ran.status.code().unwrap_or(-1) }
}

/// The same at a terminal of so many columns.
async fn at_terminal(ferry: &Ferry, environment: &[(&str, &str)], columns: usize, line: &str) -> String {
    let inner = format!("stty cols {columns} rows 50; wendor {line}");
    shell(ferry, environment, &format!("script -qec '{inner}' /dev/null")).await.out.replace('\r', "")
}

/// Columns of a line that are seen: without what only colours it.
fn columns(line: &str) -> usize {
    let mut seen = String::new();
    let mut rest = line;
    while let Some((before, after)) = rest.split_once("\u{1b}[") {
        seen.push_str(before);
        rest = after.split_once('m').map_or("", |(_, rest)| rest);
    }
    seen.push_str(rest);
    seen.chars().count()
}

#[rstest]
#[case::narrow(60)]
#[case::usual(80)]
#[case::wide(120)]
#[case::very_wide(200)]
#[tokio::test]
async fn tables_fit_the_terminal(#[case] width: usize) {
    let ferry = ferry().await;
    for list in LISTS {
        let shown = at_terminal(&ferry, &[], width, list).await;
        assert!(!shown.trim().is_empty(), "{list}");
        // Sentences beside a table are the terminal's to break; those end with a stop, a colon or a command to copy.
        let is_sentence = |line: &str| line.trim_end().ends_with(['.', ':']) || line.contains("wendor ");
        let long: Vec<&str> = shown.lines().filter(|line| columns(line) > width && !is_sentence(line)).collect();
        assert!(long.is_empty(), "{list} at {width}: {long:#?}");
    }
}

#[tokio::test]
async fn without_a_terminal_lines_are_as_long_as_they_are_and_plain() {
    let ferry = ferry().await;
    for list in LISTS {
        let piped = shell(&ferry, &[], &format!("wendor {list} | cat")).await;
        assert!(!piped.out.contains('\u{1b}'), "{list}: {}", piped.out);
        let narrow = shell(&ferry, &[("COLUMNS", "60")], &format!("wendor {list} | cat")).await;
        assert!(narrow.out.lines().count() >= piped.out.lines().count(), "{list}: {}", narrow.out);
    }
}

#[rstest]
#[case::colours(&[], true, true)]
#[case::no_colour(&[("NO_COLOR", "1")], false, true)]
#[case::dumb(&[("TERM", "dumb")], false, true)]
#[case::plain_letters(&[("LC_ALL", "C")], true, false)]
#[tokio::test]
async fn colours_and_letters_are_those_of_the_terminal(
    #[case] environment: &[(&str, &str)],
    #[case] has_colours: bool,
    #[case] has_signs: bool,
) {
    let ferry = ferry().await;
    ferry.quayside.set_fault(wendor_standins::fault::Fault::Refuse).await.unwrap();
    let shown = at_terminal(&ferry, environment, 120, "upstream check quayside").await;
    assert_eq!(shown.contains('×'), has_signs, "{shown}");
    assert_eq!(shown.contains("\u{1b}[31m"), has_colours && has_signs, "{shown}");
    assert_eq!(shown.is_ascii(), !has_signs, "{shown}");
}

#[rstest]
#[case::offer(&["usage", "--offer", "quayside/dunlin-7"], 4, "nearest: `quayside/dunlin-70b`")]
#[case::offer_of_requests(&["request", "list", "--offer", "quayside/dunlin-7"], 4, "nearest: `quayside/dunlin-70b`")]
#[case::key(&["usage", "--key", "nobody00"], 4, "There is no key `nobody00`")]
#[case::key_of_requests(&["request", "list", "--key", "nobody00"], 4, "There is no key `nobody00`")]
#[case::route(&["usage", "--route", "night-sailing"], 4, "nearest: `night-sailings`")]
#[case::upstream(&["usage", "--upstream", "quaysied"], 4, "nearest: `quayside`")]
#[case::team(&["usage", "--team", "timetable"], 4, "nearest: `timetables`")]
#[case::no_limit(&["request", "list", "--limit", "0"], 2, "invalid value '0' for '--limit <NUMBER>'")]
#[case::flag(&["usage", "--lats", "7d"], 2, "a similar argument exists: '--last'")]
#[case::command(&["upstrem", "list"], 2, "a similar subcommand exists: 'upstream'")]
#[tokio::test]
async fn what_was_mistyped_is_told(#[case] args: &[&str], #[case] status: i32, #[case] told: &str) {
    let ferry = Ferry::begin().await;
    let ran = ferry.wendor(args).await;
    assert_eq!((ran.status, ran.out.as_str()), (status, ""), "{}", ran.err);
    assert!(ran.err.contains(told), "{}", ran.err);
    let json = ferry.wendor(&[args, &["--json"]].concat()).await;
    assert_eq!((json.status, json.out.as_str()), (status, ""), "{}", json.err);
    let error: Value = serde_json::from_str(&json.err).unwrap_or_else(|_| panic!("no JSON: {}", json.err));
    assert_eq!(error["error"]["exit_status"], status);
    assert!(error["error"]["message"].as_str().unwrap().contains(told), "{error}");
}

/// Commands as the helps list them, each with its things: `upstream add`.
async fn commands() -> Vec<String> {
    let mut leaves = Vec::new();
    let mut open = vec![String::new()];
    while let Some(path) = open.pop() {
        let words: Vec<&str> = path.split_whitespace().chain(["--help"]).collect();
        let help = wendor(&words, &[], "").await.out;
        let below = help.split_once("Commands:\n").map_or("", |(_, list)| list);
        let names: Vec<&str> = below
            .lines()
            .take_while(|line| line.starts_with("  "))
            .filter(|line| !line.starts_with("   "))
            .filter_map(|line| line.split_whitespace().next())
            .filter(|name| *name != "help")
            .collect();
        if names.is_empty() {
            leaves.push(path);
        } else {
            open.extend(names.into_iter().map(|name| format!("{path} {name}").trim().to_owned()));
        }
    }
    leaves
}

#[tokio::test]
async fn every_command_tells_a_wrong_flag_in_its_form() {
    let commands = commands().await;
    assert!(commands.len() > 50, "{commands:?}");
    for command in commands {
        let words: Vec<&str> = command.split_whitespace().collect();
        let ran = wendor(&[&words[..], &["--fog"]].concat(), &[], "").await;
        assert_eq!((ran.status, ran.out.as_str()), (2, ""), "{command}: {}", ran.err);
        assert!(ran.err.contains("unexpected argument '--fog'"), "{command}: {}", ran.err);
        let json = wendor(&[&words[..], &["--fog", "--json"]].concat(), &[], "").await;
        let error: Value = serde_json::from_str(&json.err).unwrap_or_else(|_| panic!("{command}: {}", json.err));
        assert_eq!(error["error"]["kind"], "not-understood", "{command}");
        let help = wendor(&[&words[..], &["--help"]].concat(), &[], "").await;
        assert!(help.status == 0 && help.out.contains("Usage:"), "{command}: {}", help.out);
    }
}

#[tokio::test]
async fn a_long_name_is_cut_in_messages() {
    let ferry = Ferry::begin().await;
    let ran = ferry.wendor(&["key", "revoke", &"k".repeat(3_000)]).await;
    assert_eq!(ran.status, 4, "{}", ran.err);
    assert!(ran.err.len() < 300 && ran.err.contains('…'), "{}", ran.err);
}

#[rstest]
#[case::no_scheme("127.0.0.1:7420", "write http://127.0.0.1:7420")]
#[case::another_scheme("ftp://models.example", "which is not an address")]
#[tokio::test]
async fn an_address_that_is_none_is_told(#[case] url: &str, #[case] told: &str) {
    let ran = wendor(&["now"], &[("WENDOR_URL", url), ("WENDOR_TOKEN", "wdt-x")], "").await;
    assert!(ran.status == 2 && ran.err.contains(told), "{}", ran.err);
}

#[tokio::test]
async fn a_closed_pipe_is_quiet_and_a_full_disk_is_not() {
    let ferry = ferry().await;
    for command in LISTS.iter().copied().chain(["catalogue export", "--json usage --last 7d", "completions bash"]) {
        let full = shell(&ferry, &[], &format!("wendor {command} > /dev/full")).await;
        assert_eq!(full.status, 1, "{command}: {}", full.err);
        assert!(full.err.contains("No space left"), "{command}: {}", full.err);
        let closed = shell(&ferry, &[], &format!("wendor {command} | true; exit ${{PIPESTATUS[0]}}")).await;
        assert_eq!((closed.status, closed.err.as_str()), (0, ""), "{command}");
    }
    let deaf = shell(&ferry, &[], "wendor fly 2> /dev/full").await;
    assert_eq!(deaf.status, 2, "an error that nobody can read has its status");
}

#[tokio::test]
async fn alone_it_says_where_it_points_and_what_comes_next() {
    let ferry = Ferry::begin().await;
    let owner = ferry.wendor(&[]).await;
    assert_eq!(owner.status, 0, "{}", owner.err);
    assert!(owner.out.contains(&format!("signed in to {} as", ferry.service.url)), "{}", owner.out);
    assert_eq!(owner.out.lines().filter(|line| line.starts_with("  wendor ")).count(), 3, "{}", owner.out);
    let url = ferry.service.url.as_str();
    let nobody = wendor(&[], &[("WENDOR_URL", url)], "").await;
    assert!(nobody.status == 0 && nobody.out.contains("wendor sign-in"), "{}", nobody.out);
    let nothing = wendor(&[], &[("WENDOR_URL", "http://127.0.0.1:9"), ("WENDOR_TOKEN", "wdt-x")], "").await;
    assert!(nothing.status == 0 && nothing.out.contains("wendor serve"), "{}", nothing.out);
}
