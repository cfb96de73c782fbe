//! What leaves together, and the seals in it marked on their way to an app.

use std::collections::HashMap;

use bytes::{Bytes, BytesMut};

use crate::conversation::event::Event;
use crate::json::texts::texts;
use crate::json::write::quoted;
use crate::seal::{Seal, SealDomain};

/// `raw` with every seal in it that was seen marked, wherever it stands and however its letters are written.
pub(crate) fn marked(raw: Bytes, seals: &SealDomain, seen: &HashMap<String, Seal>) -> Bytes {
    let Ok(text) = std::str::from_utf8(&raw) else { return raw };
    let (mut out, mut from) = (String::new(), 0);
    for found in texts(text) {
        let Some(seal) = found.text().and_then(|found| seen.get(found.as_ref())) else { continue };
        out.push_str(text.get(from..found.quoted().start).unwrap_or_default());
        quoted(&seals.mark(seal), &mut out);
        from = found.quoted().end;
    }
    if from == 0 {
        return raw;
    }
    out.push_str(text.get(from..).unwrap_or_default());
    Bytes::from(out)
}

/// A whole reply of an upstream for an app of its own dialect, with its seals marked.
#[must_use]
pub fn whole_marked(body: Bytes, events: &[Event], seals: &SealDomain) -> Bytes {
    let seen: HashMap<String, Seal> = events
        .iter()
        .filter_map(|event| match event {
            Event::Sealed { seal, .. } => Some((seal.text().to_owned(), seal.clone())),
            Event::Text { .. }
            | Event::Refusal { .. }
            | Event::Thinking { .. }
            | Event::Call { .. }
            | Event::Arguments { .. }
            | Event::CallEnd { .. }
            | Event::NextBlock { .. }
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
