//! What Wendor has to know of an app's request whatever it asks, and the body for an upstream of the same dialect.
//!
//! A body enters; an [`AppRequest`] leaves, or a [`BadRequest`] that names the member at fault and never repeats the query. The body
//! stays as the app wrote it but for what has to change: unknown members survive.

use std::borrow::Cow;
use std::ops::Range;
use std::sync::LazyLock;

use bytes::Bytes;
use memchr::memmem;
use smallvec::smallvec;

use crate::ability::{Ability, Mark};
use crate::bad_request::BadRequest;
use crate::bad_request::outermost;
use crate::bad_request::route_name;
use crate::bad_request::stream_wish;
use crate::change::RequestChange;
use crate::chat_completions::request::ChatRequest;
use crate::codec::Outside;
use crate::conversation::{Conversation, Delivery, Native, UsageFrame};
use crate::dialect::Dialect;
use crate::dialects;
use crate::endpoint::{EmbedForm, Endpoint, InPath, Kind, Passed};
use crate::form::{boundary_of, part};
use crate::halves::lone_half;
use crate::images::ImageSize;
use crate::json::texts::has_escaped_letters;
use crate::json::{Node, Wrong};
use crate::limits::{Limits, with_limit};
use crate::members::{Edit, Edits, Member, Spliced, members, splice};
use crate::native::{Known, take_known};
use crate::refusal_code::RefusalCode;
use crate::rewriting::Rewriting;
use crate::usage::MOST_BELIEVED;
use crate::usage_wish::{usage_asked, usage_of};
use crate::verdict::field::Field;

/// What is known of a request.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AppRequest {
    /// What it asks.
    pub endpoint: Endpoint,
    /// The route's name, as the app put it.
    pub route: String,
    /// How the answer is to come.
    pub delivery: Delivery,
    /// The most output tokens for one choice, if the app set a limit.
    pub output_limit: Option<u64>,
    /// Choices asked for.
    pub choices: u64,
    /// Images asked for.
    pub images: u32,
    /// Of which size, where the app says it.
    pub image_size: Option<ImageSize>,
    /// Estimated input tokens: four bytes a token. What they are at an offer is told by its calibration.
    pub input_tokens: u64,
    /// What a body that passes as it is holds of settings that an offer may not let apps set.
    pub controls: Vec<Native>,
    body: BodyForm,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum BodyForm {
    /// Chat-completions, whose bodies are read by their members alone where that is enough.
    Chat(ChatRequest),
    /// A form: where the model's name stands in it.
    Form { model: Range<usize> },
    /// Any other: where the model's name stands in the body, which for a batch is with each of its requests.
    Other { model: Vec<Range<usize>>, usage: Option<Edit> },
}

/// What a file counts as before anything is known of it.
const TOKENS_A_FILE: u64 = 1_000;

