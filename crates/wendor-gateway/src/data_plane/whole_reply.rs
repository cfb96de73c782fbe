//! A whole reply of an upstream: read to its end, checked, and put into the app's dialect; of a stream too, for offers that only stream.

use bytes::{Bytes, BytesMut};
use http_body_util::BodyExt;
use hyper::body::Incoming;
use hyper::{Response, header};
use tokio::time::{Instant, timeout_at};
use wendor_core::serving::fit::Content;
use wendor_wire::chat_completions::reply;
use wendor_wire::conversation::answer::Answer;
use wendor_wire::conversation::event::Usage;
use wendor_wire::conversation::facts::Facts;
use wendor_wire::count;
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::embedding::{EmbeddingRequest, Encoding, read_vectors_for};
use wendor_wire::endpoint::Kind;
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::frames::FrameDecoder;
use wendor_wire::halves::with_whole_letters;
use wendor_wire::images::Images;
use wendor_wire::plain;
use wendor_wire::sent::whole_marked;
use wendor_wire::sse::MAX_EVENT_BYTES;
use wendor_wire::usage::TokenCounts;

use super::exchange::Try;
use super::failing::timed_out;

/// Largest whole reply: long answers are some hundred kilobytes, images as text some megabytes.
pub(super) const MAX_REPLY_BYTES: usize = 64 * 1024 * 1024;

/// A whole reply, as the app gets it.
#[derive(Debug)]
pub struct WholeReply {
    /// As they go to the app.
    pub bytes: Bytes,
    /// What it says.
    pub facts: Facts,
    /// Whether it is plain text, and not JSON.
    pub is_text: bool,
    /// What its app is told beside, where there is something.
    pub note: Option<&'static str>,
}

impl WholeReply {
    fn json(bytes: Bytes, facts: Facts) -> Self {
        Self { bytes, facts, is_text: false, note: None }
    }
}

/// The count of a request whose upstream counts none: the estimate, which costs nothing.
pub(super) fn estimated_count(one: &Try<'_>) -> WholeReply {
    let tokens = (one.head)().input_estimate;
    let facts = Facts { counts: Some(TokenCounts::default()), is_finished: true, ..Facts::default() };
    let note = Some("the count is an estimate: the upstream counts no tokens");
    WholeReply { note, ..WholeReply::json(Bytes::from(count::reply(one.request.endpoint.dialect, tokens)), facts) }
}

/// All of a reply's body.
pub(super) async fn body_of(response: Response<Incoming>, one: &Try<'_>) -> Result<Bytes, Failure> {
    let mut body = response.into_body();
    // Nearly all come in one part, which is not copied.
    let (mut first, mut bytes) = (Bytes::new(), BytesMut::new());
    loop {
        let until = one.whole_until.min(Instant::now() + one.deadlines.between_events);
        match timeout_at(until, body.frame()).await {
            Err(_elapsed) => return Err(timed_out("nothing more of its reply", one.deadlines.between_events)),
            Ok(None) => return Ok(if bytes.is_empty() { first } else { bytes.freeze() }),
            Ok(Some(Err(_))) => {
                return Err(Failure::new(FailureKind::CutOff, "the connection broke in the middle of its reply"));
            }
            Ok(Some(Ok(frame))) => {
                let data = frame.into_data().unwrap_or_default();
                one.hearing.bytes(&data);
                if first.is_empty() {
                    first = data;
                } else {
                    let before = if bytes.is_empty() { &first[..] } else { &[] };
                    bytes.extend_from_slice(before);
                    bytes.extend_from_slice(&data);
                }
            }
        }
        let length = first.len().max(bytes.len());
        if one.is_text() {
            one.seen.note(Facts { output_bytes: u64::try_from(length).unwrap_or(u64::MAX), ..Facts::default() });
        }
        if length > MAX_REPLY_BYTES {
            return Err(Failure::new(
                FailureKind::Malformed,
                format!("its reply is larger than {MAX_REPLY_BYTES} bytes"),
            ));
        }
    }
}

