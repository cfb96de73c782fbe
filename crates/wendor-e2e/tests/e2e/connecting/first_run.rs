//! From an empty installation to the first answer in the terminal.

use std::os::unix::fs::PermissionsExt;

use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::wendor::wendor;
use wendor_standins::manners::Manners;

/// `wendor serve`, `person add`, `sign-in` and one command more: four, and the fifth asks again.
#[tokio::test]
async fn one_command_leads_from_an_address_to_an_answer() {
    let ferry = Ferry::empty(&Wishes::default()).await;
    ferry.quayside.set_manners(Manners { prefix: Some("/serve".into()), ..Manners::default() });
    let env = ferry.folder().join("app.env");
    // One that is there already, open to everybody.
    std::fs::write(&env, "OLD=1\n").unwrap();
    std::fs::set_permissions(&env, std::fs::Permissions::from_mode(0o644)).unwrap();
    let address = ferry.quayside.address().to_string();
    let args = ["start", &address, "--route", "night-sailings", "--team", "timetables", "--env", env.to_str().unwrap()];
    let started = ferry.wendor(&args).await;
    assert_eq!(started.status, 0, "{} {}", started.out, started.err);
    let key = started.out.lines().find(|line| line.starts_with("wdr-")).expect("the key is shown").to_owned();
    for told in ["/serve", "team timetables", "first token", "unpriced"] {
        assert!(started.err.contains(told), "{told}: {}", started.err);
    }
    let variables = std::fs::read_to_string(&env).unwrap();
    assert_eq!(std::fs::metadata(&env).unwrap().permissions().mode() & 0o777, 0o600, "it holds a key");
    assert!(variables.contains(&format!("WENDOR_KEY={key}")) && variables.contains("WENDOR_ROUTE=night-sailings"));
    let environment = [("WENDOR_URL", ferry.service.url.as_str()), ("WENDOR_KEY", key.as_str())];
    let asked = wendor(&["ask", "night-sailings", "When does the last boat leave?"], &environment, "").await;
    assert_eq!(asked.status, 0, "{}", asked.err);
    assert!(!asked.out.trim().is_empty());
    // Run again, it uses what is there; whose the key is must be said.
    let unsaid = ferry.wendor(&["start"]).await;
    assert_eq!(unsaid.status, 2, "{} {}", unsaid.out, unsaid.err);
    assert!(unsaid.err.contains("Which team pays, of timetables") && !unsaid.out.contains("wdr-"), "{}", unsaid.err);
    let again = ferry.wendor(&["start", "--team", "timetables"]).await;
    assert_eq!(again.status, 0, "{} {}", again.out, again.err);
    assert!(again.err.contains("is already added"), "{}", again.err);
}

#[tokio::test]
async fn every_empty_list_says_how_to_begin_and_a_server_that_is_not_there_writes_nothing() {
    let ferry = Ferry::empty(&Wishes::default()).await;
    for list in [["upstream", "list"], ["route", "list"], ["team", "list"], ["upstream", "models"]] {
        let shown = ferry.wendor(&list).await;
        assert!(
            shown.out.contains("wendor start") || shown.out.contains("wendor upstream add"),
            "{list:?}: {}",
            shown.out
        );
    }
    let nothing = ferry.wendor(&["start", "127.0.0.1:9", "--route", "a", "--team", "b"]).await;
    assert_eq!(nothing.status, 6, "{} {}", nothing.out, nothing.err);
    assert!(
        nothing.out.contains("Nothing listens on port 9 of this machine")
            && nothing.err.contains("Nothing was written"),
        "{} {}",
        nothing.out,
        nothing.err
    );
    assert_eq!(ferry.get("/catalogue").await["revision"], 0);
}
