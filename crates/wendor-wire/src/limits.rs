//! What a request may make at most, where its body passes as it is: read from it, and written into it where the app set no limit
//! and a quota must be kept.

use crate::dialects;
use crate::endpoint::{Endpoint, Kind, Passed};
use crate::images::ImageSize;
use crate::members::{Edit, Member, behind_opening, members};

/// The most choices that are believed to be asked for at once.
const MAX_CHOICES: u64 = 128;

/// What the body of a passed endpoint asks for at most.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// Output tokens of one choice.
    pub output: Option<u64>,
    /// Answers asked for at once; nothing where the body does not say.
    pub choices: Option<u64>,
    /// Images asked for.
    pub images: u32,
    /// Width and height in pixels, where the body says so.
    pub image_size: Option<ImageSize>,
}

impl Limits {
    /// Reads them from the outermost members of a body.
    #[must_use]
    pub fn of_passed(passed: Passed, found: &[Member<'_>]) -> Self {
        let whole = |name: &str| member(found, name)?.value.parse::<u64>().ok();
        match passed {
            Passed::Completions => {
                // Of several tries the best are given, and all of them are made.
                let choices = whole("n").unwrap_or(1).max(whole("best_of").unwrap_or(1));
                Self { output: whole("max_tokens"), choices: Some(choices.clamp(1, MAX_CHOICES)), ..Self::default() }
            }
            Passed::Images => {
                let images = u32::try_from(whole("n").unwrap_or(1).clamp(1, MAX_CHOICES)).unwrap_or(1);
                let size = member(found, "size").and_then(|member| serde_json::from_str::<String>(member.value).ok());
                Self {
                    output: Some(0),
                    images,
                    image_size: size.and_then(|size| ImageSize::parse(&size).ok()),
                    ..Self::default()
                }
            }
            Passed::Transcriptions => Self::default(),
        }
    }
}

fn member<'a, 'b>(found: &'a [Member<'b>], name: &str) -> Option<&'a Member<'b>> {
    found.iter().rfind(|member| member.name == name && member.value != "null")
}

/// Where a body says how long an answer may be: the object around it, if it is not the body itself, and the member's name.
fn place_of(endpoint: &Endpoint) -> Option<(Option<&'static str>, &'static str)> {
    match &endpoint.kind {
        Kind::Passed(Passed::Completions) => Some((None, "max_tokens")),
        Kind::Chat(_) => dialects::of(endpoint.dialect).limit_member(),
        Kind::Passed(_)
        | Kind::Count(_)
        | Kind::Embed(..)
        | Kind::Models
        | Kind::Model(_)
        | Kind::ShowModel
        | Kind::Loaded
        | Kind::Version => None,
    }
}

/// The edit by which `body` asks for `limit` output tokens at most, with the path of the member; none where its endpoint has no such
/// member.
#[must_use]
pub fn with_limit(endpoint: &Endpoint, body: &[u8], limit: u64) -> Option<(String, Edit)> {
    let (container, name) = place_of(endpoint)?;
    let fields = members(body).ok()?;
    let path = container.map_or_else(|| name.to_owned(), |container| format!("{container}.{name}"));
    let (scope, text, offset) = match container {
        None => (fields, body, 0),
        Some(container) => match fields.iter().rfind(|member| member.name == container) {
            Some(member) if member.value == "null" => {
                return Some((path, (member.place.clone(), format!("{{\"{name}\":{limit}}}"))));
            }
            Some(member) => (members(member.value.as_bytes()).ok()?, member.value.as_bytes(), member.place.start),
            None => return Some((path, insertion(body, 0, &format!("\"{container}\":{{\"{name}\":{limit}}}")))),
        },
    };
    // One that is there says null, or a negative number for "no limit": its value is what changes.
    if let Some(there) = scope.iter().rfind(|member| member.name == name) {
        let place = offset + there.place.start..offset + there.place.end;
        return Some((path, (place, limit.to_string())));
    }
    Some((path, insertion(text, offset, &format!("\"{name}\":{limit}"))))
}

/// `member` as the first of the object `text`, which stands at `offset`.
fn insertion(text: &[u8], offset: usize, member: &str) -> Edit {
    let place = offset + behind_opening(text);
    (place..place, format!("{member},"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Dialect;
    use crate::endpoint::InPath;
    use crate::members::splice;
    use bytes::Bytes;
    use rstest::rstest;

    fn chat(dialect: Dialect) -> Endpoint {
        Endpoint { dialect, kind: Kind::Chat(InPath::default()) }
    }

    fn completions() -> Endpoint {
        Endpoint { dialect: Dialect::ChatCompletions, kind: Kind::Passed(Passed::Completions) }
    }

    #[rstest]
    #[case::null(chat(Dialect::Responses), r#"{"max_output_tokens":null}"#, r#"{"max_output_tokens":9}"#)]
    #[case::no_object(
        chat(Dialect::GenerateContent),
        r#" {"a":1}"#,
        r#" {"generationConfig":{"maxOutputTokens":9},"a":1}"#
    )]
    #[case::an_object(
        chat(Dialect::LocalChat),
        r#"{"options":{"seed":1}}"#,
        r#"{"options":{"num_predict":9,"seed":1}}"#
    )]
    #[case::an_empty_object(chat(Dialect::LocalChat), r#"{"options":{}}"#, r#"{"options":{"num_predict":9}}"#)]
    #[case::null_object(chat(Dialect::LocalChat), r#"{"options":null}"#, r#"{"options":{"num_predict":9}}"#)]
    #[case::without_an_end(
        chat(Dialect::LocalChat),
        r#"{"options":{"num_predict":-1}}"#,
        r#"{"options":{"num_predict":9}}"#
    )]
    #[case::completions(completions(), r#"{"prompt":""}"#, r#"{"max_tokens":9,"prompt":""}"#)]
    fn a_limit_is_written_in(#[case] endpoint: Endpoint, #[case] body: &str, #[case] sent: &str) {
        let (_, edit) = with_limit(&endpoint, body.as_bytes(), 9).unwrap();
        let pieces = splice(&Bytes::copy_from_slice(body.as_bytes()), [edit]);
        assert_eq!(String::from_utf8(pieces.concat()).unwrap(), sent);
    }

    #[rstest]
    #[case::completions(Passed::Completions, r#"{"max_tokens":7,"n":2,"best_of":5}"#, Some(7), Some(5), 0)]
    #[case::images(Passed::Images, r#"{"n":3,"size":"64x64"}"#, Some(0), None, 3)]
    #[case::one_image(Passed::Images, "{}", Some(0), None, 1)]
    #[case::sound(Passed::Transcriptions, r#"{"max_tokens":7}"#, None, None, 0)]
    fn limits_are_read(
        #[case] passed: Passed,
        #[case] body: &str,
        #[case] output: Option<u64>,
        #[case] choices: Option<u64>,
        #[case] images: u32,
    ) {
        let limits = Limits::of_passed(passed, &members(body.as_bytes()).unwrap());
        assert_eq!((limits.output, limits.choices, limits.images), (output, choices, images));
        assert_eq!(limits.image_size.is_some(), body.contains("64x64"));
    }
}
