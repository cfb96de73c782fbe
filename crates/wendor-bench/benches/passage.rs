//! What a stream costs on its way: framed alone, passed in its own dialect, and translated into each other one, over the streams of the
//! vectors. `scripts/bench --core` runs it.

use std::hint::black_box;
use std::path::PathBuf;

use chrono::DateTime;
use criterion::{Criterion, Throughput, criterion_group, criterion_main};
use wendor_wire::codec::AnswerHead;
use wendor_wire::conversation::{FunctionForm, UsageFrame};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::frames::FrameDecoder;
use wendor_wire::passage::{Passage, Step};
use wendor_wire::seal::SealDomain;

fn stream_of(dialect: Dialect) -> Vec<u8> {
    let name = match dialect {
        Dialect::LocalChat => "chat-stream.reply.ndjson",
        Dialect::ChatCompletions | Dialect::Responses | Dialect::Messages | Dialect::GenerateContent => {
            "js-stream.reply.sse"
        }
    };
    let path =
        PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../wendor-wire/vectors").join(dialect.as_str()).join(name);
    std::fs::read(path).expect("the vector is there")
}

fn head() -> AnswerHead {
    AnswerHead {
        request: "01JDF3-7QK2M0XZ4T".to_owned(),
        model: "night-sailings".to_owned(),
        at: DateTime::UNIX_EPOCH,
        usage_frame: UsageFrame::Asked,
        functions: FunctionForm::Tools,
        input_estimate: 1,
        estimates_usage: false,
        seals: SealDomain::named("farlight"),
    }
}

/// As many bytes as leave.
fn passed(bytes: &[u8], from: Dialect, to: Dialect) -> usize {
    let mut passage = Passage::new(from, to, head());
    passage.push(bytes).expect("the stream is a proper one");
    let mut sent = 0;
    loop {
        match passage.step() {
            Step::Send(bytes) => sent += bytes.len(),
            Step::End(bytes) => return sent + bytes.len(),
            Step::More => match passage.upstream_ended() {
                Step::Send(bytes) => sent += bytes.len(),
                Step::End(bytes) => return sent + bytes.len(),
                Step::More | Step::Broken(..) => return sent,
            },
            Step::Broken(failure, _) => panic!("{failure:?}"),
        }
    }
}

fn costs(criterion: &mut Criterion) {
    for from in Dialect::ALL {
        let stream = stream_of(from);
        let mut group = criterion.benchmark_group(from.as_str());
        group.throughput(Throughput::Bytes(stream.len() as u64));
        group.bench_function("framed", |bencher| {
            bencher.iter(|| {
                let mut decoder = FrameDecoder::new(dialects::of(from).framing());
                decoder.push(black_box(&stream)).expect("events are small");
                std::iter::from_fn(|| decoder.next_frame()).count()
            });
        });
        for to in Dialect::ALL {
            let how = if from == to { "passed".to_owned() } else { format!("to {to}") };
            group.bench_function(how, |bencher| bencher.iter(|| passed(black_box(&stream), from, to)));
        }
        group.finish();
    }
}

criterion_group!(benches, costs);
criterion_main!(benches);
