//! A request that has arrived, before anything of it is read.

use std::sync::{Arc, OnceLock};
use std::time::Instant;

use actix_web::dev::RequestHead;
use chrono::{DateTime, Utc};
use smol_str::{SmolStr, format_smolstr};
use wendor_core::catalog::key::AppKey;
use wendor_core::request_id::RequestId;
use wendor_wire::dialect::Dialect;
use wendor_wire::refusal_code::RefusalCode;

use super::page::Page;
use crate::app::App;
use crate::caller::host_of;

/// A request that has arrived.
#[derive(Clone, Debug)]
pub struct Call {
    /// Given on arrival; it is in the answer, the log and the ledger.
    pub id: RequestId,
    /// Before its body was read.
    pub arrived_at: DateTime<Utc>,
    /// The same on the clock that only runs forward.
    pub started: Instant,
    /// The dialect that its app speaks, and in which it is told what is wrong.
    pub dialect: Dialect,
    /// The address under which the app knows this service; empty when it did not say.
    pub base: SmolStr,
    /// The web page that asks, if it is one.
    pub page: Page,
    /// The key that it came with, once that is known.
    pub key: OnceLock<Arc<AppKey>>,
}

impl Call {
    /// A request that arrives now.
    #[must_use]
    pub fn begin(app: &App, dialect: Dialect, head: &RequestHead, is_encrypted: bool) -> Self {
        let arrived_at = app.clock.now();
        let base = match (&app.settings.listening.public_url, host_of(head)) {
            (Some(url), _) => url.as_str().into(),
            // Whether the way to it is encrypted beyond that is known to proxies only; the path is what counts.
            (None, Some(host)) => format_smolstr!("{}://{host}", if is_encrypted { "https" } else { "http" }),
            (None, None) => SmolStr::default(),
        };
        let page = Page::of(head, app);
        Self {
            id: app.ids.next(arrived_at),
            arrived_at,
            started: Instant::now(),
            dialect,
            base,
            page,
            key: OnceLock::new(),
        }
    }

    /// A request that is only asked about.
    #[must_use]
    pub fn asked_about(app: &App, dialect: Dialect) -> Self {
        let arrived_at = app.clock.now();
        let (id, started) = (app.ids.next(arrived_at), Instant::now());
        Self { id, arrived_at, started, dialect, base: SmolStr::default(), page: Page::Own, key: OnceLock::new() }
    }

    /// The page that explains an error code.
    #[must_use]
    pub fn page_of(&self, code: RefusalCode) -> String {
        format!("{}/errors/{code}", self.base)
    }

    /// Milliseconds since it arrived.
    #[must_use]
    pub fn elapsed_ms(&self) -> u64 {
        u64::try_from(self.started.elapsed().as_millis()).unwrap_or(u64::MAX)
    }
}
