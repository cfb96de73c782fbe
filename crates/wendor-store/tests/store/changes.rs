//! Revisions, keys and people: who overtakes whom, and what cannot be done.

use rstest::rstest;
use serde_json::Value;
use wendor_core::catalog::key::{AppKey, KeyKind, KeyText};
use wendor_core::catalog::role::{Role, Standing};
use wendor_core::catalog::team::Access;
use wendor_core::catalog::{Catalogue, file};
use wendor_core::name::Name;
use wendor_core::routing::queue::Lane;
use wendor_store::people::PersonChange;
use wendor_store::revisions::NewRevision;
use wendor_store::{Store, StoreError};

use crate::{doer, fresh};

fn catalogue() -> Catalogue {
    file::read("currency = \"EUR\"\n[teams.timetables]\n").unwrap().catalogue
}

async fn made(store: &Store, base: i64) -> Result<i64, StoreError> {
    let (catalogue, by) = (catalogue(), doer());
    let new = NewRevision {
        base,
        catalogue: &catalogue,
        rates: &[],
        by: &by,
        note: "made by a test",
        changes: Value::Null,
        guard: None,
        undoes: None,
    };
    store.make_revision(new).await
}

/// Of two who change the same revision at once one goes through, and the other is told by which.
#[tokio::test]
async fn the_second_of_two_changes_is_overtaken() {
    let (_database, store) = fresh().await;
    assert!(store.current_revision().await.unwrap().is_none());
    assert_eq!(made(&store, 0).await.unwrap(), 1);
    let both = tokio::join!(made(&store, 1), made(&store, 1));
    let (through, overtaken) = match both {
        (Ok(number), Err(error)) | (Err(error), Ok(number)) => (number, error),
        both => panic!("{both:?}"),
    };
    assert_eq!(through, 2);
    assert!(matches!(overtaken, StoreError::Overtaken { expected: 1, found: 2 }), "{overtaken}");
    let (current, held) = store.current_revision().await.unwrap().unwrap();
    assert_eq!((current.number, held), (2, catalogue()));
    let numbers: Vec<i64> = store.revisions(5).await.unwrap().into_iter().map(|revision| revision.number).collect();
    assert_eq!(numbers, [2, 1]);
}

fn key_of(team: &str) -> (KeyText, AppKey) {
    let (_, text) = KeyText::mint(KeyKind::App, &[7; 25]);
    let key = AppKey {
        id: text.id.to_string(),
        team: Name::parse(team).unwrap(),
        label: "a test".to_owned(),
        access: Access::Only([Name::parse("manifests").unwrap()].into()),
        lane: Lane::Batch,
        expires_at: None,
        revoked_at: None,
    };
    (text, key)
}

/// A key is kept as it was made, is revoked once, and every change moves the counter by which instances learn of it.
#[tokio::test]
async fn a_key_is_kept_whole_and_revoked_once() {
    let (_database, store) = fresh().await;
    made(&store, 0).await.unwrap();
    let (text, key) = key_of("timetables");
    let before = store.changes().await.unwrap();
    store.add_key(&text, &key, &doer()).await.unwrap();
    let kept = store.keys().await.unwrap().remove(0);
    assert_eq!((kept.key, kept.hash), (key, text.hash));
    let revoked_at = store.revoke_key(&text.id, &doer()).await.unwrap();
    let after = store.changes().await.unwrap();
    assert!(after.all >= before.all + 2, "{before:?} to {after:?}");
    assert!(after.are_of_keys_since(before), "nobody need read anything else again");
    let changed = store.keys_changed_after(before.all).await.unwrap();
    assert_eq!(changed.iter().map(|changed| changed.hash).collect::<Vec<_>>(), [text.hash]);
    assert!(store.keys_changed_after(after.all).await.unwrap().is_empty());
    assert_eq!(store.revoke_key(&text.id, &doer()).await.unwrap(), revoked_at);
    assert_eq!(store.changes().await.unwrap(), after, "nothing was changed by the second time");
    made(&store, 1).await.unwrap();
    assert!(!store.changes().await.unwrap().are_of_keys_since(after), "a revision is of more");
}

#[tokio::test]
async fn what_is_missing_is_named() {
    let (_database, store) = fresh().await;
    let (text, key) = key_of("nobody");
    let error = store.add_key(&text, &key, &doer()).await.unwrap_err();
    assert!(matches!(&error, StoreError::Missing { what: "team", name } if name == "nobody"), "{error}");
    let error = store.revoke_key("k0", &doer()).await.unwrap_err();
    assert!(matches!(&error, StoreError::Missing { what: "key", name } if name == "k0"), "{error}");
}

#[rstest]
#[case::disabled(None, Some(true))]
#[case::with_a_lesser_role(Some(Role::Operator), None)]
#[tokio::test]
async fn the_last_owner_stays(#[case] role: Option<Role>, #[case] disabled: Option<bool>) {
    let (_database, store) = fresh().await;
    let standing = |role| Standing { role, team: None };
    store.add_person("wren", &standing(Role::Owner), &doer()).await.unwrap();
    let lesser = role.map(standing);
    let change = PersonChange { standing: lesser.as_ref(), disabled };
    let error = store.change_person("wren", &change, &doer()).await.unwrap_err();
    assert!(matches!(&error, StoreError::LastOwner(name) if name == "wren"), "{error}");
    store.add_person("rook", &standing(Role::Owner), &doer()).await.unwrap();
    store.change_person("wren", &change, &doer()).await.unwrap();
}
