//! What leaves together, and the seals in it marked on their way to an app.

use bytes::{Bytes, BytesMut};

use super::conversation::event::Event;
use super::seal::SealDomain;

/// `raw` with every seal in it that was seen marked.
pub(crate) fn marked(raw: Bytes, seals: &SealDomain, seen: &[String]) -> Bytes {
    let Ok(text) = std::str::from_utf8(&raw) else { return raw };
    let mut changed: Option<String> = None;
    for seal in seen {
        let quoted = format!("\"{seal}\"");
        let from = changed.as_deref().unwrap_or(text);
        if from.contains(&quoted) {
            changed = Some(from.replace(&quoted, &format!("\"{}\"", seals.mark(seal))));
        }
    }
    changed.map_or(raw, Bytes::from)
}

/// A whole reply of an upstream for an app of its own dialect, with its seals marked.
#[must_use]
pub fn whole_marked(body: Bytes, events: &[Event], seals: &SealDomain) -> Bytes {
    let seen: Vec<String> = events
        .iter()
        .filter_map(|event| match event {
            Event::Sealed { seal, .. } => Some(seal.text().to_owned()),
            Event::Text { .. }
            | Event::Refusal { .. }
            | Event::Thinking { .. }
            | Event::Call { .. }
            | Event::Arguments { .. }
            | Event::CallEnd { .. }
            | Event::Citation { .. }
            | Event::Image { .. }
            | Event::Logprobs { .. }
            | Event::Finish { .. }
            | Event::Usage(_) => None,
        })
        .collect();
    if seen.is_empty() { body } else { marked(body, seals, &seen) }
}

/// What goes out together. Nearly always it is one frame, which stays the slice it is.
#[derive(Debug, Default)]
pub(crate) struct Sent {
    first: Bytes,
    more: Vec<Bytes>,
}

impl Sent {
    pub(crate) fn push(&mut self, bytes: Bytes) {
        if bytes.is_empty() {
            return;
        }
        if self.first.is_empty() {
            self.first = bytes;
        } else {
            self.more.push(bytes);
        }
    }

    pub(crate) fn is_empty(&self) -> bool {
        self.first.is_empty()
    }

    pub(crate) fn joined(&self) -> Bytes {
        if self.more.is_empty() {
            return self.first.clone();
        }
        let mut all = BytesMut::with_capacity(self.first.len() + self.more.iter().map(Bytes::len).sum::<usize>());
        all.extend_from_slice(&self.first);
        self.more.iter().for_each(|piece| all.extend_from_slice(piece));
        all.freeze()
    }
}

/// Pieces one after the other; a single one stays the slice it is.
pub(crate) fn joined(pieces: &[Bytes]) -> Bytes {
    let mut full = pieces.iter().filter(|piece| !piece.is_empty());
    match (full.next(), full.next()) {
        (None, _) => Bytes::new(),
        (Some(one), None) => one.clone(),
        (Some(_), Some(_)) => {
            let mut all = BytesMut::with_capacity(pieces.iter().map(Bytes::len).sum());
            pieces.iter().for_each(|piece| all.extend_from_slice(piece));
            all.freeze()
        }
    }
}
