//! The records by themselves: what the store keeps, gives back, and refuses.

use chrono::{DateTime, TimeDelta, Utc};
use rstest::rstest;
use wendor_core::audit::Doer;
use wendor_core::catalog::file;
use wendor_core::catalog::key::{AppKey, KeyKind, KeyText};
use wendor_core::catalog::role::{Role, Standing};
use wendor_core::catalog::team::Access;
use wendor_core::name::Name;
use wendor_postgres::Database;
use wendor_store::revisions::NewRevision;
use wendor_store::tokens::{NewToken, TokenKind};
use wendor_store::{Store, StoreError};

async fn store() -> (Database, Store) {
    let database = Database::fresh().await;
    let store = Store::new(&database.url).unwrap();
    store.migrate().await.unwrap();
    (database, store)
}

fn now() -> DateTime<Utc> {
    "2026-11-25T08:00:00Z".parse().unwrap()
}

fn doer(name: &str, at: DateTime<Utc>) -> Doer {
    Doer { name: name.to_owned(), address: "192.0.2.7".to_owned(), through: "token t1".to_owned(), at }
}

async fn apply(store: &Store, base: i64, text: &str) -> Result<i64, StoreError> {
    let file = file::read(text).unwrap();
    let rates: Vec<_> = file.rates.iter().map(|(offer, rate)| (offer.clone(), rate.clone())).collect();
    let new = NewRevision {
        base,
        catalogue: &file.catalogue,
        rates: &rates,
        by: &doer("duty-desk", now()),
        note: "why",
        changes: serde_json::Value::Null,
        guard: None,
        undoes: None,
    };
    store.make_revision(new).await
}

const DEMO: &str = include_str!("../../../../demo/catalogue.toml");

#[tokio::test]
async fn a_revision_and_its_rates_come_back_as_they_were_made() {
    let (_database, store) = store().await;
    assert!(store.current_revision().await.unwrap().is_none());
    let counter = store.changes().await.unwrap();
    assert_eq!(apply(&store, 0, DEMO).await.unwrap(), 1);
    let (revision, catalogue) = store.current_revision().await.unwrap().unwrap();
    let file = file::read(DEMO).unwrap();
    assert_eq!((revision.number, revision.made_by.as_str(), revision.note.as_str()), (1, "duty-desk", "why"));
    assert_eq!(catalogue, file.catalogue);
    assert_eq!(store.rate_card().await.unwrap(), file.rates);
    assert!(store.changes().await.unwrap().all > counter.all, "others are told");
}

#[tokio::test]
async fn of_two_who_change_at_once_one_is_told_so_and_changes_nothing() {
    let (_database, store) = store().await;
    let (one, other) = tokio::join!(apply(&store, 0, DEMO), apply(&store, 0, "[teams.data-lab]"));
    let errors: Vec<StoreError> = [one, other].into_iter().filter_map(Result::err).collect();
    assert!(matches!(errors.as_slice(), [StoreError::Overtaken { expected: 0, found: 1 }]), "{errors:?}");
    assert_eq!(store.revisions(10).await.unwrap().len(), 1);
    // A rate that is there already fails the whole revision; it is there if the one with rates came first.
    let has_rates = store.rate_card().await.unwrap().iter().next().is_some();
    let again = apply(&store, 1, DEMO).await;
    if has_rates {
        assert!(matches!(again, Err(StoreError::Exists { .. })), "{again:?}");
        assert_eq!(store.revisions(10).await.unwrap().len(), 1);
    }
}

#[tokio::test]
async fn migrating_twice_and_at_once_is_harmless() {
    let database = Database::fresh().await;
    let (store, second) = (Store::new(&database.url).unwrap(), Store::new(&database.url).unwrap());
    let (one, other) = tokio::join!(store.migrate(), second.migrate());
    one.unwrap();
    other.unwrap();
    let schema = store.schema().await.unwrap();
    assert_eq!((schema.found, schema.known), (Store::known_schema(), Store::known_schema()));
}

