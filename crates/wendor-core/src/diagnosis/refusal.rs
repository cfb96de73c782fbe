//! An answer that says no: what of, as far as its status, its code and its words tell. Nothing is decided by words but which
//! explanation is shown; how requests are served never depends on them.

use serde_json::Value;
use wendor_wire::rejection::wrong_places;

use super::finding::{Finding, FindingKind};
use super::remedy::{Change, Remedy};
use super::seen::Heard;
use crate::words::data_size;

/// How much of a server's own words is shown.
const MOST_WORDS: usize = 240;

/// Parts of codes and words that tell of money.
const MONEY: [&str; 8] = ["quota", "billing", "credit", "balance", "payment", "insufficient_funds", "budget", "funds"];

/// Parts of codes and words that tell of terms.
const TERMS: [&str; 8] =
    ["terms", "agreement", "licen", "gated", "acceptance", "accept the", "request access", "consent"];

/// What a refusal says.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ErrorSaid {
    /// Its code, or its kind.
    pub code: String,
    /// Its words.
    pub message: String,
}

/// Reads a refusal in whatever shape it has.
#[must_use]
pub fn told(heard: &Heard) -> ErrorSaid {
    let text = |value: Option<&Value>| value.and_then(Value::as_str).unwrap_or_default().to_owned();
    let Some(body) = heard.json() else {
        let words = String::from_utf8_lossy(&heard.body).trim().to_owned();
        return ErrorSaid { code: String::new(), message: if heard.is_page() { String::new() } else { cut(&words) } };
    };
    let error = body.get("error").unwrap_or(&body);
    if let Some(words) = error.as_str() {
        return ErrorSaid { code: text(body.get("code")), message: cut(words) };
    }
    let deep = error.pointer("/details/error_code");
    let code = [error.get("code"), deep, error.get("status"), error.get("type")].into_iter().map(text);
    let code = code.filter(|code| !code.is_empty()).collect::<Vec<_>>().join(" ");
    let message = [error.get("message"), error.get("detail"), body.get("message"), body.get("detail")];
    let message = message.into_iter().map(text).find(|words| !words.is_empty());
    let message = message.or_else(|| wrong_places(&heard.body)).unwrap_or_default();
    ErrorSaid { code, message: cut(&message) }
}

/// What a server says of itself, as a sentence that quotes it; empty where it says nothing.
#[must_use]
pub fn quoted(heard: &Heard) -> String {
    let message = told(heard).message;
    if message.is_empty() { String::new() } else { format!(" It says: \"{message}\"") }
}

fn cut(words: &str) -> String {
    let visible: String =
        words.chars().map(|each| if each.is_control() { ' ' } else { each }).take(MOST_WORDS).collect();
    visible.trim().to_owned()
}

/// What was sent, as far as an explanation needs it.
#[derive(Clone, Copy, Debug)]
pub struct Asked<'a> {
    /// Whether a key went along.
    pub has_key: bool,
    /// Headers that the operator sets.
    pub headers: &'a [String],
    /// The server's host.
    pub host: &'a str,
    /// How long the refusal took, in milliseconds.
    pub took_ms: u64,
}

/// Whether headers were too large: some servers say so by a status of its own, some in a page.
#[must_use]
pub fn is_header_limit(heard: &Heard) -> bool {
    let small = || String::from_utf8_lossy(&heard.body).to_ascii_lowercase();
    heard.status == 431
        || (heard.status == 400 && heard.is_page() && small().contains("header") && small().contains("too large"))
}

/// The headers are too large.
#[must_use]
pub fn header_limit(host: &str, heard: &Heard) -> Finding {
    let says =
        format!("{host} refuses the request since its headers are too large ({}).{}", heard.status, quoted(heard));
    let owner = format!(
        "Please let {host}, or the proxy before it, take headers of 16 KB: keys and ids of requests are in them."
    );
    Finding::failing(FindingKind::HeaderLimit, says, vec![Remedy::owner(owner)])
}

