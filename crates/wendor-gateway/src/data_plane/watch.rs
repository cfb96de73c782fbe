//! Looks after the open streams of one worker: the server polls a stream only while its app takes what there is, so the time of one whose
//! app does not is measured here. One task a worker, whatever the number of streams.

use std::cell::RefCell;
use std::rc::{Rc, Weak};
use std::time::Duration;

use tokio::time::Instant;

use super::relay::Stream;

/// How often the streams are looked at.
const EVERY: Duration = Duration::from_millis(500);

thread_local! {
    static OPEN: RefCell<Vec<Weak<RefCell<Stream>>>> = const { RefCell::new(Vec::new()) };
}

/// Looks after a stream until it has ended.
pub(super) fn watch(stream: &Rc<RefCell<Stream>>) {
    let is_first = OPEN.with_borrow_mut(|open| {
        open.push(Rc::downgrade(stream));
        open.len() == 1
    });
    if is_first {
        // Ends with the last stream; the server's worker drops what is left of it when it ends.
        actix_web::rt::spawn(look());
    }
}

async fn look() {
    loop {
        tokio::time::sleep(EVERY).await;
        let now = Instant::now();
        // Taken out while they are looked at: what is dropped meanwhile may open or end others.
        let open = OPEN.take();
        let is_open = |stream: &Weak<RefCell<Stream>>| {
            stream.upgrade().is_some_and(|stream| stream.try_borrow_mut().is_ok_and(|mut stream| stream.look(now)))
        };
        let mut left: Vec<_> = open.into_iter().filter(is_open).collect();
        let is_over = OPEN.with_borrow_mut(|open| {
            left.append(open);
            std::mem::swap(open, &mut left);
            open.is_empty()
        });
        if is_over {
            return;
        }
    }
}