/// Searches for [`TELLING`], made once.
static TELLING_FINDERS: LazyLock<[memmem::Finder<'static>; 5]> = LazyLock::new(|| TELLING.map(memmem::Finder::new));

/// Words anywhere in a body of chat-completions that say that there is more in it than text and functions, so that it must be read
/// whole. What stands among its outermost members is told by [`ChatRequest::has_controls`].
const TELLING: [&[u8]; 5] = [b"_url", b"file", b"input_audio", b"\"audio\"", b"extra_content"];

impl AppRequest {
    /// Reads a body.
    ///
    /// # Errors
    /// [`BadRequest`] when it is not JSON, nests too deep, or what Wendor reads of it is missing or of the wrong type.
    pub fn read(endpoint: Endpoint, body: &[u8]) -> Result<Self, BadRequest> {
        if endpoint.dialect == Dialect::ChatCompletions && matches!(endpoint.kind, Kind::Chat(_)) {
            return ChatRequest::read(body).map(|(route, chat)| Self::of_chat(endpoint, route, chat));
        }
        let (scanned, found) = outermost(body)?;
        let (route, model) = model_of(&endpoint, &found)?;
        // Clients of local servers write the tag that a name without one means.
        let bare =
            dialects::of(endpoint.dialect).implied_tag().and_then(|tag| route.strip_suffix(tag)).map(str::to_owned);
        let route = bare.unwrap_or(route);
        let mut request = Self {
            delivery: delivery_of(&endpoint, &found)?,
            endpoint,
            route,
            output_limit: None,
            choices: 1,
            images: 0,
            image_size: None,
            input_tokens: scanned.tokens,
            controls: Vec::new(),
            body: BodyForm::Other { model, usage: None },
        };
        if !matches!(request.endpoint.kind, Kind::Chat(_)) {
            request.controls = controls_of(request.endpoint.dialect, body)?;
        }
        if let Kind::Passed(passed) = request.endpoint.kind {
            let limits = Limits::of_passed(passed, &found);
            request.output_limit = limits.output;
            request.choices = limits.choices.unwrap_or(1);
            (request.images, request.image_size) = (limits.images, limits.image_size);
            request.ask_usage(passed, &found, body)?;
        }
        if let Kind::Chat(_) = request.endpoint.kind {
            let conversation = request.understood(body)?;
            request.output_limit = conversation.output_limit;
            request.choices = conversation.sampling.choices.unwrap_or(1).clamp(1, 128);
        }
        if let Some(limit) = request.output_limit.filter(|limit| *limit > MOST_BELIEVED) {
            let message = format!("{limit} output tokens are asked for; no model reaches more than {MOST_BELIEVED}");
            return Err(BadRequest::of_body(RefusalCode::InvalidValue, message));
        }
        Ok(request)
    }

    /// Legacy completions tell in a stream what they used to whoever asks, as chat-completions do.
    fn ask_usage(&mut self, passed: Passed, found: &[Member<'_>], body: &[u8]) -> Result<(), BadRequest> {
        if passed != Passed::Completions || self.delivery == Delivery::Whole {
            return Ok(());
        }
        let options = found.iter().find(|member| member.name == "stream_options");
        let (asked, edit) = usage_of(options, body)?;
        self.delivery = Delivery::Streamed(asked);
        if let BodyForm::Other { usage, .. } = &mut self.body {
            *usage = edit;
        }
        Ok(())
    }

    fn of_chat(endpoint: Endpoint, route: String, chat: ChatRequest) -> Self {
        Self {
            endpoint,
            route,
            delivery: chat.delivery,
            output_limit: chat.output_limit,
            choices: chat.choices,
            images: 0,
            image_size: None,
            input_tokens: chat.input_tokens,
            controls: Vec::new(),
            body: BodyForm::Chat(chat),
        }
    }

    /// Reads a form, as files are uploaded.
    ///
    /// # Errors
    /// [`BadRequest`] when it is none, or names no model.
    pub fn read_form(endpoint: Endpoint, body: &[u8], content_type: &str) -> Result<Self, BadRequest> {
        let boundary = boundary_of(content_type).ok_or_else(|| {
            let message = "the body must be a form: multipart/form-data with its boundary".to_owned();
            BadRequest::of_body(RefusalCode::InvalidValue, message)
        })?;
        let text = |name: &str| {
            let place = part(body, &boundary, name)?;
            Some((std::str::from_utf8(body.get(place.clone())?).ok()?.trim().to_owned(), place))
        };
        let missing = || {
            let message = "`model` is missing: put the name of a route into a part of that name".to_owned();
            BadRequest::of_member("model", RefusalCode::MissingMember, message)
        };
        let (route, model) = text("model").filter(|(model, _)| !model.is_empty()).ok_or_else(missing)?;
        let is_streamed = text("stream").is_some_and(|(flag, _)| flag == "true");
        let delivery = if is_streamed { Delivery::Streamed(UsageFrame::Asked) } else { Delivery::Whole };
        // What bytes of sound are in tokens nobody can tell beforehand; a medium counts as in any other request.
        let input_tokens = TOKENS_A_FILE;
        let body = BodyForm::Form { model };
        let (images, image_size) = (0, None);
        Ok(Self {
            endpoint,
            route,
            delivery,
            output_limit: None,
            choices: 1,
            images,
            image_size,
            input_tokens,
            controls: Vec::new(),
            body,
        })
    }

    /// The path's part of the request.
    #[must_use]
    pub fn in_path(&self) -> InPath {
        match &self.endpoint.kind {
            Kind::Chat(in_path) | Kind::Count(in_path) | Kind::Embed(_, in_path) => in_path.clone(),
            Kind::Passed(_) | Kind::Models | Kind::Model(_) | Kind::ShowModel | Kind::Loaded | Kind::Version => {
                InPath::default()
            }
        }
    }

    /// Whether its content matters even where app and upstream speak the same dialect. Most requests are text, and pass by their
    /// outermost members alone.
    #[must_use]
    pub fn has_to_be_understood(&self, body: &[u8]) -> bool {
        match (&self.body, &self.endpoint.kind) {
            (BodyForm::Chat(chat), _) => {
                chat.has_controls
                    || TELLING_FINDERS.iter().any(|word| word.find(body).is_some())
                    || has_escaped_letters(body)
            }
            (BodyForm::Other { .. }, Kind::Chat(_)) => true,
            (BodyForm::Other { .. } | BodyForm::Form { .. }, _) => false,
        }
    }

    /// The request as a neutral conversation.
    ///
    /// # Errors
    /// [`BadRequest`] that names what cannot be read.
    pub fn understood(&self, body: &[u8]) -> Result<Conversation, BadRequest> {
        let in_path = self.in_path();
        let InPath { model, is_streamed, is_prompt } = &in_path;
        let outside = Outside { model: model.as_deref(), is_streamed: *is_streamed, is_prompt: *is_prompt };
        let text = std::str::from_utf8(body)
            .map_err(|_| BadRequest::of_body(RefusalCode::InvalidJson, "the body is not UTF-8".to_owned()))?;
        let mut conversation = dialects::of(self.endpoint.dialect)
            .read_request(text, outside)
            .map_err(|wrong| BadRequest::of_path(&wrong.path, wrong.to_string()))?;
        // Arguments and schemas go on as they are, and no other server would read these.
        if let Some(place) = lone_half(text) {
            let half = "an escape from \\ud800 to \\udfff stands without its other half";
            let message = format!("in the text at byte {place} of the body {half}: send whole letters");
            return Err(BadRequest::of_body(RefusalCode::InvalidJson, message));
        }
        conversation.delivery = self.delivery;
        Ok(conversation)
    }

    /// The abilities that an offer of `dialect` needs for it, as far as they can be told without its content.
    #[must_use]
    pub fn needs(&self, dialect: Dialect) -> &'static [Ability] {
        match &self.endpoint.kind {
            // A local server continues a prompt; anywhere else it is a turn.
            Kind::Chat(in_path) if in_path.is_prompt && dialects::of(dialect).continues_prompts() => {
                &[Ability::Completions]
            }
            Kind::Chat(_) => &[Ability::Chat],
            Kind::Embed(..) => &[Ability::Embeddings],
            Kind::Passed(Passed::Images) => &[Ability::ImagesOut],
            Kind::Passed(Passed::Completions) => &[Ability::Completions],
            Kind::Passed(Passed::Transcriptions)
            | Kind::Count(_)
            | Kind::Models
            | Kind::Model(_)
            | Kind::ShowModel
            | Kind::Loaded
            | Kind::Version => &[],
        }
    }

    /// The body as an upstream of the same dialect gets it, in pieces: with its own name for the model, with usage asked for in a
    /// stream of chat-completions, without the `stripped` members, and with the upstream's own seals as it made them. `body` is the
    /// one that was read.
    #[must_use]
    pub fn for_same_dialect(&self, body: &Bytes, model: &str, changes: Rewriting) -> Spliced {
        let mut edits: Edits = match &self.body {
            BodyForm::Chat(chat) => chat.edits(model, !changes.is_delivered_otherwise),
            BodyForm::Form { model: place } => smallvec![(place.clone(), model.to_owned())],
            BodyForm::Other { model: places, usage } => {
                let quoted = serde_json::Value::from(self.model_as_there(model)).to_string();
                places.iter().map(|place| (place.clone(), quoted.clone())).chain(usage.clone()).collect()
            }
        };
        edits.extend(changes.edits);
        splice(body, edits)
    }

    /// The edit by which `body` asks for `limit` output tokens at most, with the path of the member; none where its endpoint has no
    /// such member.
    #[must_use]
    pub fn limit_edit(&self, body: &[u8], limit: u64, marks: &[Mark]) -> Option<(Cow<'static, str>, Edit)> {
        match &self.body {
            BodyForm::Chat(chat) => {
                let (name, edit) = chat.limit_edit(limit, marks.contains(&Mark::OldLimit));
                Some((Cow::Borrowed(name), edit))
            }
            BodyForm::Form { .. } => None,
            BodyForm::Other { .. } => {
                with_limit(&self.endpoint, body, limit).map(|(path, edit)| (Cow::Owned(path), edit))
            }
        }
    }

    /// Generate-content writes models with a prefix where they stand in a body.
    fn model_as_there(&self, model: &str) -> String {
        match self.endpoint.kind {
            Kind::Embed(EmbedForm::ContentBatch | EmbedForm::Content, _) => format!("models/{model}"),
            Kind::Chat(_)
            | Kind::Count(_)
            | Kind::Embed(..)
            | Kind::Passed(_)
            | Kind::Models
            | Kind::Model(_)
            | Kind::ShowModel
            | Kind::Loaded
            | Kind::Version => model.to_owned(),
        }
    }

    /// What [`Self::for_same_dialect`] changes of `model` and `stream_options`, for the record.
    #[must_use]
    pub fn changes(&self, model: &str) -> Vec<RequestChange> {
        match &self.body {
            BodyForm::Chat(chat) => chat.changes(&self.route, model),
            BodyForm::Other { .. } | BodyForm::Form { .. } => {
                let renamed = (self.route != model).then(|| RequestChange::new("model", &self.route, model));
                let asks = matches!(&self.body, BodyForm::Other { usage: Some(_), .. });
                renamed.into_iter().chain(asks.then(usage_asked)).collect()
            }
        }
    }
}

/// Settings in a body that passes as it is.
const CONTROLS: &[Known] = &[
    ("keep_alive", Field::KeepAlive),
    ("service_tier", Field::ServiceTier),
    ("store", Field::Store),
    ("previous_response_id", Field::SharedState),
    ("conversation", Field::SharedState),
    ("cachedContent", Field::SharedState),
    ("container", Field::SharedState),
    ("mcp_servers", Field::HostedTool),
];

fn controls_of(dialect: Dialect, body: &[u8]) -> Result<Vec<Native>, BadRequest> {
    let text = std::str::from_utf8(body)
        .map_err(|_| BadRequest::of_body(RefusalCode::InvalidJson, "the body is not UTF-8".to_owned()))?;
    let root = Node::of_request(text);
    let codec = dialects::of(dialect);
    let object = if codec.has_names_both_ways() { root.camel_object() } else { root.object() };
    let wrong = |wrong: Wrong| BadRequest::of_path(&wrong.path, wrong.to_string());
    let (mut object, mut controls) = (object.map_err(wrong)?, Vec::new());
    take_known(&mut object, CONTROLS, "", &mut controls);
    if let Some((name, known)) = codec.settings()
        && let Some(mut settings) = object.object(name).map_err(wrong)?
    {
        take_known(&mut settings, known, name, &mut controls);
    }
    Ok(controls)
}

/// A body with a model's name as its first member; `None` where it is no JSON object.
///
/// ```
/// use wendor_wire::asked::with_model;
/// assert_eq!(with_model(br#" {"n": 1}"#, "cargo").unwrap(), br#" {"model":"cargo","n": 1}"#);
/// assert_eq!(with_model(b"{ }", "cargo").unwrap(), br#"{"model":"cargo" }"#);
/// assert_eq!(with_model(b"[]", "cargo"), None);
/// ```
#[must_use]
pub fn with_model(body: &[u8], model: &str) -> Option<Vec<u8>> {
    let open = body.iter().position(|byte| !byte.is_ascii_whitespace()).filter(|place| body[*place] == b'{')?;
    let (head, rest) = body.split_at(open + 1);
    let is_empty = rest.iter().find(|byte| !byte.is_ascii_whitespace()) == Some(&b'}');
    let comma = if is_empty { "" } else { "," };
    let member = format!("\"model\":{}{comma}", serde_json::to_string(model).ok()?);
    Some([head, member.as_bytes(), rest].concat())
}

fn model_of(endpoint: &Endpoint, found: &[Member<'_>]) -> Result<(String, Vec<Range<usize>>), BadRequest> {
    let member = found.iter().rfind(|member| member.name == "model" && member.value != "null");
    let named = match &endpoint.kind {
        Kind::Chat(in_path) | Kind::Count(in_path) | Kind::Embed(_, in_path) => in_path.model.clone(),
        Kind::Passed(_) | Kind::Models | Kind::Model(_) | Kind::ShowModel | Kind::Loaded | Kind::Version => None,
    };
    if let Some(model) = named {
        let mut places: Vec<Range<usize>> = member.iter().map(|member| member.place.clone()).collect();
        if let Some(requests) = found.iter().find(|member| member.name == "requests") {
            places.extend(models_of_batch(requests));
        }
        return Ok((model, places));
    }
    Ok((route_name(member)?, member.iter().map(|member| member.place.clone()).collect()))
}

/// Where each request of a batch names its model.
fn models_of_batch(requests: &Member<'_>) -> Vec<Range<usize>> {
    let listed: Vec<&serde_json::value::RawValue> = serde_json::from_str(requests.value).unwrap_or_default();
    let place = |request: &serde_json::value::RawValue| {
        let text = request.get();
        let offset = requests.place.start + (text.as_ptr().addr() - requests.value.as_ptr().addr());
        let fields = members(text.as_bytes()).ok()?;
        let model = fields.into_iter().find(|member| member.name == "model")?.place;
        Some(offset + model.start..offset + model.end)
    };
    listed.into_iter().filter_map(place).collect()
}

fn delivery_of(endpoint: &Endpoint, found: &[Member<'_>]) -> Result<Delivery, BadRequest> {
    let streams = Delivery::Streamed(UsageFrame::Asked);
    let codec = dialects::of(endpoint.dialect);
    let by_default = match &endpoint.kind {
        Kind::Chat(in_path) if codec.is_told_in_path() => {
            return Ok(if in_path.is_streamed { streams } else { Delivery::Whole });
        }
        Kind::Chat(_) => codec.streams_unless_told(),
        Kind::Passed(_) => false,
        Kind::Count(_)
        | Kind::Embed(..)
        | Kind::Models
        | Kind::Model(_)
        | Kind::ShowModel
        | Kind::Loaded
        | Kind::Version => return Ok(Delivery::Whole),
    };
    let wish = stream_wish(found.iter().rfind(|member| member.name == "stream"))?;
    Ok(if wish.unwrap_or(by_default) { streams } else { Delivery::Whole })
}
