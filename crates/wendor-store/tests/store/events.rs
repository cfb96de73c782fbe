//! Events and their deliveries: each event is kept once, and each delivery is tried by one at a time.

use chrono::TimeDelta;
use wendor_core::catalog::event_kind::EventKind;
use wendor_core::watch::event::{Event, EventState};
use wendor_store::events::{DeliveryState, Tried};

use crate::{at, fresh};

fn event(key: &str) -> Event {
    Event {
        key: key.to_owned(),
        at: at("2026-11-25T08:00:00Z"),
        kind: EventKind::Quota,
        state: EventState::Began,
        subject: "timetables".to_owned(),
        says: "is at its limit".to_owned(),
        why: String::new(),
    }
}

/// Several instances see the same event; it is kept once, with one delivery for each webhook.
#[tokio::test]
async fn an_event_is_kept_once_whoever_sees_it() {
    let (_database, store) = fresh().await;
    let now = at("2026-11-25T08:00:01Z");
    let (seen, webhooks) = (event("quota/timetables"), ["on-call", "ledger"]);
    let both = tokio::join!(store.add_event(&seen, &webhooks, now), store.add_event(&seen, &webhooks, now));
    let kept = [both.0.unwrap(), both.1.unwrap()];
    assert_eq!(kept.iter().flatten().map(Vec::len).collect::<Vec<usize>>(), [2], "{kept:?}");
    assert_eq!(store.events(None, None, 10).await.unwrap().len(), 1);
    assert_eq!(store.events(Some(EventKind::Health), None, 10).await.unwrap().len(), 0);
    let shown = store.events(Some(EventKind::Quota), None, 10).await.unwrap().remove(0);
    assert_eq!(shown.event, seen);
}

/// Who takes a delivery has it for a while; once it is delivered nobody takes it again.
#[tokio::test]
async fn a_delivery_is_tried_by_one_at_a_time() {
    let (_database, store) = fresh().await;
    let now = at("2026-11-25T08:00:01Z");
    store.add_event(&event("quota/timetables"), &["on-call"], now).await.unwrap();
    assert!(store.due_deliveries(now - TimeDelta::seconds(1), 10).await.unwrap().is_empty(), "it is not due yet");
    let (first, second) = tokio::join!(store.due_deliveries(now, 10), store.due_deliveries(now, 10));
    let taken = [first.unwrap(), second.unwrap()].concat();
    assert_eq!(taken.len(), 1, "{taken:?}");
    let tried = |state, next_at| Tried { state, at: now, next_at, status: Some(500), failed: None };
    let again = now + TimeDelta::seconds(90);
    store.tried_delivery(taken[0].id, &tried(DeliveryState::Waiting, again)).await.unwrap();
    assert!(store.due_deliveries(again - TimeDelta::seconds(1), 10).await.unwrap().is_empty());
    let due = store.due_deliveries(again, 10).await.unwrap();
    assert_eq!((due[0].id, due[0].attempts), (taken[0].id, 1));
    store.tried_delivery(due[0].id, &tried(DeliveryState::Delivered, again)).await.unwrap();
    assert!(store.due_deliveries(again + TimeDelta::days(1), 10).await.unwrap().is_empty());
    let logged = store.deliveries(Some("on-call"), 10).await.unwrap().remove(0);
    assert_eq!((logged.state, logged.webhook.as_str()), (DeliveryState::Delivered, "on-call"));
}
