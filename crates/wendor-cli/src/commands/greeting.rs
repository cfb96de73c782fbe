//! `wendor` alone: where it points, who one is there, and what to do next.

use std::time::Duration;

use serde_json::json;
use wendor_gateway::admin::session::Me;

use crate::client::Management;
use crate::failure::Failure;
use crate::output::{self, Reader};
use crate::profile::Profile;

/// How long the service may take to say who one is.
const PATIENCE: Duration = Duration::from_secs(3);

/// A command that comes next, and what it is for.
struct Next(&'static str, &'static str);

const SIGNED_IN: [Next; 3] = [
    Next("wendor now", "what needs attention, and yesterday by team"),
    Next("wendor upstream list", "upstreams and their health"),
    Next("wendor usage --last 7d", "what each team used and cost"),
];

const NOT_SIGNED_IN: [Next; 3] = [
    Next("wendor person sign-in NAME", "on the server: prints a one-time sign-in"),
    Next("wendor sign-in < one-time.txt", "keeps a token for this machine"),
    Next("wendor ask ROUTE \"..\"", "asks a route, with an app's key in WENDOR_KEY"),
];

const NOTHING_THERE: [Next; 3] = [
    Next("wendor serve --check", "checks settings, database and ports of a service here"),
    Next("wendor serve", "runs the service"),
    Next("wendor sign-in --url ADDRESS", "signs in to a service elsewhere"),
];

pub(super) async fn run(reader: Reader) -> Result<(), Failure> {
    let profile = Profile::find()?;
    let url = profile.url.clone();
    let management = Management::new(profile)?;
    let me = match tokio::time::timeout(PATIENCE, management.get::<Me>("/me", &[])).await {
        Ok(me) => me,
        Err(_elapsed) => Err(Failure::Unreachable("it does not answer".to_owned())),
    };
    let (says, next) = match &me {
        Ok(me) => {
            let team = me.team.as_ref().map_or_else(String::new, |team| format!(" of {team}"));
            (format!("signed in to {url} as {}, {}{team}.", me.name, me.role), &SIGNED_IN)
        }
        Err(Failure::Unreachable(_)) => (format!("nothing answers at {url}."), &NOTHING_THERE),
        Err(_) => (format!("not signed in to {url}."), &NOT_SIGNED_IN),
    };
    if reader == Reader::Program {
        let next: Vec<&str> = next.iter().map(|Next(command, _)| *command).collect();
        return output::json(&json!({ "version": env!("CARGO_PKG_VERSION"), "url": url, "me": me.ok(), "next": next }));
    }
    output::line(&format!("Wendor {}: {says}\n\nNext:", env!("CARGO_PKG_VERSION")))?;
    for Next(command, what) in next {
        output::line(&format!("  {command:<30}  {what}"))?;
    }
    output::line("\nAll commands: wendor --help")
}
