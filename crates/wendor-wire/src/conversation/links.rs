//! Which result belongs to which call: found once, in one pass, when a request has been read. Every dialect links in its own way: by ids,
//! by names and order, or by both.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use crate::conversation::turn::{CallKind, Called};
use crate::conversation::{Conversation, PartKind, ToolCall, ToolResult};

/// Calls that have no result yet, by their order.
#[derive(Default)]
struct Open {
    calls: BTreeMap<usize, (String, String)>,
    by_name: HashMap<String, BTreeSet<usize>>,
    by_id: HashMap<String, usize>,
}

impl Open {
    fn push(&mut self, order: usize, name: &str, id: &str) {
        self.calls.insert(order, (name.to_owned(), id.to_owned()));
        self.by_name.entry(name.to_owned()).or_default().insert(order);
        self.by_id.insert(id.to_owned(), order);
    }

    /// The oldest open call of that name, or of any.
    fn oldest(&self, name: Option<&str>) -> Option<usize> {
        match name {
            Some(name) => self.by_name.get(name)?.first().copied(),
            None => self.calls.first_key_value().map(|(order, _)| *order),
        }
    }

    fn close(&mut self, order: usize) -> Option<String> {
        let (name, id) = self.calls.remove(&order)?;
        if let Some(of_name) = self.by_name.get_mut(&name) {
            of_name.remove(&order);
        }
        if self.by_id.get(&id) == Some(&order) {
            self.by_id.remove(&id);
        }
        Some(id)
    }
}

/// Gives every call an id, and every result the id, the name and the kind of its call: the last one before it with its id, or, where it
/// has none, the oldest of its name that has no result yet. Dialects without ids never show them to their apps.
pub(super) fn link(conversation: &mut Conversation) {
    let (mut open, mut named): (Open, HashMap<String, Called>) = (Open::default(), HashMap::new());
    let mut minted = 0u32;
    let parts = conversation.turns.iter_mut().flat_map(|turn| &mut turn.parts);
    for (order, part) in parts.enumerate() {
        match &mut part.kind {
            PartKind::ToolCall(call) => {
                if call.id.is_none() {
                    minted += 1;
                    call.id = Some(format!("call_h{minted}"));
                }
                begin(call, order, &mut open, &mut named);
            }
            PartKind::ToolResult(result) => end(result, &mut open, &named),
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::Image(_)
            | PartKind::Audio(_)
            | PartKind::File(_)
            | PartKind::Video(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => {}
        }
    }
}

fn begin(call: &ToolCall, order: usize, open: &mut Open, named: &mut HashMap<String, Called>) {
    let Some(id) = &call.id else { return };
    open.push(order, &call.name, id);
    named.insert(id.clone(), Called { name: call.name.clone(), kind: call.kind });
}

fn end(result: &mut ToolResult, open: &mut Open, named: &HashMap<String, Called>) {
    let order = match &result.call {
        Some(id) => open.by_id.get(id).copied(),
        None => open.oldest(result.name.as_deref()),
    };
    let closed = order.and_then(|order| open.close(order));
    result.call = result.call.take().or(closed);
    result.called = result.call.as_ref().and_then(|id| named.get(id)).cloned();
    // Only one of the dialects that have two kinds says so on the result itself.
    if result.called.as_ref().is_some_and(|called| called.kind == CallKind::Custom) {
        result.kind = CallKind::Custom;
    }
}
