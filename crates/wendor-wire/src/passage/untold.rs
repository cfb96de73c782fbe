//! The frame with usage for an app of chat-completions that asked for one, where its upstream sends none: with an estimate, in the
//! form that the dialect gives such a frame (`docs/protocols.md` section 2.5).

use bytes::Bytes;

use crate::codec::AnswerHead;
use crate::conversation::event::Usage;
use crate::json::{Json, Members};
use crate::sse::data_frame;

/// What such a frame says beside the usage.
#[derive(Debug)]
pub(super) struct UntoldUsage {
    id: String,
    model: String,
    created: i64,
}

impl UntoldUsage {
    /// For the answer with that head.
    pub(super) fn of(head: &AnswerHead) -> Self {
        Self { id: format!("chatcmpl-{}", head.request), created: head.created(), model: head.model.clone() }
    }

    /// The frame.
    pub(super) fn with(&self, usage: Usage) -> Bytes {
        let (input, output) = (usage.input.unwrap_or_default(), usage.output.unwrap_or_default());
        let counts = Members::new()
            .put("prompt_tokens", input)
            .put("completion_tokens", output)
            .put("total_tokens", input.saturating_add(output));
        let frame = Members::new()
            .put("id", &self.id)
            .put("object", "chat.completion.chunk")
            .put("created", self.created)
            .put("model", &self.model)
            .put("choices", Json::Raw("[]".into()))
            .nested("usage", counts);
        let mut out = Vec::new();
        data_frame(&frame.to_line(), &mut out);
        Bytes::from(out)
    }
}
