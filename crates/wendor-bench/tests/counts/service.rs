//! The service, in this process: an installation made as all tests make theirs, then served from here.

use std::net::{SocketAddr, TcpListener};

use tokio::sync::watch;
use wendor_core::metering::entry::Spooled;
use wendor_e2e::ferry::{Ferry, Wishes, catalogue};
use wendor_e2e::holding::HeldLedger;
use wendor_gateway::clock::Clock;
use wendor_gateway::settings::Layers;
use wendor_gateway::{Listeners, World, serve};
use wendor_store::Store;

use super::lockstep::ModelServer;

/// Quotas that are all counted and never reached.
const QUOTAS: &str = r#"
  { measure = "requests", per = "minute", limit = 100000000 },
  { measure = "tokens", per = "day", limit = 100000000000 },
  { measure = "cost", per = "month", limit = 100000000 },
"#;

/// The service and what it stands on.
pub struct Counted {
    ferry: Ferry,
    server: ModelServer,
    address: SocketAddr,
    _stop: watch::Sender<bool>,
    store: Store,
    runtime: tokio::runtime::Runtime,
}

impl Counted {
    pub fn begin() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
        let server = ModelServer::start();
        let ferry = runtime.block_on(installation(server.address()));
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap();
        let mut layers = Layers::default();
        let own = [
            ("listen", address.to_string()),
            ("database_url", ferry.start.database_url.clone()),
            ("spool", ferry.start.spool.display().to_string()),
            ("workers", "1".to_owned()),
            // Nothing is looked at meanwhile.
            ("inventory_every", "1h".to_owned()),
        ];
        layers.flags.extend(own.map(|(name, value)| (name.to_owned(), value)));
        let settings = layers.check().unwrap();
        let store = {
            let _inside = runtime.enter();
            Store::new(settings.database_url.expose()).unwrap()
        };
        let apart = {
            let _inside = runtime.enter();
            store.apart()
        };
        let (stopping, stop) = watch::channel(false);
        let listeners = Listeners { apps: listener, management: None };
        let world = World { settings, listeners, store, clock: Clock::system(), process: 7, stop };
        runtime.spawn(serve(world));
        let counted = Self { ferry, server, address, _stop: stopping, store: apart, runtime };
        super::lockstep::App::connect(address).wait_until_drained();
        counted
    }

    pub fn address(&self) -> SocketAddr {
        self.address
    }

    pub fn key(&self) -> &str {
        &self.ferry.key
    }

    /// What is settled from here on waits in the spool.
    pub fn hold_ledger(&self) -> HeldLedger {
        self.runtime.block_on(HeldLedger::of(&self.ferry.database.url))
    }

    /// It goes into the database all at once.
    pub fn let_go(&self, held: HeldLedger) {
        self.runtime.block_on(held.let_go());
    }

    /// Drains entries as the service does, on connections apart.
    pub fn drain(&self, entries: &[Spooled]) {
        let drained = self.runtime.block_on(self.store.drain(entries, None)).unwrap();
        assert_eq!(drained, entries.len() as u64);
    }

    pub fn server(&self) -> &ModelServer {
        &self.server
    }
}

/// What apps ask is answered by that server; the service that made the installation has ended.
async fn installation(server: SocketAddr) -> Ferry {
    let wishes = Wishes {
        quotas: QUOTAS.to_owned(),
        patience: Some("60s"),
        streams: Some(100_000),
        output_cap: Some(100_000),
        ..Wishes::default()
    };
    let mut ferry = Ferry::empty(&wishes).await;
    ferry.apply(&catalogue(&server.to_string(), &ferry.quarry.address().to_string(), &wishes)).await;
    ferry.key = ferry.issue_key("timetables").await;
    ferry.service.terminate();
    assert!(ferry.service.ended().await);
    ferry
}
