//! The fields that a conversation holds, each with the place where it stands in the app's body.

use crate::conversation::turn::{CallKind, Foreign, Media, MediaSource, Thinking, ToolResult};
use crate::conversation::wish::ThinkingAmount;
use crate::conversation::{AnswerFormat, Conversation, Native, Part, PartKind, Role, ToolChoice, ToolKind, Turn};
use crate::json::Number;
use crate::seal::Seal;
use crate::verdict::Target;
use crate::verdict::field::Field;

/// Stop texts that chat-completions takes.
const STOPS_OF_CHAT: usize = 4;

/// Stop texts that generate-content takes.
const STOPS_OF_CONTENT: usize = 5;

type Found = Vec<(Field, String)>;

/// Everything that `conversation` holds, in the order of the body's parts. Whether a seal is one of the target's depends on the
/// target.
#[must_use]
pub fn fields(conversation: &Conversation, target: &Target<'_>) -> Vec<(Field, String)> {
    let mut fields = Found::new();
    native(&conversation.native, &mut fields);
    turns(conversation, target, &mut fields);
    tools(conversation, &mut fields);
    sampling(conversation, &mut fields);
    thinking(conversation, target, &mut fields);
    let mut say = |is_there: bool, field, path: &str| {
        if is_there {
            fields.push((field, conversation.place(path)));
        }
    };
    say(conversation.output_limit.is_some(), Field::OutputLimit, "output_limit");
    say(conversation.end_user.is_some(), Field::EndUser, "user");
    match &conversation.format {
        Some(AnswerFormat::Json) => say(true, Field::JsonMode, "format"),
        Some(AnswerFormat::Schema(_)) => say(true, Field::JsonSchema, "format"),
        Some(AnswerFormat::Text) | None => {}
    }
    fields
}

fn native(members: &[Native], found: &mut Found) {
    found.extend(members.iter().map(|member| (member.field, member.path.clone())));
}

fn turns(conversation: &Conversation, target: &Target<'_>, found: &mut Found) {
    let leading = conversation.leading_system_turns();
    for (index, turn) in conversation.turns.iter().enumerate() {
        match (turn.role, index < leading) {
            (Role::System, true) => found.push((Field::SystemText, turn.path.clone())),
            (Role::Developer, true) => found.push((Field::DeveloperText, turn.path.clone())),
            (Role::System | Role::Developer, false) => found.push((Field::SystemMidway, turn.path.clone())),
            (Role::User | Role::Assistant, _) => {}
        }
        if turn.name.is_some() {
            found.push((Field::TurnName, format!("{}.name", turn.path)));
        }
        native(&turn.native, found);
        parts(&turn.parts, conversation, target, found);
    }
    let said = conversation.turns.get(leading..).unwrap_or_default();
    if let Some(first) = said.first().filter(|turn| turn.role == Role::Assistant) {
        found.push((Field::AssistantFirst, first.path.clone()));
    }
    if let Some(last) = said.last().filter(|turn| is_begun_answer(turn)) {
        found.push((Field::Prefill, last.path.clone()));
    }
}

/// A last turn of the model with text that it is to continue. A call at the end waits for its result instead.
fn is_begun_answer(turn: &Turn) -> bool {
    turn.role == Role::Assistant && turn.parts.iter().any(|part| matches!(part.kind, PartKind::Text(_)))
}

fn parts(parts: &[Part], conversation: &Conversation, target: &Target<'_>, found: &mut Found) {
    for part in parts {
        let path = || part.path.clone();
        native(&part.native, found);
        match &part.kind {
            PartKind::Text(_) | PartKind::Refusal(_) => {}
            PartKind::ToolCall(call) => {
                if call.kind == CallKind::Function && call.arguments_object().is_none() {
                    found.push((Field::BrokenArguments, path()));
                }
                if let Some(seal) = &call.seal {
                    found.push((seal_field(conversation, target, seal), path()));
                }
            }
            PartKind::Image(media) => found.push((media_field(media, Field::ImageBytes, Field::ImageUrl), path())),
            PartKind::Audio(media) => {
                let is_usual = matches!(media.source.kind(), Some("audio/wav" | "audio/mp3"));
                let by_bytes = if is_usual { Field::AudioIn } else { Field::OtherAudioIn };
                found.push((media_field(media, by_bytes, Field::FileUrl), path()));
            }
            PartKind::File(media) => found.push((media_field(media, Field::FileBytes, Field::FileUrl), path())),
            PartKind::Video(media) => found.push((media_field(media, Field::Video, Field::Video), path())),
            PartKind::ToolResult(result) => tool_result(result, part, conversation, target, found),
            PartKind::Thinking(Thinking { seal: Some(seal), .. }) => {
                found.push((seal_field(conversation, target, seal), path()));
            }
            PartKind::Thinking(Thinking { seal: None, .. }) => found.push((Field::ThinkingHistory, path())),
            PartKind::Foreign(Foreign { field, .. }) => found.push((*field, path())),
        }
    }
}