/// A whole reply, checked, in the app's dialect.
pub(super) async fn whole(response: Response<Incoming>, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let content_type = response.headers().get(header::CONTENT_TYPE);
    let is_plain = content_type.is_some_and(|kind| kind.as_bytes().starts_with(b"text/plain"));
    let is_text = one.form.is_some() && is_plain;
    let bytes = body_of(response, one).await?;
    if is_text {
        let output_bytes = u64::try_from(bytes.len()).unwrap_or(u64::MAX);
        let facts = Facts { output_bytes, is_finished: true, ..Facts::default() };
        return Ok(WholeReply { bytes, facts, is_text, note: None });
    }
    let bytes = with_whole_letters(bytes);
    let (from, to) = (one.upstream.dialect, one.request.endpoint.dialect);
    match (one.content, &one.request.endpoint.kind) {
        (Content::Embedding(embedding), _) => embedded(embedding, bytes, one),
        (_, Kind::Chat(_)) if from == to && from == Dialect::ChatCompletions => {
            let read = reply::read(&bytes).map_err(|bad| Failure::new(FailureKind::Malformed, bad.to_string()))?;
            let images = Images::of(read.images, None);
            let (counts, output_bytes, is_at_cap) = (read.usage, read.output_bytes, read.is_at_cap);
            let facts = Facts { counts, output_bytes, is_at_cap, images, is_finished: true, ..Facts::default() };
            Ok(WholeReply::json(bytes, facts))
        }
        (_, Kind::Chat(_)) => {
            let events = dialects::of(from).read_whole(&bytes)?;
            let mut facts = Facts { is_finished: true, ..Facts::default() };
            events.iter().for_each(|event| if from == to { facts.take(event) } else { facts.take_for(to, event) });
            let bytes = if from == to {
                whole_marked(bytes, &events, &(one.head)().seals)
            } else {
                Bytes::from(dialects::of(to).write_whole(&Answer::of(events), &(one.head)())?)
            };
            Ok(WholeReply::json(bytes, facts))
        }
        (_, _) => {
            let mut facts = plain::read(&bytes)?;
            facts.images.size = facts.images.size.or(one.request.image_size.filter(|_| !facts.images.is_none()));
            if let Kind::Count(_) = one.request.endpoint.kind {
                // Counting is asked for nothing and costs nothing.
                facts.counts = Some(TokenCounts::default());
            }
            Ok(WholeReply::json(bytes, facts))
        }
    }
}

/// Vectors in the form that the app wants. Where that is the upstream's own, they pass as they came.
fn embedded(embedding: &EmbeddingRequest, bytes: Bytes, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let vectors = read_vectors_for(embedding, &bytes)?;
    let usage = vectors.input_tokens.map(|input| Usage { input: Some(input), output: Some(0), ..Usage::default() });
    let facts = Facts { usage, counts: usage.and_then(Usage::counts), is_finished: true, ..Facts::default() };
    let is_same = one.upstream.dialect == one.request.endpoint.dialect;
    // Some clients decode base64 without looking, so an upstream that ignores the wish is mended.
    let is_as_wished =
        embedding.encoding == Encoding::Numbers || memchr::memmem::find(&bytes, b"\"embedding\":\"").is_some();
    let bytes = if is_same && is_as_wished && vectors.came_in_order {
        bytes
    } else {
        Bytes::from(embedding.reply(&vectors, one.request))
    };
    Ok(WholeReply::json(bytes, facts))
}

/// A whole reply made of a stream, for offers that only stream.
pub(super) async fn gathered(response: Response<Incoming>, one: &Try<'_>) -> Result<WholeReply, Failure> {
    let bytes = with_whole_letters(body_of(response, one).await?);
    let codec = dialects::of(one.upstream.dialect);
    let (mut decoder, mut reader) = (FrameDecoder::new(codec.framing()), codec.reader());
    let mut events = Vec::new();
    for part in bytes.chunks(MAX_EVENT_BYTES / 2) {
        decoder.push(part).map_err(|error| Failure::new(FailureKind::Malformed, error.to_string()))?;
        while let Some(data) = decoder.next_frame().map(|frame| frame.data) {
            data.map(|data| reader.read(&data, &mut events)).transpose()?;
        }
    }
    if let Some(data) = decoder.finish().and_then(|frame| frame.data) {
        reader.read(&data, &mut events)?;
    }
    let mut facts = Facts { is_finished: reader.is_finished(), ..Facts::default() };
    events.iter().for_each(|event| facts.take_for(one.request.endpoint.dialect, event));
    one.seen.note(facts);
    if !reader.is_finished() {
        return Err(Failure::new(FailureKind::CutOff, "its stream ended in the middle"));
    }
    let answer = Answer::of(events);
    let bytes = dialects::of(one.request.endpoint.dialect).write_whole(&answer, &(one.head)())?;
    Ok(WholeReply::json(Bytes::from(bytes), facts))
}
