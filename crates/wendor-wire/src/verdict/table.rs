//! What becomes of each field in each dialect of an upstream (`docs/protocols.md` sections 8.1 to 8.9). The app's dialect matters only where a
//! cell says so: whatever it was said in, the neutral form is the same.

use crate::ability::{Control, Mark};
use crate::dialect::Dialect;
use crate::verdict::field::Field;

/// What becomes of a field.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Cell {
    /// It is said there, or is without effect.
    Carried,
    /// It is said otherwise, or left out; how.
    Approximated(&'static str),
    /// It cannot be said; what to do.
    Refused(&'static str),
    /// Carried where the offer has the mark, otherwise this.
    Marked(Mark, &'static Cell),
    /// Carried where the app speaks the same dialect, otherwise this.
    OwnOnly(&'static Cell),
    /// As the offer's control says; passed on, it is carried in the same dialect and elsewhere this.
    Controlled(Control, &'static Cell),
}

use Cell::{Approximated as A, Carried, Controlled, Marked, OwnOnly, Refused as R};

const DROPPED: Cell = A("the offer has no such setting, so it is left out");
const FOR_SYSTEM: Cell = A("becomes system text");
const MIDWAY: Cell = A("is put into the nearest turn of the user, marked as a system note");
const NAMED: Cell = A("is put before the text");
const NO_PREFILL: Cell = R("this offer answers anew instead of continuing; end with a turn of the user");
const NO_ASSISTANT_FIRST: Cell = R("this offer wants the user to speak first; begin with a turn of the user");
const NEEDS_BYTES: Cell = R("this offer needs the bytes; send them in the request as base64");
const AS_FILE: Cell = A("is passed on as a file's address");
const NO_AUDIO: Cell = R("this offer takes no sound");
const TWO_KINDS: Cell = R("this offer takes sound as wav or mp3; convert it");
const NO_AUDIO_OUT: Cell = R("this offer answers in text only");
const NO_FILES: Cell = R("this offer takes no documents; send their text");
const NO_BLOCKS: Cell = R("this offer takes no documents made of blocks; send their text");
const NO_VIDEO: Cell = R("this offer takes no video");
const NO_CUSTOM: Cell = R("this offer has functions only; describe the tool as a function with one text");
const NO_HOSTED: Cell = R("this offer runs no tools itself; describe it as a function and run it in the app");
const CANNOT_FORCE: Cell = R("this offer cannot be made to call a function; leave the choice to the model");
const NOT_STRICT: Cell = A("this offer cannot be held to a schema, so it is asked to keep to it");
const ALL_CALLS: Cell = A("this offer cannot be asked for it, so all calls that it makes are passed on");
const MOVED_IMAGE: Cell = A("is moved into a turn of the user behind the results");
const NO_RESULT_IMAGE: Cell = R("this offer takes text from tools only; describe the image");
const MOVED_FILE: Cell = A("is moved into a turn of the user behind the results");
const NO_RESULT_FILE: Cell = R("this offer takes text from tools only; send the document's text");
const NO_CALL: Cell = R("no call in the conversation is this result's; send the turn in which the model made it");
const NO_OBJECT: Cell =
    R("the arguments of this call are no JSON object, which this offer wants; leave the call out of the history");
const ERROR_TEXT: Cell = A("is said in the result's text");
const CLAMPED: Cell = A("this offer's temperature ends at 1, so 1 is asked for");
const NO_STOP: Cell = R("this offer has no stop texts; cut the answer in the app");
const FOUR_STOPS: Cell = R("this offer takes 4 stop texts; send fewer");
const FIVE_STOPS: Cell = R("this offer takes 5 stop texts; send fewer");
const NO_PENALTIES: Cell = R("this offer has no penalties; leave them out");
const ZERO: Cell = A("zero is without effect, so it is left out");
const ONE_CHOICE: Cell = R("this offer makes one choice a request; ask several times");
const NO_LOGPROBS: Cell = R("this offer tells no log probabilities; leave them out");
const NO_BIAS: Cell = R("this offer has no logit bias; leave it out");
const TOLD_JSON: Cell = A("the model is told in the system text to answer in JSON");
const EFFORT: Cell = A("becomes the nearest that this offer has");
const NO_THINKING_BACK: Cell = A("this offer takes no earlier thinking, so it is left out");
const NO_LOOP: Cell = A(
    "is turned off until the tools' results are answered: the service takes no call without the thinking that it sealed",
);
const FOREIGN: Cell = A("its seal comes from another service, so this thinking is left out");
const NO_MARKS: Cell = A("the offer has no such mark, so it is left out");
const NO_PREDICTION: Cell = R("this offer takes no prediction; leave it out");
const NO_CITATIONS: Cell = R("this offer names no sources; leave them out");
const TEXT_ONLY: Cell = R("this offer answers in text only");
const TOO_LONG: Cell = R("this offer does not cut conversations by itself; send fewer turns");
const HOSTED_ONLY: Cell = R("this offer runs no tools itself; leave it out");
const STATE: Cell =
    R("teams share this service's credential, so what it keeps is not used; send the whole conversation");
const NO_BACKGROUND: Cell = R("answers are given while the app waits; leave it out");
const LIMITS: Cell = R("two output limits that differ; send one");
const OWN: Cell = R("only this dialect itself knows it; use a route whose offers speak it, or leave it out");

/// The table: for each field a cell by upstream, in the order chat-completions, responses, messages, generate-content, local-chat.
pub const TABLE: &[(Field, [Cell; 5])] = &[
    (Field::SystemText, [Carried; 5]),
    (Field::DeveloperText, [Marked(Mark::Developer, &FOR_SYSTEM), Carried, FOR_SYSTEM, Carried, Carried]),
    (Field::SystemMidway, [Carried, Carried, Marked(Mark::SystemTurns, &MIDWAY), MIDWAY, Carried]),
    (Field::TurnName, [Carried, NAMED, NAMED, NAMED, NAMED]),
    (
        Field::Prefill,
        [Marked(Mark::Prefill, &NO_PREFILL), NO_PREFILL, Carried, NO_PREFILL, Marked(Mark::Prefill, &NO_PREFILL)],
    ),
    (Field::AssistantFirst, [Carried, Carried, NO_ASSISTANT_FIRST, NO_ASSISTANT_FIRST, Carried]),
    (Field::ImageBytes, [Carried; 5]),
    (Field::ImageUrl, [Carried, Carried, Carried, AS_FILE, NEEDS_BYTES]),
    (Field::ImageDetail, [Carried, Carried, DROPPED, DROPPED, DROPPED]),
    (Field::AudioIn, [Carried, Carried, NO_AUDIO, Carried, NO_AUDIO]),
    (Field::OtherAudioIn, [TWO_KINDS, TWO_KINDS, NO_AUDIO, Carried, NO_AUDIO]),
    (Field::AudioOut, [Carried, NO_AUDIO_OUT, NO_AUDIO_OUT, NO_AUDIO_OUT, NO_AUDIO_OUT]),
    (Field::FileBytes, [Carried, Carried, Carried, Carried, NO_FILES]),
    (Field::FileUrl, [NEEDS_BYTES, Carried, Carried, AS_FILE, NO_FILES]),
    (Field::BlockDocument, [NO_BLOCKS, NO_BLOCKS, Carried, NO_BLOCKS, NO_BLOCKS]),
    (Field::Video, [NO_VIDEO, NO_VIDEO, NO_VIDEO, Carried, NO_VIDEO]),
    (Field::FunctionTool, [Carried; 5]),
    (Field::ToolStrict, [Carried, Carried, Carried, NOT_STRICT, NOT_STRICT]),
    (Field::CustomTool, [Carried, Carried, NO_CUSTOM, NO_CUSTOM, NO_CUSTOM]),
    (Field::HostedTool, [Controlled(Control::HostedTools, &NO_HOSTED); 5]),
    (Field::ChoiceAuto, [Carried; 5]),
    (Field::ChoiceNone, [Carried; 5]),
    (Field::ChoiceRequired, [Carried, Carried, Carried, Carried, CANNOT_FORCE]),
    (Field::ChoiceNamed, [Carried, Carried, Carried, Carried, CANNOT_FORCE]),
    (Field::ChoiceSubset, [Carried; 5]),
    (Field::ParallelOff, [Carried, Carried, Carried, ALL_CALLS, ALL_CALLS]),
    (Field::ToolResultImage, [MOVED_IMAGE, Carried, Carried, Carried, NO_RESULT_IMAGE]),
    (Field::ToolResultFile, [MOVED_FILE, Carried, Carried, Carried, NO_RESULT_FILE]),
    (Field::BrokenArguments, [Carried, Carried, NO_OBJECT, NO_OBJECT, NO_OBJECT]),
    (
        Field::ToolResultError,
        [ERROR_TEXT, ERROR_TEXT, Carried, A("becomes a member `error` of the result"), ERROR_TEXT],
    ),
    (Field::UnlinkedResult, [NO_CALL, NO_CALL, NO_CALL, Carried, Carried]),
    (Field::UnnamedResult, [NO_CALL; 5]),
    (Field::OutputLimit, [Carried; 5]),
    (Field::OutputLimits, [OwnOnly(&LIMITS), LIMITS, LIMITS, LIMITS, LIMITS]),
    (Field::Temperature, [Carried; 5]),
    (Field::TemperatureAboveOne, [Carried, Carried, CLAMPED, Carried, Carried]),
    (Field::TopP, [Carried; 5]),
    (Field::TopK, [Marked(Mark::TopK, &DROPPED), DROPPED, Carried, Carried, Carried]),
    (Field::Stop, [Carried, NO_STOP, Carried, Carried, Carried]),
    (Field::StopsAboveFour, [OwnOnly(&FOUR_STOPS), Carried, Carried, Carried, Carried]),
    (Field::StopsAboveFive, [Carried, Carried, Carried, OwnOnly(&FIVE_STOPS), Carried]),
    (Field::Seed, [Carried, DROPPED, DROPPED, Carried, Carried]),
    (Field::Penalties, [Carried, NO_PENALTIES, NO_PENALTIES, Carried, Carried]),
    (Field::PenaltiesZero, [Carried, ZERO, ZERO, Carried, Carried]),
    (Field::RepeatPenalty, [DROPPED, DROPPED, DROPPED, DROPPED, Carried]),
    (Field::Choices, [Carried, ONE_CHOICE, ONE_CHOICE, Carried, ONE_CHOICE]),
    (Field::Logprobs, [Carried, Carried, NO_LOGPROBS, Carried, Carried]),
    (Field::LogitBias, [Carried, NO_BIAS, NO_BIAS, NO_BIAS, NO_BIAS]),
    (Field::JsonMode, [Carried, Carried, TOLD_JSON, Carried, Carried]),
    (Field::JsonSchema, [Carried; 5]),
    (Field::Effort, [Carried, Carried, OwnOnly(&EFFORT), OwnOnly(&EFFORT), OwnOnly(&EFFORT)]),
    (Field::ThinkingBudget, [EFFORT, EFFORT, Carried, Carried, EFFORT]),
    (Field::ThinkingDynamic, [DROPPED, DROPPED, Carried, Carried, Carried]),
    (Field::ThinkingOff, [Carried; 5]),
    (Field::ThinkingInLoop, [Carried, Carried, NO_LOOP, NO_LOOP, Carried]),
    (
        Field::ThinkingShown,
        [OwnOnly(&DROPPED), OwnOnly(&DROPPED), OwnOnly(&DROPPED), OwnOnly(&DROPPED), OwnOnly(&DROPPED)],
    ),
    (
        Field::ThinkingHistory,
        [
            Marked(Mark::ReasoningHistory, &NO_THINKING_BACK),
            NO_THINKING_BACK,
            NO_THINKING_BACK,
            NO_THINKING_BACK,
            Carried,
        ],
    ),
    (Field::SealedThinking, [FOREIGN, Carried, Carried, Carried, FOREIGN]),
    (Field::ForeignSeal, [FOREIGN; 5]),
    (Field::EndUser, [Carried, Carried, Carried, DROPPED, DROPPED]),
    (Field::UserMarks, [Carried, Carried, DROPPED, DROPPED, DROPPED]),
    (Field::Metadata, [Carried, Carried, DROPPED, DROPPED, DROPPED]),
    (Field::CacheMarks, [Carried, Carried, Carried, NO_MARKS, NO_MARKS]),
    (Field::WideCacheMarks, [OwnOnly(&NO_MARKS); 5]),
    (Field::Verbosity, [Carried, Carried, DROPPED, DROPPED, DROPPED]),
    (Field::Prediction, [Carried, NO_PREDICTION, NO_PREDICTION, NO_PREDICTION, NO_PREDICTION]),
    (Field::Citations, [NO_CITATIONS, NO_CITATIONS, Carried, NO_CITATIONS, NO_CITATIONS]),
    (Field::SafetySettings, [DROPPED, DROPPED, DROPPED, Carried, DROPPED]),
    (Field::OtherModalities, [TEXT_ONLY, TEXT_ONLY, TEXT_ONLY, Marked(Mark::AudioOut, &TEXT_ONLY), TEXT_ONLY]),
    (Field::BillingLabels, [DROPPED, DROPPED, DROPPED, Carried, DROPPED]),
    (Field::TruncationAuto, [TOO_LONG, Carried, TOO_LONG, TOO_LONG, TOO_LONG]),
    (Field::MaxToolCalls, [HOSTED_ONLY, Carried, HOSTED_ONLY, HOSTED_ONLY, HOSTED_ONLY]),
    (Field::IncludeHosted, [HOSTED_ONLY, Carried, HOSTED_ONLY, HOSTED_ONLY, HOSTED_ONLY]),
    (Field::KeepAlive, [Controlled(Control::StayLoaded, &DROPPED); 5]),
    (Field::NumCtx, [Controlled(Control::LoadedWindow, &DROPPED); 5]),
    (Field::LoadOptions, [Controlled(Control::LoadOptions, &DROPPED); 5]),
    (Field::ServiceTier, [Controlled(Control::ServiceTier, &DROPPED); 5]),
    (Field::Store, [Controlled(Control::Store, &DROPPED); 5]),
    (Field::SharedState, [STATE; 5]),
    (Field::Background, [NO_BACKGROUND; 5]),
    (Field::OwnKnob, [OwnOnly(&DROPPED); 5]),
    (Field::Usual, [Carried; 5]),
    (Field::OwnOnly, [OwnOnly(&OWN); 5]),
];

/// The cell of `field` at an upstream of `dialect`.
#[must_use]
pub fn cell(field: Field, dialect: Dialect) -> Cell {
    let column = Dialect::ALL.iter().position(|known| *known == dialect).unwrap_or_default();
    let row = TABLE.iter().find(|(known, _)| *known == field);
    // A test holds the table to all fields.
    row.and_then(|(_, cells)| cells.get(column)).copied().unwrap_or(OWN)
}
