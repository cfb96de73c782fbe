//! Decoders take whatever comes: no panic, and memory within what one event may hold. `WENDOR_FUZZ_CASES` runs more cases.

use proptest::prelude::*;
use wendor_core::catalog::upstream::Dialect;
use wendor_core::wire::asked::AppRequest;
use wendor_core::wire::codec;
use wendor_core::wire::embedding::{EmbeddingRequest, read_vectors};
use wendor_core::wire::endpoint::{EmbedForm, Endpoint, InPath, Kind};
use wendor_core::wire::passage::{Passage, Step};

use crate::vectors::{Reply, all, head};

/// Cases of a usual run; the drill runs millions.
const CASES: u32 = 300;

#[expect(clippy::disallowed_methods, reason = "the drill says how many cases it wants")]
fn config() -> ProptestConfig {
    let cases = std::env::var("WENDOR_FUZZ_CASES").ok().and_then(|cases| cases.parse().ok());
    ProptestConfig { cases: cases.unwrap_or(CASES), failure_persistence: None, ..ProptestConfig::default() }
}

/// A vector's bytes with some of them changed, cut or doubled: what a decoder meets is nearly right.
fn garbled() -> impl Strategy<Value = (Dialect, Vec<u8>, bool)> {
    let all: Vec<(Dialect, Vec<u8>, bool)> = all()
        .into_iter()
        .filter(|vector| vector.is_chat())
        .flat_map(|vector| {
            let request = (vector.dialect, vector.body.to_string().into_bytes(), false);
            let reply = match &vector.reply {
                Reply::Whole(_, body) => body.to_string().into_bytes(),
                Reply::Stream(bytes) => bytes.clone(),
            };
            [request, (vector.dialect, reply, true)]
        })
        .collect();
    let edits = proptest::collection::vec((any::<prop::sample::Index>(), any::<u8>(), 0u8..4), 0..6);
    (prop::sample::select(all), edits).prop_map(|((dialect, mut bytes, is_reply), edits)| {
        for (place, byte, how) in edits {
            let at = place.index(bytes.len().max(1)).min(bytes.len().saturating_sub(1));
            match how {
                _ if bytes.is_empty() => {}
                0 => bytes[at] = byte,
                1 => bytes.truncate(at),
                2 => bytes.insert(at, byte),
                _ => {
                    let again = bytes[at..].to_vec();
                    bytes.extend(again.into_iter().take(200));
                }
            }
        }
        (dialect, bytes, is_reply)
    })
}

fn endpoint(dialect: Dialect) -> Endpoint {
    Endpoint {
        dialect,
        kind: Kind::Chat(InPath { model: Some("m".to_owned()), is_streamed: false, ..InPath::default() }),
    }
}

fn run(from: Dialect, to: Dialect, bytes: &[u8]) {
    let mut passage = Passage::new(from, to, head());
    for piece in bytes.chunks(7) {
        if passage.push(piece).is_err() {
            return;
        }
        loop {
            match passage.step() {
                Step::Send(_) => {}
                Step::More => break,
                Step::End(_) | Step::Broken(..) => return,
            }
        }
    }
    let _ended = passage.upstream_ended();
}

proptest! {
    #![proptest_config(config())]

    #[test]
    fn nothing_that_is_nearly_right_makes_a_decoder_panic((dialect, bytes, is_reply) in garbled(), to in 0usize..5) {
        if is_reply {
            run(dialect, Dialect::ALL[to], &bytes);
            let _read = codec::of(dialect).read_whole(&bytes);
            let _vectors = read_vectors(&bytes);
        } else if let Ok(request) = AppRequest::read(endpoint(dialect), &bytes) {
            let _understood = request.understood(&bytes);
        }
        let _embedding = EmbeddingRequest::read(EmbedForm::ContentBatch, &bytes);
    }

    #[test]
    fn nothing_at_all_makes_a_decoder_panic(bytes: Vec<u8>, from in 0usize..5, to in 0usize..5) {
        run(Dialect::ALL[from], Dialect::ALL[to], &bytes);
        let _read = AppRequest::read(endpoint(Dialect::ALL[from]), &bytes);
    }
}

#[test]
fn a_line_of_fifty_megabytes_is_refused_cleanly() {
    for from in Dialect::ALL {
        let mut passage = Passage::new(from, Dialect::ChatCompletions, head());
        let megabyte = vec![b'x'; 1024 * 1024];
        passage.push(b"data: {\"a\":\"").unwrap();
        let refused_at = (1..=50).find(|_| passage.push(&megabyte).is_err());
        assert_eq!(refused_at, Some(8), "{from}: what one event may hold is bounded");
    }
}