#[tokio::test]
async fn keys_keep_their_hash_and_remember_who_revoked_them_first() {
    let (_database, store) = store().await;
    apply(&store, 0, "[teams.timetables]").await.unwrap();
    let (secret, text) = KeyText::mint(KeyKind::App, &[3; 25]);
    let key = AppKey {
        id: text.id.to_string(),
        team: Name::parse("timetables").unwrap(),
        label: "departure board".into(),
        access: Access::Only([Name::parse("night-sailings").unwrap()].into()),
        lane: wendor_core::routing::queue::Lane::Batch,
        expires_at: Some(now() + TimeDelta::days(90)),
        revoked_at: None,
    };
    store.add_key(&text, &key, &doer("duty-desk", now())).await.unwrap();
    let kept = store.keys().await.unwrap();
    assert_eq!((&kept[0].key, kept[0].hash), (&key, KeyText::parse(KeyKind::App, secret.expose()).unwrap().hash));
    let first = store.revoke_key(&key.id, &doer("duty-desk", now())).await.unwrap();
    let second = store.revoke_key(&key.id, &doer("harbour-master", now() + TimeDelta::hours(1))).await.unwrap();
    assert_eq!((first, second), (now(), now()));
    let stranger = AppKey { team: Name::parse("nobody").unwrap(), ..key };
    let added = store.add_key(&text, &stranger, &doer("x", now())).await;
    assert!(matches!(added, Err(StoreError::Missing { what: "team", .. })));
}

#[rstest]
#[case::one_time(TokenKind::OneTime, false)]
#[case::session(TokenKind::Session, true)]
#[case::personal(TokenKind::Personal, true)]
#[tokio::test]
async fn a_token_opens_what_its_kind_does_until_it_expires(#[case] kind: TokenKind, #[case] opens: bool) {
    let (_database, store) = store().await;
    let standing = Standing { role: Role::Owner, team: None };
    store.add_person("harbour-master", &standing, &Doer::on_the_server(now())).await.unwrap();
    let (_, text) = KeyText::mint(KeyKind::Person, &[4; 25]);
    let expires_at = Some(now() + TimeDelta::hours(1));
    let token =
        NewToken { person: "harbour-master", kind, label: "", expires_at, confirmed_at: None, is_unasked: false };
    store.add_token(&text, &token, &doer("harbour-master", now())).await.unwrap();
    let who = async |at| store.person_of_token(&text, at).await.unwrap().map(|bearer| bearer.person.name);
    assert_eq!(who(now()).await.is_some(), opens);
    assert_eq!(who(now() + TimeDelta::hours(1)).await, None);
    let used = store.use_one_time(&text, now()).await.unwrap();
    assert_eq!(used.is_some(), kind == TokenKind::OneTime);
    assert_eq!(store.use_one_time(&text, now()).await.unwrap(), None, "it works once");
}

#[tokio::test]
async fn people_belong_to_a_team_or_to_none_as_their_role_says() {
    let (_database, store) = store().await;
    apply(&store, 0, "[teams.timetables]").await.unwrap();
    let add = async |name: &str, role, team: Option<&str>| {
        let standing = Standing { role, team: team.map(|team| Name::parse(team).unwrap()) };
        store.add_person(name, &standing, &Doer::on_the_server(now())).await
    };
    add("clerk", Role::Lead, Some("timetables")).await.unwrap();
    assert!(matches!(add("clerk", Role::Owner, None).await, Err(StoreError::Exists { .. })));
    assert!(matches!(add("other", Role::Lead, Some("nobody")).await, Err(StoreError::Missing { .. })));
    assert!(add("third", Role::Owner, Some("timetables")).await.is_err(), "the table itself refuses it");
    let people = store.people().await.unwrap();
    assert_eq!(people.iter().map(|person| person.name.as_str()).collect::<Vec<_>>(), ["clerk"]);
    assert!(store.password_hash("clerk").await.unwrap().is_none());
    store.set_password_hash("clerk", "$hash", "t1", &doer("clerk", now())).await.unwrap();
    assert_eq!(store.password_hash("clerk").await.unwrap().as_deref(), Some("$hash"));
    let set = store.set_password_hash("nobody", "x", "t1", &doer("nobody", now())).await;
    assert!(matches!(set, Err(StoreError::Missing { .. })));
}

#[tokio::test]
async fn a_database_that_is_away_is_told_from_one_that_refuses() {
    let away = Store::new("postgres://postgres@127.0.0.1:9/nowhere").unwrap();
    assert!(away.ping().await.unwrap_err().is_away());
    let (database, store) = store().await;
    sqlx::query("drop table rate").execute(&mut database.connect().await).await.unwrap();
    assert!(!store.rate_card().await.unwrap_err().is_away());
}
