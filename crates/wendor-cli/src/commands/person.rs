//! `wendor person`: adding people on the server itself, and listing them.
//!
//! Adding goes straight to the database, since the first owner can be made by nobody who is signed in; whoever may read
//! WENDOR_DATABASE_URL owns the installation anyway.

use std::time::Duration;

use serde_json::json;
use wendor_core::audit::Doer;
use wendor_core::catalog::key::{KeyKind, KeyText};
use wendor_gateway::admin::people::{AddedPerson, ONE_TIME, PersonLine, SignedOut, read_person};
use wendor_store::Store;
use wendor_store::tokens::{NewToken, TokenKind};

use super::now;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::PersonCommand;
use crate::output::{self, Column, Reader};
use crate::words;

/// Whoever adds people stands at a terminal: on a machine that is busy they wait, where a request would be told that the database is away.
const PATIENCE: Duration = Duration::from_secs(15);

async fn store() -> Result<Store, Failure> {
    let missing = || {
        Failure::NotUnderstood(
            "WENDOR_DATABASE_URL is not set: run this command on the server, where the service runs.".to_owned(),
        )
    };
    let url = std::env::var("WENDOR_DATABASE_URL").ok().filter(|url| !url.is_empty()).ok_or_else(missing)?;
    let store = Store::within(&url, PATIENCE)?;
    store.migrate().await?;
    Ok(store)
}

pub(super) async fn add(name: &str, role: &str, team: Option<&str>, reader: Reader) -> Result<(), Failure> {
    let (name, standing) = read_person(name, role, team)
        .map_err(|(field, message)| Failure::NotUnderstood(format!("{field}: {message}.")))?;
    let store = store().await?;
    store.add_person(name.as_str(), &standing, &Doer::on_the_server(now())).await?;
    give_one_time(&store, name.as_str(), reader).await
}

pub(super) async fn sign_in(name: &str, reader: Reader) -> Result<(), Failure> {
    give_one_time(&store().await?, name, reader).await
}

async fn give_one_time(store: &Store, name: &str, reader: Reader) -> Result<(), Failure> {
    let (secret, text) = KeyText::mint(KeyKind::Person, &rand::random());
    let doer = Doer::on_the_server(now());
    let expires_at = doer.at + ONE_TIME;
    let token = NewToken {
        person: name,
        kind: TokenKind::OneTime,
        label: "",
        expires_at: Some(expires_at),
        confirmed_at: None,
        is_unasked: false,
    };
    store.add_token(&text, &token, &doer).await?;
    show_one_time(&AddedPerson { name: name.to_owned(), one_time: secret.expose().to_owned(), expires_at }, reader)
}

fn show_one_time(given: &AddedPerson, reader: Reader) -> Result<(), Failure> {
    match reader {
        Reader::Program => output::json(given),
        Reader::Person => {
            output::line(&given.one_time)?;
            output::note(&format!(
                "One-time sign-in of {}, until {} UTC: give it to them, they pass it to `wendor sign-in`. Earlier ones no longer work.",
                given.name,
                words::instant(given.expires_at)
            ));
            Ok(())
        }
    }
}

/// What is done with a person who is there, over the service.
pub(super) async fn manage(command: PersonCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        PersonCommand::Change { name, role, team } => {
            let standing = team.as_ref().map_or_else(|| role.clone(), |team| format!("{role} of {team}"));
            let body = json!({ "role": role, "team": team });
            changed(&name, &body, &format!("{name} is now {standing}."), management, reader).await
        }
        PersonCommand::Disable { name } => {
            let message = format!("{name} is disabled: their password, sessions and tokens are refused.");
            changed(&name, &json!({ "disabled": true }), &message, management, reader).await
        }
        PersonCommand::Enable { name } => {
            let message = format!("{name} may sign in again; their earlier sessions and tokens stay ended.");
            changed(&name, &json!({ "disabled": false }), &message, management, reader).await
        }
        PersonCommand::Reset { name } => {
            let given: AddedPerson = management.post(&format!("/people/{}/reset", part(&name)), &json!({})).await?;
            show_one_time(&given, reader)
        }
        PersonCommand::SignOut { name } => {
            let out: SignedOut = management.post(&format!("/people/{}/sign-out", part(&name)), &json!({})).await?;
            match reader {
                Reader::Program => output::json(&out),
                Reader::Person => {
                    output::line(&format!("{name} is signed out: {} sessions and tokens ended.", out.ended))
                }
            }
        }
        PersonCommand::RequireCodes { roles, nobody: _ } => {
            management.post_unanswered("/sign-in-rule", &json!({ "codes_required": roles })).await?;
            match reader {
                Reader::Program => output::json(&json!({ "codes_required": roles })),
                Reader::Person if roles.is_empty() => {
                    output::line("Codes are asked of those alone who have set them up.")
                }
                Reader::Person => output::line(&format!(
                    "Codes of an authenticator app are asked of every {}: whoever has none sets one up before anything else.",
                    roles.join(" and ")
                )),
            }
        }
        PersonCommand::List => list(management, reader).await,
        PersonCommand::Add { .. } | PersonCommand::SignIn { .. } => {
            Err(Failure::Own("this is done on the server itself".to_owned()))
        }
    }
}

async fn changed(
    name: &str,
    body: &serde_json::Value,
    told: &str,
    management: &Management,
    reader: Reader,
) -> Result<(), Failure> {
    management.post_unanswered(&format!("/people/{}", part(name)), body).await?;
    match reader {
        Reader::Program => output::json(&json!({ "name": name, "changed": body })),
        Reader::Person => output::line(told),
    }
}

async fn list(management: &Management, reader: Reader) -> Result<(), Failure> {
    let people: Vec<PersonLine> = management.get("/people", &[]).await?;
    if reader == Reader::Program {
        return output::json(&people);
    }
    let columns = [
        Column::Text("person"),
        Column::Text("role"),
        Column::Text("team"),
        Column::Text("added"),
        Column::Text("sign-in"),
    ];
    let rows = people.iter().map(|person| {
        let password = match (person.disabled_at, person.one_time_until, person.has_password) {
            (Some(at), _, _) => format!("disabled {}", words::ago(at, now())),
            (None, Some(until), _) => format!("one-time, until {}", words::instant(until)),
            (None, None, true) if person.codes_since.is_some() => "password and code".to_owned(),
            (None, None, true) => "password".to_owned(),
            (None, None, false) => "tokens only".to_owned(),
        };
        let team = person.team.clone().unwrap_or_else(|| "-".to_owned());
        vec![person.name.clone(), person.role.clone(), team, words::ago(person.added_at, now()), password]
    });
    output::table(&columns, rows.collect(), "There are no people yet. Add one: wendor person add NAME --role owner")
}