/// A proxy did not wait any longer.
#[must_use]
pub fn gives_up(host: &str, after_ms: u64) -> Finding {
    let after = format!("{}.{} s", after_ms / 1_000, after_ms % 1_000 / 100);
    let says = format!("A proxy gives up after {after} (504): the server behind it did not answer in that time.");
    let owner = format!(
        "The proxy on {host} waits {after} for the model server and no longer; please raise its read time-out (600 s is usual for models), and look whether the server answers."
    );
    Finding::failing(FindingKind::GivesUp, says, vec![Remedy::owner(owner)])
}

/// The server itself fails.
#[must_use]
pub fn server_error(host: &str, heard: &Heard) -> Finding {
    let says = format!("{host} fails with an internal error at a plain request ({}).{}", heard.status, quoted(heard));
    let owner = format!("Your server answers {} to a plain request; its log says why.{}", heard.status, quoted(heard));
    Finding::failing(FindingKind::ServerError, says, vec![Remedy::owner(owner)])
}

/// A body was too large.
#[must_use]
pub fn body_limit(host: &str, taken: u64, refused: u64) -> Finding {
    let says = format!(
        "Requests of {} are taken and those of {} are refused as too large (413): long prompts and images do not come through.",
        data_size(taken),
        data_size(refused)
    );
    let owner =
        format!("Please let {host}, or the proxy before it, take bodies of 32 MB: prompts with images are that large.");
    Finding::noted(FindingKind::BodyLimit, says, vec![Remedy::owner(owner)])
}

/// What a refusal means.
#[must_use]
pub fn judge(heard: &Heard, asked: Asked<'_>) -> Finding {
    let ErrorSaid { code, message } = told(heard);
    let small = format!("{code} {message}").to_ascii_lowercase();
    let quoted = quoted(heard);
    let host = asked.host;
    let holds = |words: &[&str]| words.iter().any(|word| small.contains(word));
    let operator = |says: String| vec![Remedy::operator(says)];
    let status = heard.status;
    if status == 402 || (holds(&MONEY) && matches!(status, 400 | 403 | 429)) {
        let says = format!("The account at {host} has no credit left ({status}).{quoted}");
        return Finding::failing(
            FindingKind::OutOfCredit,
            says,
            operator(format!("Top the account at {host} up, or raise its limit there")),
        );
    }
    if let Some(name) = wanted_header(&message, asked.headers).filter(|_| matches!(status, 400 | 401 | 403 | 422)) {
        let says = format!("{host} requires the request header `{name}`, which is not set ({status}).{quoted}");
        let remedy = Remedy::change(format!("Set the header {name}"), Change::Header { name });
        return Finding::failing(FindingKind::HeaderMissing, says, vec![remedy]);
    }
    if holds(&TERMS) && matches!(status, 400 | 401 | 403 | 404 | 451) {
        let says =
            format!("{host} requires that the model's terms are accepted or a form is filled in ({status}).{quoted}");
        let does =
            format!("Sign in at {host} with the account that the key belongs to, and accept the terms of the model");
        return Finding::failing(FindingKind::TermsNotAccepted, says, operator(does));
    }
    by_status(heard, asked, &quoted)
}

/// What a status alone means.
fn by_status(heard: &Heard, asked: Asked<'_>, quoted: &str) -> Finding {
    let (host, status) = (asked.host, heard.status);
    let operator = |says: String| vec![Remedy::operator(says)];
    match (status, asked.has_key) {
        (401 | 403, false) => {
            let says = format!("{host} requires a key ({status}), and none is set.{quoted}");
            let does =
                "Give the upstream its key: `wendor upstream credential NAME`, or the field in the console".to_owned();
            Finding::failing(FindingKind::KeyMissing, says, operator(does))
        }
        (401 | 403, true) => {
            let says = format!("{host} refuses the key ({status}).{quoted}");
            let does = format!(
                "Is the key still valid, and of this service? Issue a new one at {host} and set it: `wendor upstream credential NAME`"
            );
            Finding::failing(FindingKind::KeyRefused, says, operator(does))
        }
        (429, _) => {
            let wait = heard.retry_after.map_or_else(String::new, |seconds| format!(" for {seconds} s"));
            let says = format!("{host} rate-limits requests{wait} (429).{quoted}");
            Finding::failing(
                FindingKind::RateLimited,
                says,
                operator("Check again later; if it stays so, ask for a higher limit there".to_owned()),
            )
        }
        (502 | 503, _) => {
            let kind = if status == 502 { FindingKind::BadGateway } else { FindingKind::NotReady };
            let says = format!("Something answers {status} instead of the server: it is not ready.{quoted}");
            let owner = format!("Behind {host} the model server does not answer ({status}).");
            Finding::failing(kind, says, vec![Remedy::owner(owner)])
        }
        (504, _) => gives_up(host, asked.took_ms),
        (200..=299, _) => {
            let says = format!("{host} answers with a success status and an error in the body.{quoted}");
            let owner = format!("Your server answers {status} with an error in its body.{quoted}");
            Finding::failing(FindingKind::ErrorInAnswer, says, vec![Remedy::owner(owner)])
        }
        (500..=599, _) => server_error(host, heard),
        _ if is_header_limit(heard) => header_limit(host, heard),
        (_, _) => {
            let says = format!("{host} refuses with {status}.{quoted}");
            Finding::failing(
                FindingKind::Refused,
                says,
                vec![Remedy::owner(format!("Your server answers {status} to a plain request.{quoted}"))],
            )
        }
    }
}

