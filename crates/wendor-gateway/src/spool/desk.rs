//! Those who wait for their entries, by the thread on which they wait.
//!
//! Waking another thread costs a system call; waking a task of the own does not. So each thread has a desk with a task of its own, the
//! attendant. What a thread appends in one turn of its loop the attendant tells the writer of at the end of that turn, once; the writer
//! wakes the attendant once a batch, and the attendant wakes those whose entries are written, on their own thread.

use std::cell::RefCell;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Mutex, Weak};
use std::task::{Context, Poll, Waker};

use super::{Shared, locked};

/// All desks of a spool.
#[derive(Debug, Default)]
pub(super) struct Desks {
    /// How many entries are written: the number of the last one. Written by the writer alone; released after the entry is written, so
    /// that whoever acquires it sees the entry in the spool.
    written: AtomicU64,
    open: Mutex<Vec<Arc<Desk>>>,
}

#[derive(Debug)]
struct Desk {
    spool: Weak<Shared>,
    waiting: Mutex<Waiting>,
    /// Whether its task still runs: a desk of a runtime that ended wakes nobody.
    is_attended: AtomicBool,
}

#[derive(Debug, Default)]
struct Waiting {
    /// Whether the writer must be told that something was appended.
    has_news: bool,
    /// By the number of their entry, in the order in which they came.
    tasks: Vec<(u64, Waker)>,
    /// Of the desk's own task.
    attendant: Option<Waker>,
}

thread_local! {
    static OWN: RefCell<Option<Arc<Desk>>> = const { RefCell::new(None) };
}

impl Desks {
    /// Ready once the entry of that number is written.
    pub(super) fn poll(&self, number: u64, spool: &Arc<Shared>, context: &Context<'_>) -> Poll<()> {
        if self.written.load(Ordering::Acquire) >= number {
            return Poll::Ready(());
        }
        locked(&self.own(spool).waiting).tasks.push((number, context.waker().clone()));
        // It may have been written while it was put down, by a writer that did not see it there.
        if self.written.load(Ordering::Acquire) >= number { Poll::Ready(()) } else { Poll::Pending }
    }

    /// The writer is told at the end of this thread's turn. `false` on a thread without a loop, where whoever asks tells it.
    pub(super) fn tell_soon(&self, spool: &Arc<Shared>) -> bool {
        if tokio::runtime::Handle::try_current().is_err() {
            return false;
        }
        let desk = self.own(spool);
        let mut waiting = locked(&desk.waiting);
        waiting.has_news = true;
        if let Some(attendant) = waiting.attendant.take() {
            drop(waiting);
            attendant.wake();
        }
        // An attendant that was not polled yet looks for news when it is; one whose runtime is ending will not be.
        desk.is_attended.load(Ordering::Relaxed)
    }

    /// The desk of this thread, with a task that attends it.
    fn own(&self, spool: &Arc<Shared>) -> Arc<Desk> {
        OWN.with_borrow_mut(|own| {
            let is_usable = |desk: &&Arc<Desk>| {
                desk.is_attended.load(Ordering::Relaxed) && Weak::as_ptr(&desk.spool) == Arc::as_ptr(spool)
            };
            if let Some(desk) = own.as_ref().filter(is_usable) {
                return desk.clone();
            }
            let desk = Arc::new(Desk {
                spool: Arc::downgrade(spool),
                waiting: Mutex::default(),
                is_attended: AtomicBool::new(true),
            });
            let mut open = locked(&self.open);
            open.retain(|desk| desk.is_attended.load(Ordering::Relaxed));
            open.push(desk.clone());
            tokio::spawn(attend(Attended(desk.clone())));
            own.replace(desk.clone());
            desk
        })
    }

    /// Every entry up to `number` is written.
    pub(super) fn written(&self, number: u64) {
        self.written.store(number, Ordering::Release);
        for desk in locked(&self.open).iter() {
            let attendant = {
                let mut waiting = locked(&desk.waiting);
                let is_due = waiting.tasks.iter().any(|(waited_for, _)| *waited_for <= number);
                is_due.then(|| waiting.attendant.take()).flatten()
            };
            if let Some(attendant) = attendant {
                attendant.wake();
            }
        }
    }

    /// Nothing is written any more; who waits goes on.
    pub(super) fn close(&self) {
        self.written(u64::MAX);
    }
}

/// A desk while its task runs.
struct Attended(Arc<Desk>);

impl Drop for Attended {
    fn drop(&mut self) {
        self.0.is_attended.store(false, Ordering::Relaxed);
        // Its runtime ends with news untold: whoever waits elsewhere must not wait for it.
        if let Some(spool) = self.0.spool.upgrade() {
            spool.queue.tell();
        }
    }
}

/// Tells the writer of what was appended, and wakes those whose entries are written, until the spool is gone. It ends with its runtime,
/// and its desk with it.
async fn attend(desk: Attended) {
    // Kept from one turn to the next, empty.
    let mut due: Vec<Waker> = Vec::new();
    std::future::poll_fn(|context| {
        let Some(spool) = desk.0.spool.upgrade() else { return Poll::Ready(()) };
        let mut waiting = locked(&desk.0.waiting);
        waiting.attendant = Some(context.waker().clone());
        let has_news = std::mem::take(&mut waiting.has_news);
        // Read after the waker was put down: a batch that is written now wakes this task again.
        let number = spool.desks.written.load(Ordering::Acquire);
        due.extend(waiting.tasks.extract_if(.., |(of, _)| *of <= number).map(|(_, task)| task));
        drop(waiting);
        if has_news {
            spool.queue.tell();
        }
        due.drain(..).for_each(Waker::wake);
        Poll::Pending
    })
    .await;
}
