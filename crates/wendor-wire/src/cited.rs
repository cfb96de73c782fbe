//! Sources that an answer names: two dialects name addresses in the same words but for their frame, a third names them in its own; what
//! one dialect alone can say goes to its own apps as it came, and is counted as left out elsewhere.

use std::ops::Range;

use crate::change::RequestChange;
use crate::dialect::Dialect;
use crate::json::{Json, Members, Node, RawJson};

/// A source that an answer names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Citation {
    /// The dialect that it came in.
    of: Dialect,
    /// As it stood there.
    raw: RawJson,
    /// The address that it names, if it names one.
    source: Option<Source>,
}

/// An address that an answer names.
#[derive(Clone, Debug, PartialEq, Eq)]
struct Source {
    url: String,
    title: Option<String>,
    /// The letters of the text that it is for, counted from 0. Where they are not told, they are all of the text so far.
    place: Option<(u64, u64)>,
}

impl Citation {
    /// The citation at `node`.
    #[must_use]
    pub fn of(of: Dialect, node: &Node<'_>) -> Self {
        Self { of, raw: node.raw(), source: Source::of(of, node) }
    }

    /// As an app of `dialect` reads it, for a text that stands at those `letters` of the app's. `None` where it has no words for it.
    #[must_use]
    pub fn written(&self, dialect: Dialect, letters: &Range<usize>) -> Option<Json> {
        if self.of == dialect {
            return Some(self.raw.clone().into());
        }
        let source = self.source.as_ref()?;
        match dialect {
            Dialect::ChatCompletions => {
                Some(Members::typed("url_citation").put("url_citation", source.members(Members::new(), letters)).into())
            }
            Dialect::Responses => Some(source.members(Members::typed("url_citation"), letters).into()),
            // One wants a mark that only its own service makes; two have no place.
            Dialect::Messages | Dialect::GenerateContent | Dialect::LocalChat => None,
        }
    }
}

impl Source {
    fn of(of: Dialect, node: &Node<'_>) -> Option<Self> {
        let mut object = node.object().ok()?;
        let mut named = match of {
            Dialect::ChatCompletions => object.object("url_citation").ok()??,
            Dialect::Responses | Dialect::Messages => object,
            Dialect::GenerateContent | Dialect::LocalChat => return None,
        };
        let place = |from: Option<Node<'_>>, to: Option<Node<'_>>| Some((from?.count().ok()?, to?.count().ok()?));
        Some(Self {
            url: named.text("url").ok()??,
            title: named.text("title").ok()?,
            place: place(named.take("start_index"), named.take("end_index")),
        })
    }

    fn members(&self, members: Members, letters: &Range<usize>) -> Members {
        let [begin, end] = [letters.start, letters.end].map(|letter| u64::try_from(letter).unwrap_or_default());
        let (from, to) =
            self.place.map_or((begin, end), |(from, to)| (begin.saturating_add(from), begin.saturating_add(to)));
        let members = members.put("url", &self.url).put("title", self.title.as_deref().unwrap_or_default());
        members.put("start_index", from).put("end_index", to)
    }
}

/// What of an answer had no words in the app's dialect.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct LeftOut {
    /// Sources.
    pub citations: u32,
    /// Images that were not sent on.
    pub images: u32,
}

impl LeftOut {
    /// The same for the record, as changes of the answer.
    pub fn changes(self, dialect: Dialect) -> impl Iterator<Item = RequestChange> {
        let counts = [("citations in the answer", self.citations), ("images in the answer", self.images)];
        counts.into_iter().filter(|(_, count)| *count > 0).map(move |(what, count)| {
            RequestChange::new(what, &count.to_string(), &format!("left out: {dialect} has no place for them"))
        })
    }
}
