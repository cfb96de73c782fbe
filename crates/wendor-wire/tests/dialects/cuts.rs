//! Streams cut by reads at every byte say the same; streams that end at every byte end in an error that clients raise on, unless only
//! the terminator was missing.

use rstest::rstest;
use wendor_wire::codec::Closing;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::passage::{Passage, Step};

use crate::answers::{events_of, told};
use crate::vectors::{Reply, Vector, head, of};

/// The streams of a dialect with most in them: several calls, thinking.
fn streams(dialect: Dialect) -> Vec<Vector> {
    let wanted: &[&str] = match dialect {
        Dialect::ChatCompletions => &["tools-parallel-stream", "reasoning-stream"],
        Dialect::Responses => &["tools-parallel-stream", "reasoning-text-stream"],
        Dialect::Messages => &["tools-parallel-stream", "thinking-stream"],
        Dialect::GenerateContent => &["tools-stream", "thinking-stream"],
        Dialect::LocalChat => &["tools-stream", "think-stream"],
    };
    of(dialect).into_iter().filter(|vector| wanted.contains(&vector.name.as_str())).collect()
}

fn bytes(vector: &Vector) -> &[u8] {
    match &vector.reply {
        Reply::Stream(bytes) => bytes,
        Reply::Whole(..) => &[],
    }
}

#[derive(Debug, PartialEq, Eq)]
enum Ended {
    Properly,
    InError,
    /// Before anything was sent: another offer would be tried.
    BeforeAnything,
}

/// All that an app gets when an upstream's stream comes in these reads and then ends.
fn run(from: Dialect, to: Dialect, reads: &[&[u8]]) -> (Vec<u8>, Ended) {
    let mut passage = Passage::new(from, to, head());
    let (mut sent, mut reads) = (Vec::new(), reads.iter());
    loop {
        let step = match passage.step() {
            Step::More => match reads.next() {
                Some(read) => {
                    passage.push(read).unwrap();
                    continue;
                }
                None => passage.upstream_ended(),
            },
            step @ (Step::Send(_) | Step::End(_) | Step::Broken(..)) => step,
        };
        match step {
            Step::Send(bytes) => sent.extend_from_slice(&bytes),
            Step::More => return (sent, Ended::InError),
            Step::End(bytes) => {
                sent.extend_from_slice(&bytes);
                return (sent, Ended::Properly);
            }
            Step::Broken(..) if sent.is_empty() => return (sent, Ended::BeforeAnything),
            Step::Broken(..) => {
                let (frames, closing) = passage.broken_off(&told());
                sent.extend_from_slice(&frames);
                assert_eq!(closing == Closing::Broken, to == Dialect::GenerateContent);
                return (sent, Ended::InError);
            }
        }
    }
}

#[rstest]
#[case(Dialect::ChatCompletions)]
#[case(Dialect::Responses)]
#[case(Dialect::Messages)]
#[case(Dialect::GenerateContent)]
#[case(Dialect::LocalChat)]
fn wherever_reads_are_cut_the_stream_is_the_same(#[case] from: Dialect) {
    {
        let streams = streams(from);
        assert_eq!(streams.len(), 2);
        for vector in &streams {
            let stream = bytes(vector);
            for to in Dialect::ALL {
                let (whole, ended) = run(from, to, &[stream]);
                assert_eq!(ended, Ended::Properly, "{from}/{} to {to}", vector.name);
                for cut in 1..stream.len() {
                    let (before, after) = stream.split_at(cut);
                    let (found, _) = run(from, to, &[before, after]);
                    assert!(found == whole, "{from}/{} to {to} cut at {cut}", vector.name);
                }
            }
        }
    }
}

#[rstest]
#[case(Dialect::ChatCompletions)]
#[case(Dialect::Responses)]
#[case(Dialect::Messages)]
#[case(Dialect::GenerateContent)]
#[case(Dialect::LocalChat)]
fn wherever_an_upstream_ends_the_app_is_told(#[case] from: Dialect) {
    {
        for vector in streams(from) {
            let stream = bytes(&vector);
            for to in Dialect::ALL {
                let (whole, _) = run(from, to, &[stream]);
                for cut in 0..stream.len() {
                    let (sent, ended) = run(from, to, &[&stream[..cut]]);
                    let place = || format!("{from}/{} to {to} ended at {cut}", vector.name);
                    match ended {
                        Ended::BeforeAnything => assert!(sent.is_empty(), "{}", place()),
                        Ended::InError => {
                            assert!(events_of(to, &sent).1.is_some(), "{}: {}", place(), String::from_utf8_lossy(&sent))
                        }
                        // Only the terminator, or what stands between it and the end, was missing.
                        Ended::Properly => {
                            let answer = |bytes: &[u8]| {
                                let (events, failure) = events_of(to, bytes);
                                assert_eq!(failure, None, "{}", place());
                                let answer = wendor_wire::conversation::answer::Answer::of(events);
                                // Usage may come behind the finish.
                                answer.choices
                            };
                            assert_eq!(answer(&sent), answer(&whole), "{}", place());
                        }
                    }
                }
            }
        }
    }
}

#[test]
fn an_error_frame_is_one_that_the_dialect_itself_reads_as_an_error() {
    for dialect in Dialect::ALL {
        let mut out = Vec::new();
        dialects::of(dialect).writer(head()).broken_off(&told(), &mut out);
        assert!(events_of(dialect, &out).1.is_some(), "{dialect}");
    }
}

/// A heartbeat anywhere between frames changes nothing of what an app reads.
#[test]
fn heartbeats_are_not_part_of_an_answer() {
    for dialect in Dialect::ALL {
        let Some(heartbeat) = dialects::of(dialect).heartbeat() else { continue };
        let vectors = streams(dialect);
        let text = String::from_utf8(bytes(&vectors[0]).to_vec()).unwrap().replace("\r\n", "\n");
        let with: String = text.split_inclusive("\n\n").flat_map(|frame| [frame, heartbeat]).collect();
        assert_eq!(events_of(dialect, with.as_bytes()), events_of(dialect, text.as_bytes()), "{dialect}");
    }
}
