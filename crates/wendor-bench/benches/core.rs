//! What the computation of one request costs: its plan, its price, its entry as a frame of the spool. `scripts/bench --core` runs it.

use std::hint::black_box;

use criterion::{Criterion, criterion_group, criterion_main};
use wendor_core::catalog::file;
use wendor_core::metering::entry::{LedgerEntry, Settled};
use wendor_core::metering::rate::{Rate, price};
use wendor_core::metering::spool_frame;
use wendor_core::name::Name;
use wendor_core::request_id::RequestId;
use wendor_core::routing::health::Asking;
use wendor_core::routing::plan::{Lot, OfferView, make};
use wendor_core::routing::reason::Streams;
use wendor_wire::images::Images;
use wendor_wire::usage::TokenCounts;

/// A route of two stages with eight offers.
const CATALOGUE: &str = r#"
currency = "EUR"
[upstreams.quayside]
address = "http://quayside.example"
hosting = "own"
offers.m0 = {}
offers.m1 = {}
offers.m2 = {}
offers.m3 = {}
[upstreams.quarry]
address = "https://quarry.example"
hosting = "hosted"
offers.m0 = {}
offers.m1 = {}
offers.m2 = {}
offers.m3 = {}
[routes.manifests]
stages = [
  { offers = ["quayside/m0", "quayside/m1", "quayside/m2", "quayside/m3"], pick = "room" },
  { offers = ["quarry/m0", "quarry/m1", "quarry/m2", "quarry/m3"], pick = "share" },
]
[teams.timetables]
"#;

fn costs(criterion: &mut Criterion) {
    let read = file::read(CATALOGUE).expect("the catalogue can be read");
    let route = &read.catalogue.routes["manifests"];
    let view = |_: &_| OfferView {
        asking: Asking::Freely,
        streams: Streams { open: 3, of: Some(8) },
        loads_since: None,
        room: Ok(()),
        first_token_ms: Some(120),
        expected_cost: None,
        unfit: None,
    };
    criterion.bench_function("plan of eight offers", |bencher| {
        bencher.iter(|| make(black_box(route), view, Lot { seed: 7, opening: Some(11) }));
    });

    let amount = |text: &str| text.parse().expect("it is an amount");
    let rate = Rate {
        effective_on: "2026-11-01".parse().expect("it is a day"),
        input: amount("0.9"),
        input_cached: Some(amount("0.31")),
        cache_written: None,
        output: amount("3.5"),
        image: None,
        image_sizes: Default::default(),
    };
    let tokens = TokenCounts { input: 3_200, input_cached: 5_920, output: 1_024, ..TokenCounts::default() };
    criterion.bench_function("price of a request", |bencher| {
        bencher.iter(|| price(black_box(tokens), Images::default(), black_box(&rate)));
    });

    let at = "2026-11-25T08:10:40Z".parse().expect("it is an instant");
    let name = |text| Name::parse(text).expect("it is a name");
    let entry = LedgerEntry {
        tokens,
        ..LedgerEntry::of_request(at, RequestId::mint(at, 1, 7), name("timetables"), name("manifests"))
    };
    let settled = Settled { entry, detail: None, quotas: Vec::new() };
    criterion.bench_function("entry as a frame of the spool", |bencher| {
        let mut out = Vec::with_capacity(1_024);
        bencher.iter(|| {
            out.clear();
            spool_frame::write_settled(black_box(&settled), &mut out);
        });
    });
}

criterion_group!(benches, costs);
criterion_main!(benches);