fn seal_field(conversation: &Conversation, target: &Target<'_>, seal: &Seal) -> Field {
    // An empty seal is what apps of messages get for thinking that nobody sealed.
    if seal.text().is_empty() {
        Field::ThinkingHistory
    } else if target.own_seal(conversation, seal).is_some() {
        Field::SealedThinking
    } else {
        Field::ForeignSeal
    }
}

fn media_field(media: &Media, by_bytes: Field, by_address: Field) -> Field {
    match &media.source {
        MediaSource::Bytes { .. } => by_bytes,
        MediaSource::Url { .. } => by_address,
        MediaSource::Handle(_) => Field::SharedState,
    }
}

fn tool_result(result: &ToolResult, part: &Part, conversation: &Conversation, target: &Target<'_>, found: &mut Found) {
    if result.called.is_none() {
        let field = if result.name.is_some() { Field::UnlinkedResult } else { Field::UnnamedResult };
        found.push((field, part.path.clone()));
    }
    if result.is_error {
        found.push((Field::ToolResultError, part.path.clone()));
    }
    for inner in &result.parts {
        match inner.kind {
            PartKind::Image(_) => found.push((Field::ToolResultImage, inner.path.clone())),
            PartKind::Audio(_) | PartKind::File(_) | PartKind::Video(_) => {
                found.push((Field::ToolResultFile, inner.path.clone()));
            }
            PartKind::Text(_)
            | PartKind::Refusal(_)
            | PartKind::ToolCall(_)
            | PartKind::ToolResult(_)
            | PartKind::Thinking(_)
            | PartKind::Foreign(_) => {}
        }
    }
    parts(&result.parts, conversation, target, found);
}

fn tools(conversation: &Conversation, found: &mut Found) {
    for tool in &conversation.tools {
        native(&tool.native, found);
        match tool.kind {
            ToolKind::Function { .. } => found.push((Field::FunctionTool, tool.path.clone())),
            ToolKind::Custom(_) => found.push((Field::CustomTool, tool.path.clone())),
        }
        if tool.is_strict == Some(true) {
            found.push((Field::ToolStrict, format!("{}.strict", tool.path)));
        }
    }
    let mut say = |field| found.push((field, conversation.place("tool_choice")));
    match &conversation.tool_choice {
        None => {}
        Some(ToolChoice::Auto) => say(Field::ChoiceAuto),
        Some(ToolChoice::None) => say(Field::ChoiceNone),
        Some(ToolChoice::Required) => say(Field::ChoiceRequired),
        Some(ToolChoice::Named(_)) => say(Field::ChoiceNamed),
        Some(ToolChoice::NamedCustom(_)) => say(Field::CustomTool),
        Some(ToolChoice::Subset { must, .. }) => {
            say(Field::ChoiceSubset);
            if *must {
                say(Field::ChoiceRequired);
            }
        }
    }
    if conversation.parallel_tools == Some(false) {
        found.push((Field::ParallelOff, conversation.place("parallel_tool_calls")));
    }
}