/// The header in which a server wants its key, where its refusal names one.
#[must_use]
pub fn named_key_header(heard: &Heard) -> Option<String> {
    let message = told(heard).message;
    let words = [message.as_str(), heard.challenge.as_deref().unwrap_or_default()].join(" ").to_ascii_lowercase();
    let mut words =
        words.split(|each: char| !each.is_ascii_alphanumeric() && each != '-').map(|word| word.trim_matches('-'));
    words
        .find(|word| word.contains('-') && ["key", "token", "auth"].iter().any(|part| word.ends_with(part)))
        .map(str::to_owned)
}

/// The header that a message asks for: a word with a hyphen, where it speaks of a header or a version, and that is not set yet.
fn wanted_header(message: &str, set: &[String]) -> Option<String> {
    let small = message.to_ascii_lowercase();
    let speaks_of_headers = small.contains("header");
    let is_name = |word: &&str| {
        let has_form = word.contains('-') && word.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'-');
        has_form
            && (speaks_of_headers || word.ends_with("-version"))
            && !word.ends_with("api-key")
            && *word != "content-type"
    };
    let words =
        small.split(|each: char| !each.is_ascii_alphanumeric() && each != '-').map(|word| word.trim_matches('-'));
    words
        .filter(|word| word.len() > 3)
        .filter(is_name)
        .find(|word| !set.iter().any(|known| known == word))
        .map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn heard(status: u16, body: &str) -> Heard {
        Heard { status, content_type: "application/json".into(), body: body.to_owned().into(), ..Heard::default() }
    }

    #[rstest]
    #[case::no_key(401, r#"{"error":{"message":"No key."}}"#, false, FindingKind::KeyMissing)]
    #[case::bad_key(401, r#"{"error":{"message":"The credential is not valid."}}"#, true, FindingKind::KeyRefused)]
    #[case::status_alone(402, "", true, FindingKind::OutOfCredit)]
    #[case::code(429, r#"{"error":{"code":"insufficient_quota","message":"Stop."}}"#, true, FindingKind::OutOfCredit)]
    #[case::limit(429, r#"{"error":{"message":"Slow down."}}"#, true, FindingKind::RateLimited)]
    #[case::version(
        400,
        r#"{"type":"error","error":{"message":"harbour-version: header is required"}}"#,
        true,
        FindingKind::HeaderMissing
    )]
    #[case::terms(
        403,
        r#"{"error":"You have to accept the terms of this model first."}"#,
        true,
        FindingKind::TermsNotAccepted
    )]
    #[case::deep_code(
        403,
        r#"{"type":"error","error":{"message":"No.","details":{"error_code":"agreement_missing"}}}"#,
        true,
        FindingKind::TermsNotAccepted
    )]
    #[case::other(418, "{}", true, FindingKind::Refused)]
    #[case::not_json(500, "boom", true, FindingKind::ServerError)]
    fn what_a_refusal_means(
        #[case] status: u16,
        #[case] body: &str,
        #[case] has_key: bool,
        #[case] expected: FindingKind,
    ) {
        let finding = judge(&heard(status, body), Asked { has_key, headers: &[], host: "quarry.example", took_ms: 0 });
        assert_eq!(finding.kind, expected, "{}", finding.says);
    }

    #[rstest]
    #[case::listed(
        r#"{"detail":[{"loc":["body","messages",0,"role"],"msg":"unexpected value"},{"msg":"too long"}]}"#,
        " It says: \"`messages.0.role`: unexpected value; too long\""
    )]
    #[case::text(r#"{"detail":"Not authenticated"}"#, " It says: \"Not authenticated\"")]
    #[case::nothing("{}", "")]
    #[case::page("<html>no</html>", "")]
    #[case::control_characters("bad\u{1b}[31m\nthing", " It says: \"bad [31m thing\"")]
    fn a_server_is_quoted(#[case] body: &str, #[case] words: &str) {
        assert_eq!(quoted(&heard(400, body)), words);
    }

    #[test]
    fn a_header_that_is_set_is_not_asked_for_again() {
        let answer = heard(400, r#"{"error":{"message":"The header harbour-version is not a date."}}"#);
        let set = ["harbour-version".to_owned()];
        let finding = judge(&answer, Asked { has_key: true, headers: &set, host: "quarry.example", took_ms: 0 });
        assert_eq!(finding.kind, FindingKind::Refused);
    }

    const TOO_LARGE: &str = "<html>Request Header Or Cookie Too Large</html>";

    #[rstest]
    #[case::by_its_status(431, "", true)]
    #[case::in_a_page(400, TOO_LARGE, true)]
    #[case::of_another_status(404, TOO_LARGE, false)]
    #[case::of_something_else(400, "<html>Request Body Too Large</html>", false)]
    #[case::of_a_bad_header(400, "<html>Bad Header</html>", false)]
    #[case::no_page(400, r#"{"error":"header too large"}"#, false)]
    fn headers_that_are_too_large(#[case] status: u16, #[case] body: &str, #[case] expected: bool) {
        assert_eq!(is_header_limit(&heard(status, body)), expected);
    }

    #[rstest]
    #[case(502, FindingKind::BadGateway)]
    #[case(503, FindingKind::NotReady)]
    #[case(504, FindingKind::GivesUp)]
    #[case(200, FindingKind::ErrorInAnswer)]
    fn what_a_status_means(#[case] status: u16, #[case] expected: FindingKind) {
        let asked = Asked { has_key: true, headers: &[], host: "quarry.example", took_ms: 0 };
        assert_eq!(judge(&heard(status, "{}"), asked).kind, expected);
    }

    #[rstest]
    #[case::in_its_words(r#"{"error":"send the key in X-Quarry-Key, please"}"#, None, Some("x-quarry-key"))]
    #[case::another_ending(r#"{"error":"missing harbour-token."}"#, None, Some("harbour-token"))]
    #[case::in_its_challenge("{}", Some("Key realm=\"x-harbour-auth\""), Some("x-harbour-auth"))]
    #[case::no_header(r#"{"error":"no token"}"#, None, None)]
    #[case::another_header(r#"{"error":"harbour-version is missing"}"#, None, None)]
    fn the_header_for_a_key_is_named(
        #[case] body: &str,
        #[case] challenge: Option<&str>,
        #[case] expected: Option<&str>,
    ) {
        let heard = Heard { challenge: challenge.map(str::to_owned), ..heard(401, body) };
        assert_eq!(named_key_header(&heard).as_deref(), expected);
    }

    #[rstest]
    #[case::a_version("harbour-version is required", Some("harbour-version"))]
    #[case::a_header("the header harbour-berth is required", Some("harbour-berth"))]
    #[case::of_no_header("harbour-berth is required", None)]
    #[case::the_key("the header x-api-key is required", None)]
    #[case::the_type("the header content-type is wrong", None)]
    #[case::too_short("the header a-b is required", None)]
    #[case::four_letters("the header a-bc is required", Some("a-bc"))]
    fn the_header_that_is_wanted(#[case] message: &str, #[case] expected: Option<&str>) {
        assert_eq!(wanted_header(message, &[]).as_deref(), expected);
    }
}
