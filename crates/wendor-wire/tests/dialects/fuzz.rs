//! What is made from each dialect's grammar keeps its meaning to every other; what is nearly right, or nothing at all, makes no decoder
//! panic and takes steps in proportion to its length. `WENDOR_FUZZ_CASES` runs more cases, from `WENDOR_FUZZ_FIRST` on.

use serde_json::Value;
use wendor_wire::asked::AppRequest;
use wendor_wire::codec::Outside;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{EmbeddingRequest, read_vectors};
use wendor_wire::endpoint::EmbedForm;
use wendor_wire::passage::{Passage, Step};
use wendor_wire::steps::so_far;

use crate::answers::{common, events_of};
use crate::edges::{chat, sent_from, target};
use crate::grammar::answered::Answered;
use crate::grammar::asked::Asked;
use crate::grammar::bodies::body;
use crate::grammar::dice::Dice;
use crate::grammar::mangled::{garbled, mangled, shuffled};
use crate::grammar::replies::frames;
use crate::grammar::wholes::whole;
use crate::round_trip::seen;
use crate::vectors::{Reply, all, head};

/// Cases of a usual run; the drill runs millions.
const CASES: u64 = 2_000;

/// Steps that each byte may take, and each request and stream beside. Most that were seen are half of it.
const STEPS_PER_BYTE: u64 = 120;
const STEPS_BESIDE: u64 = 40_000;

#[expect(clippy::disallowed_methods, reason = "the drill says how many cases it wants")]
fn wanted(variable: &str, usual: u64) -> u64 {
    std::env::var(variable).ok().map_or(usual, |value| value.parse().unwrap())
}

/// Says which case it was, should it fail.
struct Case(u64);

impl Drop for Case {
    fn drop(&mut self) {
        if std::thread::panicking() {
            eprintln!("It was case {0}: WENDOR_FUZZ_FIRST={0} WENDOR_FUZZ_CASES=1 runs it alone.", self.0);
        }
    }
}

/// Runs `check` for every pair of dialects in turn.
fn each_case(check: impl Fn(Dialect, Dialect, &mut Dice)) {
    let (first, cases) = (wanted("WENDOR_FUZZ_FIRST", 0), wanted("WENDOR_FUZZ_CASES", CASES));
    for number in first..first.saturating_add(cases) {
        let case = Case(number);
        let pair = usize::try_from(number % 25).unwrap();
        check(Dialect::ALL[pair / 5], Dialect::ALL[pair % 5], &mut Dice::of(number));
        drop(case);
    }
}

/// `run`, held to steps in proportion to `bytes`.
fn in_proportion<T>(bytes: usize, run: impl FnOnce() -> T) -> T {
    let before = so_far();
    let done = run();
    let (steps, most) = (so_far() - before, bytes as u64 * STEPS_PER_BYTE + STEPS_BESIDE);
    assert!(steps <= most, "{bytes} bytes took {steps} steps, more than {most}");
    done
}

/// Which members of what is seen a note speaks of, by the words in its path.
const WORDS: [(&str, &[&str]); 8] = [
    ("system", &["system", "instructions"]),
    ("turns", &["messages", "input", "contents"]),
    ("tools", &["tools"]),
    ("limit", &["max", "num_predict", "limit"]),
    ("temperature", &["temperature"]),
    ("stop", &["stop"]),
    ("user", &["user"]),
    ("format", &["format", "responsemimetype", "response_mime_type"]),
];

#[test]
fn a_body_keeps_its_meaning() {
    each_case(|from, to, dice| {
        let asked = Asked::of(dice, from);
        let body = body(&asked, from, dice);
        let (sent, changes) = match in_proportion(body.len(), || sent_from(chat(from), &body, &target(to))) {
            Ok(sent) => sent,
            Err(why) => {
                let has_no_word = to == Dialect::Responses && !asked.stop.is_empty();
                assert!(has_no_word, "{from} to {to}: {why}\n{body}");
                return;
            }
        };
        let outside = Outside { model: Some("m"), ..Outside::default() };
        let read =
            dialects::of(to).read_request(&sent.to_string(), outside).unwrap_or_else(|wrong| panic!("{wrong}: {sent}"));
        let (mut meant, mut found) = (asked.seen(), seen(&read));
        if found["format"] != meant["format"] {
            // What has no form for it is instructed, beside what the app's system text says.
            let system = |seen: &Value| seen["system"].as_str().unwrap_or_default().to_owned();
            assert!(system(&found).starts_with(&system(&meant)), "{from} to {to}: {sent}");
            found["system"] = meant["system"].clone();
        }
        if asked.limit.is_none() {
            // One dialect demands a limit.
            found["limit"] = Value::Null;
        }
        for (member, words) in WORDS {
            if changes.iter().any(|path| words.iter().any(|word| path.to_lowercase().contains(word))) {
                (meant[member], found[member]) = (Value::Null, Value::Null);
            }
        }
        assert_eq!(found, meant, "{from} to {to}, noted {changes:?}:\n{body}\n{sent}");
        for (name, value) in &asked.noise {
            assert!(
                sent.get(name) == Some(value) || changes.contains(name),
                "{from} to {to}: {name} is lost without a note"
            );
        }
    });
}