/// Whether the conversation ends with results whose calls come without thinking that the target sealed.
fn loop_lacks_its_seal(conversation: &Conversation, target: &Target<'_>) -> bool {
    let is_result = |part: &Part| matches!(part.kind, PartKind::ToolResult(_));
    let mut turns = conversation.turns.iter().rev().peekable();
    let mut has_results = false;
    while let Some(turn) = turns.next_if(|turn| turn.role == Role::User) {
        has_results |= turn.parts.iter().any(is_result);
    }
    let is_own = |seal: &Seal| target.own_seal(conversation, seal).is_some();
    let is_sealed = |part: &Part| match &part.kind {
        PartKind::Thinking(thinking) => thinking.seal.as_ref().is_some_and(is_own),
        PartKind::ToolCall(call) => call.seal.as_ref().is_some_and(is_own),
        PartKind::Text(_)
        | PartKind::Refusal(_)
        | PartKind::Image(_)
        | PartKind::Audio(_)
        | PartKind::File(_)
        | PartKind::Video(_)
        | PartKind::ToolResult(_)
        | PartKind::Foreign(_) => false,
    };
    let calling = turns.take_while(|turn| turn.role == Role::Assistant);
    has_results && !calling.flat_map(|turn| &turn.parts).any(is_sealed)
}

fn sampling(conversation: &Conversation, found: &mut Found) {
    let sampling = &conversation.sampling;
    let mut say = |is_there: bool, field, path: &str| {
        if is_there {
            found.push((field, conversation.place(path)));
        }
    };
    let is_above_one = |number: &Number| number.as_f64() > 1.0;
    let is_zero = |number: &Number| number.as_f64() == 0.0;
    match &sampling.temperature {
        Some(temperature) if is_above_one(temperature) => say(true, Field::TemperatureAboveOne, "temperature"),
        Some(_) => say(true, Field::Temperature, "temperature"),
        None => {}
    }
    say(sampling.top_p.is_some(), Field::TopP, "top_p");
    say(sampling.top_k.is_some(), Field::TopK, "top_k");
    say(sampling.seed.is_some(), Field::Seed, "seed");
    for (penalty, path) in
        [(&sampling.presence_penalty, "presence_penalty"), (&sampling.frequency_penalty, "frequency_penalty")]
    {
        match penalty {
            Some(penalty) if is_zero(penalty) => say(true, Field::PenaltiesZero, path),
            Some(_) => say(true, Field::Penalties, path),
            None => {}
        }
    }
    say(sampling.repeat_penalty.is_some(), Field::RepeatPenalty, "repeat_penalty");
    say(!sampling.stop.is_empty(), Field::Stop, "stop");
    say(sampling.stop.len() > STOPS_OF_CHAT, Field::StopsAboveFour, "stop");
    say(sampling.stop.len() > STOPS_OF_CONTENT, Field::StopsAboveFive, "stop");
    say(sampling.choices.is_some_and(|choices| choices > 1), Field::Choices, "n");
    say(sampling.logprobs == Some(true) || sampling.top_logprobs.is_some(), Field::Logprobs, "logprobs");
    let has_bias = sampling.logit_bias.as_ref().is_some_and(|bias| !bias.says_nothing());
    say(has_bias, Field::LogitBias, "logit_bias");
}

fn thinking(conversation: &Conversation, target: &Target<'_>, found: &mut Found) {
    let is_wanted = match conversation.thinking.amount {
        ThinkingAmount::Dynamic | ThinkingAmount::Effort(_) | ThinkingAmount::Budget(_) => true,
        ThinkingAmount::Unsaid | ThinkingAmount::Off => false,
    };
    // In its own dialect a history without seals goes as the app wrote it: the app has it from somewhere.
    let may_lack =
        conversation.dialect != target.dialect || found.iter().any(|(field, _)| *field == Field::ForeignSeal);
    if is_wanted && may_lack && loop_lacks_its_seal(conversation, target) {
        found.push((Field::ThinkingInLoop, conversation.place("thinking")));
    }
    let field = match conversation.thinking.amount {
        ThinkingAmount::Unsaid => None,
        ThinkingAmount::Off => Some(Field::ThinkingOff),
        ThinkingAmount::Dynamic => Some(Field::ThinkingDynamic),
        ThinkingAmount::Effort(_) => Some(Field::Effort),
        ThinkingAmount::Budget(_) => Some(Field::ThinkingBudget),
    };
    found.extend(field.map(|field| (field, conversation.place("thinking"))));
    if conversation.thinking.is_shown.is_some() {
        found.push((Field::ThinkingShown, conversation.place("thinking")));
    }
}
