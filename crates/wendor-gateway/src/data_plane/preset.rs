//! What the preset of a route adds to a request: the body that goes on is the one that the app would have written had it said all that
//! itself.

use bytes::Bytes;
use wendor_core::catalog::preset::Preset;
use wendor_core::catalog::route::Route;
use wendor_core::metering::preset::{PresetOnRecord, PresetShare};
use wendor_core::name::Name;
use wendor_core::serving::fit::Content;
use wendor_wire::addition::add;
use wendor_wire::asked::AppRequest;
use wendor_wire::bad_request::BadRequest;
use wendor_wire::endpoint::Kind;
use wendor_wire::opening::opening;
use wendor_wire::preset::{PresetFate, Unsaid};
use wendor_wire::refusal_code::RefusalCode;

use super::marks::Marks;
use super::refusal::Refusal;

/// What was added to a request.
#[derive(Clone, Debug)]
pub struct AddedPreset {
    /// For its record.
    pub on_record: PresetOnRecord,
    /// What its conversation opens with, without what was added: that is the same for all of its route.
    pub opening: Option<u64>,
    /// How much of its input that is.
    pub share: PresetShare,
    unsaid: Unsaid,
}

impl AddedPreset {
    /// Says in the neutral conversation what the app's dialect has no member for.
    pub fn complete(&self, content: &mut Content) {
        if let Content::Conversation(conversation) = content {
            self.unsaid.say(conversation);
        }
    }
}

/// A request with what its route adds.
pub(crate) struct WithPreset {
    /// What is asked.
    pub request: AppRequest,
    /// The body that goes on.
    pub body: Bytes,
    /// What was added, where there was anything.
    pub preset: Option<Box<AddedPreset>>,
}

/// Adds what the route of a request adds.
///
/// # Errors
/// [`Refusal::BadHeader`] for variables that are unknown or missing, [`Refusal::BadRequest`] for what a strict route fixes and the request
/// says otherwise.
pub(crate) fn added(
    route: &Route,
    name: &Name,
    marks: &Marks,
    request: AppRequest,
    body: Bytes,
) -> Result<WithPreset, Refusal> {
    let is_chat = matches!(request.endpoint.kind, Kind::Chat(_) | Kind::Count(_));
    let nothing = Preset::default();
    let preset = match &route.preset {
        Some(preset) if is_chat => preset,
        _ if marks.variables.is_empty() => return Ok(WithPreset { request, body, preset: None }),
        // A variable that the route does not have is a mistake that would go unseen.
        Some(_) | None => route.preset.as_ref().unwrap_or(&nothing),
    };
    let addition = preset.filled(&marks.variables, marks.has_no_preset);
    let addition = addition.map_err(|bad| Refusal::BadHeader("wendor-variables", bad.to_string()))?;
    let added = add(&request, &body, &addition).map_err(Refusal::BadRequest)?;
    if added.lines.is_empty() {
        return Ok(WithPreset { request, body, preset: None });
    }
    let variables = marks.variables.keys().cloned().collect();
    let on_record = PresetOnRecord::of(preset, &added.lines, variables);
    if route.is_strict {
        is_as_fixed(&on_record, name)?;
    }
    let longer = AppRequest::read(request.endpoint.clone(), &added.body).map_err(Refusal::BadRequest)?;
    let share = PresetShare::of(request.input_tokens, longer.input_tokens);
    let (opening, unsaid) = (opening(&body), added.unsaid);
    let preset = Some(Box::new(AddedPreset { on_record, opening, share, unsaid }));
    Ok(WithPreset { request: longer, body: added.body, preset })
}

/// A strict route serves a request as it is or not at all.
fn is_as_fixed(on_record: &PresetOnRecord, route: &Name) -> Result<(), Refusal> {
    let Some(done) = on_record.parts.iter().find(|done| done.fate == PresetFate::OwnReplaced) else { return Ok(()) };
    let message = format!("`{}` is fixed at {} by the route {route}; leave it out", done.part, done.value);
    Err(Refusal::BadRequest(BadRequest {
        param: Some(done.part.to_string()),
        code: RefusalCode::InvalidValue,
        message,
    }))
}