#[test]
fn a_reply_keeps_its_meaning() {
    each_case(|from, to, dice| {
        let answered = Answered::of(dice);
        let stream = frames(&answered, from, dice).concat();
        let out = in_proportion(stream.len(), || passed(from, to, stream.as_bytes(), dice)).unwrap();
        let (events, failure) = events_of(to, &out);
        let text = String::from_utf8_lossy(&out);
        assert_eq!(failure, None, "{from} to {to}: {text}");
        assert_eq!(common(&Answer::of(events)), answered.seen(), "{from} to {to}:\n{stream}\n{text}");

        let body = whole(&answered, from, dice);
        let written = in_proportion(body.len(), || {
            let answer = Answer::of(dialects::of(from).read_whole(body.as_bytes()).unwrap());
            dialects::of(to).write_whole(&answer, &head()).unwrap()
        });
        let read = Answer::of(dialects::of(to).read_whole(written.as_bytes()).unwrap());
        assert_eq!(common(&read), answered.seen(), "{from} to {to}:\n{body}\n{written}");
    });
}

/// What an app of `to` gets of a stream of `from` that comes in pieces of any size; `None` where it broke.
fn passed(from: Dialect, to: Dialect, stream: &[u8], dice: &mut Dice) -> Option<Vec<u8>> {
    let mut passage = Passage::new(from, to, head());
    let (mut out, mut rest) = (Vec::new(), stream);
    loop {
        let step = passage.step();
        let is_over = matches!(step, Step::More) && rest.is_empty();
        match if is_over { passage.upstream_ended() } else { step } {
            Step::Send(bytes) => out.extend_from_slice(&bytes),
            Step::End(bytes) => {
                out.extend_from_slice(&bytes);
                return Some(out);
            }
            Step::Broken(..) => return None,
            Step::More if is_over => return Some(out),
            Step::More => {
                let (piece, more) = rest.split_at(1 + dice.below(rest.len().min(200)));
                passage.push(piece).ok()?;
                rest = more;
            }
        }
    }
}

#[test]
fn nothing_that_is_nearly_a_body_makes_a_decoder_panic() {
    let vectors: Vec<_> = all().into_iter().filter(|vector| vector.is_chat()).collect();
    each_case(|from, to, dice| {
        let of_vector = dice.in_hundred(20);
        let mut body = if of_vector {
            dice.one_of(&vectors).body.to_string()
        } else {
            let asked = Asked::of(dice, from);
            body(&asked, from, dice)
        };
        if dice.in_hundred(70) {
            body = mangled(serde_json::from_str(&body).unwrap(), dice).to_string();
        }
        let bytes = if dice.coin() { garbled(body.into_bytes(), dice) } else { body.into_bytes() };
        in_proportion(bytes.len(), || {
            if let Ok(text) = std::str::from_utf8(&bytes) {
                let _sent = sent_from(chat(from), text, &target(to));
            }
            let read = AppRequest::read(chat(from), &bytes);
            let _understood = read.map(|request| request.understood(&bytes).is_ok());
            let _embedding = EmbeddingRequest::read(EmbedForm::ContentBatch, &bytes);
        });
    });
}

#[test]
fn nothing_that_is_nearly_a_reply_makes_a_decoder_panic() {
    let replies: Vec<Vec<u8>> = all()
        .into_iter()
        .filter(|vector| vector.is_chat())
        .map(|vector| match vector.reply {
            Reply::Whole(_, body) => body.to_string().into_bytes(),
            Reply::Stream(bytes) => bytes,
        })
        .collect();
    each_case(|from, to, dice| {
        let answered = Answered::of(dice);
        let bytes = match dice.below(10) {
            0 => dice.one_of(&replies).clone(),
            1 | 2 => whole(&answered, from, dice).into_bytes(),
            _ => {
                let mut frames = frames(&answered, from, dice);
                if dice.coin() {
                    frames = shuffled(frames, dice);
                }
                if dice.coin() && !frames.is_empty() {
                    let at = dice.below(frames.len());
                    frames[at] = mangled_frame(&frames[at], dice);
                }
                frames.concat().into_bytes()
            }
        };
        let bytes = if dice.coin() { garbled(bytes, dice) } else { bytes };
        in_proportion(bytes.len(), || {
            let _out = passed(from, to, &bytes, dice);
            let _read = dialects::of(from)
                .read_whole(&bytes)
                .map(|events| dialects::of(to).write_whole(&Answer::of(events), &head()));
            let _vectors = read_vectors(&bytes);
        });
    });
}

/// A frame whose value has places changed; one whose value stands over several lines stays.
fn mangled_frame(frame: &str, dice: &mut Dice) -> String {
    let Some(begin) = frame.find('{') else { return frame.to_owned() };
    let end = frame.rfind('}').map_or(frame.len(), |at| at + 1);
    let Ok(value) = serde_json::from_str::<Value>(frame.get(begin..end).unwrap_or_default()) else {
        return frame.to_owned();
    };
    format!("{}{}{}", &frame[..begin], mangled(value, dice), &frame[end..])
}

#[test]
fn nothing_at_all_makes_a_decoder_panic() {
    each_case(|from, to, dice| {
        let bytes = dice.several(0, 200, |dice| u8::try_from(dice.below(256)).unwrap());
        let _out = passed(from, to, &bytes, dice);
        let _read = AppRequest::read(chat(from), &bytes).map(|request| request.understood(&bytes).is_ok());
    });
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
