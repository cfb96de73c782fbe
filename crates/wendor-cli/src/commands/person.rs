//! `wendor person`: adding people on the server itself, and listing them.
//!
//! Adding goes straight to the database, since the first owner can be made by nobody who is signed in; whoever may read
//! WENDOR_DATABASE_URL owns the installation anyway.

use wendor_core::catalog::key::{KeyKind, KeyText};
use wendor_gateway::admin::people::{AddedPerson, ONE_TIME, PersonLine, read_person};
use wendor_store::Store;
use wendor_store::people::{NewToken, TokenKind};

use super::now;
use crate::client::Management;
use crate::failure::Failure;
use crate::output::{self, Column, Reader};
use crate::words;

async fn store() -> Result<Store, Failure> {
    let missing = || {
        Failure::NotUnderstood(
            "WENDOR_DATABASE_URL is not set: this is done on the server, beside the service.".to_owned(),
        )
    };
    let url = std::env::var("WENDOR_DATABASE_URL").ok().filter(|url| !url.is_empty()).ok_or_else(missing)?;
    let store = Store::new(&url)?;
    store.migrate().await?;
    Ok(store)
}

pub(super) async fn add((name, role, team): (&str, &str, Option<&str>), reader: Reader) -> Result<(), Failure> {
    let (name, standing) = read_person(name, role, team)
        .map_err(|(field, message)| Failure::NotUnderstood(format!("{field}: {message}.")))?;
    let store = store().await?;
    store.add_person(name.as_str(), &standing, "the server's console", now()).await?;
    give_one_time(&store, name.as_str(), reader).await
}

pub(super) async fn sign_in(name: &str, reader: Reader) -> Result<(), Failure> {
    give_one_time(&store().await?, name, reader).await
}

async fn give_one_time(store: &Store, name: &str, reader: Reader) -> Result<(), Failure> {
    let (secret, text) = KeyText::mint(KeyKind::Person, &rand::random());
    let at = now();
    let expires_at = at + ONE_TIME;
    let token = NewToken { person: name, kind: TokenKind::OneTime, label: "", at, expires_at: Some(expires_at) };
    store.add_token(&text, &token).await?;
    match reader {
        Reader::Program => {
            output::json(&AddedPerson { name: name.to_owned(), one_time: secret.expose().to_owned(), expires_at })
        }
        Reader::Person => {
            output::line(secret.expose())?;
            output::note(&format!(
                "One-time sign-in of {name}, until {} UTC: give it to them, they pass it to `wendor sign-in`.",
                words::instant(expires_at)
            ));
            Ok(())
        }
    }
}

pub(super) async fn list(management: &Management, reader: Reader) -> Result<(), Failure> {
    let people: Vec<PersonLine> = management.get("/people", &[]).await?;
    if reader == Reader::Program {
        return output::json(&people);
    }
    let columns = [
        Column::Text("person"),
        Column::Text("role"),
        Column::Text("team"),
        Column::Text("added"),
        Column::Text("password"),
    ];
    let rows = people.iter().map(|person| {
        let password = if person.has_password { "set" } else { "not set" };
        let team = person.team.clone().unwrap_or_else(|| "-".to_owned());
        vec![person.name.clone(), person.role.clone(), team, words::ago(person.added_at, now()), password.to_owned()]
    });
    output::table(&columns, rows.collect(), "There is nobody yet.")
}
