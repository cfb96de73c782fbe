//! Whether an app asked for usage in a stream, and the edit by which an upstream is asked for it.

use crate::bad_request::BadRequest;
use crate::change::RequestChange;
use crate::conversation::UsageFrame;
use crate::members::{Edit, Member, behind_opening, members};
use crate::refusal_code::RefusalCode;

/// What is told of that edit.
pub(crate) fn usage_asked() -> RequestChange {
    RequestChange::new("stream_options", "usage not asked for", "usage asked for")
}

/// Whether the app asked for usage, and the edit that asks the upstream.
pub(crate) fn usage_of(options: Option<&Member<'_>>, body: &[u8]) -> Result<(UsageFrame, Option<Edit>), BadRequest> {
    const ASK: &str = "\"include_usage\":true";
    let invalid =
        || BadRequest::of_member("stream_options", RefusalCode::InvalidType, "`stream_options` must be an object");
    let Some(member) = options else {
        let open = behind_opening(body);
        return Ok((UsageFrame::NotAsked, Some((open..open, format!("\"stream_options\":{{{ASK}}},")))));
    };
    if member.value == "null" {
        return Ok((UsageFrame::NotAsked, Some((member.place.clone(), format!("{{{ASK}}}")))));
    }
    let nested = members(member.value.as_bytes()).map_err(|_| invalid())?;
    let mut asked = nested.iter().filter(|nested| nested.name == "include_usage");
    let (first, second) = (asked.next(), asked.next());
    if second.is_some() {
        let message = "`stream_options.include_usage` stands there twice; send it once";
        return Err(BadRequest::of_member("stream_options", RefusalCode::RepeatedMember, message));
    }
    match first {
        Some(found) if found.value == "true" => Ok((UsageFrame::Asked, None)),
        Some(found) => {
            let place = member.place.start + found.place.start..member.place.start + found.place.end;
            Ok((UsageFrame::NotAsked, Some((place, "true".to_owned()))))
        }
        None => {
            let open = member.place.start + 1;
            Ok((UsageFrame::NotAsked, Some((open..open, format!("{ASK},")))))
        }
    }
}
