//! The code for apps runs as it is shown, in every language, and says what went wrong.

use std::process::Stdio;

use rstest::rstest;
use tokio::process::Command;
use wendor_e2e::ferry::Ferry;
use wendor_standins::fault::Fault;

async fn run(ferry: &Ferry, language: &str, streamed: bool, key: &str) -> (bool, String) {
    let mut args = vec!["route", "code", "night-sailings", "--language", language];
    args.extend(streamed.then_some("--streamed"));
    let code = ferry.wendor(&args).await;
    assert_eq!(code.status, 0, "{}", code.err);
    assert!(!code.out.contains(key), "the key is never in the code");
    let (program, name) = match language {
        "shell" => ("sh", "ask.sh"),
        "python" => ("python3", "ask.py"),
        _ => ("node", "ask.mjs"),
    };
    let path = ferry.folder().join(format!("{streamed}-{name}"));
    std::fs::write(&path, code.out).unwrap();
    let mut command = Command::new(program);
    command.arg(&path).env("WENDOR_KEY", key).env_remove("http_proxy").stdin(Stdio::null());
    let ran = command.output().await.unwrap_or_else(|error| panic!("{program}: {error}"));
    (ran.status.success(), format!("{}{}", String::from_utf8_lossy(&ran.stdout), String::from_utf8_lossy(&ran.stderr)))
}

#[rstest]
#[tokio::test]
async fn code_runs_as_it_is_shown(
    #[values("shell", "python", "javascript")] language: &str,
    #[values(false, true)] streamed: bool,
) {
    let ferry = Ferry::begin().await;
    let (is_done, out) = run(&ferry, language, streamed, &ferry.key).await;
    assert!(is_done && out.len() > 20, "{out}");
    assert_eq!(ferry.quayside.tally().served, 1);
    let (is_done, out) = run(&ferry, language, streamed, "wdr-aaaaaaaa-not-a-key").await;
    assert!(!is_done && out.contains("401"), "{out}");
    if streamed {
        ferry.quayside.set_fault(Fault::CutMidway).await.unwrap();
        let (is_done, out) = run(&ferry, language, streamed, &ferry.key).await;
        // The shell shows the events as they are; the error is one of them.
        assert!(!is_done || out.contains("\"error\""), "{out}");
    }
}

#[tokio::test]
async fn a_route_that_is_not_there_has_no_code_and_a_host_that_is_none_is_not_taken() {
    let ferry = Ferry::begin().await;
    let none = ferry.wendor(&["route", "code", "night-sailing"]).await;
    assert_eq!((none.status, none.err.contains("night-sailings")), (4, true), "{}", none.err);
    let asked = ferry.http.get(ferry.manage("/routes/night-sailings/code")).bearer_auth(&ferry.owner);
    let shown: serde_json::Value =
        asked.header("x-forwarded-host", "a$(reboot)").send().await.unwrap().json().await.unwrap();
    assert!(!shown.to_string().contains("reboot"), "{shown}");
}
