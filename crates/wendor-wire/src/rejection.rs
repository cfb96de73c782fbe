//! An upstream's rejection of the app's own request, as the app is told it: in its own dialect, with the upstream's reason where one can
//! be read.

use crate::codec::ErrorTold;
use crate::dialect::Dialect;
use crate::failure::FailureKind;
use crate::json::{Node, Object};

/// Longest reason that is passed on: some servers answer with whole pages.
const MAX_REASON: usize = 2_000;

/// How an app is told of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Rejection {
    /// As it came: it is a proper error of the app's own dialect.
    AsItCame,
    /// In these words.
    Told(ErrorTold),
}

/// The rejection `body` with `status` by an upstream that speaks `from`, for an app that speaks `to`.
#[must_use]
pub fn rejection(from: Dialect, to: Dialect, status: u16, body: &[u8], request: &str) -> Rejection {
    let read = read_of(body);
    if from == to && read.is_some_and(|body| is_proper(to, body)) {
        return Rejection::AsItCame;
    }
    Rejection::Told(told(status, body, request))
}

fn read_of(body: &[u8]) -> Option<Object<'_>> {
    std::str::from_utf8(body).ok().and_then(|text| Node::new(text.trim(), "").object().ok())
}

/// A rejection by this status and body, in our words around the upstream's reason.
#[must_use]
pub fn told(status: u16, body: &[u8], request: &str) -> ErrorTold {
    let (reason, code, param) = match read_of(body).and_then(reason) {
        Some(Reason { message, code, param }) => (format!(": {}", short(&message)), code, param),
        None => (String::new(), None, None),
    };
    // Clients try a conflict again, which would change nothing here.
    let status = if status == 409 { 502 } else { status };
    let class = if status == 502 { "server_error" } else { "invalid_request_error" };
    ErrorTold {
        status,
        class,
        code: code.unwrap_or_else(|| "rejected_by_upstream".to_owned()),
        param,
        message: format!("The model server rejected this request with status {status}{reason}"),
        request: request.to_owned(),
    }
}

/// Codes by which a server says that a request does not fit the model's window.
const TOO_LONG: [&str; 3] = ["context_length_exceeded", "request_too_large", "prompt_too_long"];

/// Codes by which a server says that its policy declines what is asked.
const DECLINED: [&str; 3] = ["content_filter", "content_policy_violation", "policy_violation"];

/// What a rejection by this status is, told by its code and never by its text; [`FailureKind::Malformed`] where there is no reason that can
/// be read: then it may be no model server that has answered.
#[must_use]
pub fn kind_of(status: u16, body: &[u8]) -> FailureKind {
    let read = read_of(body);
    let codes = read.clone().map(codes).unwrap_or_default();
    let is_one_of = |known: &[&str]| codes.iter().any(|code| known.contains(&code.as_str()));
    if status == 413 || is_one_of(&TOO_LONG) {
        FailureKind::TooLong
    } else if is_one_of(&DECLINED) {
        FailureKind::Declined
    } else if read.and_then(reason).is_none() && matches!(status, 400 | 422) {
        FailureKind::Malformed
    } else {
        FailureKind::Rejected
    }
}

/// Whether a server that is not available says that it loads the model. There is no code for it that servers agree on, so its words count.
#[must_use]
pub fn is_loading(body: &[u8]) -> bool {
    let message = read_of(body).and_then(reason).map(|reason| reason.message.to_lowercase());
    message.is_some_and(|message| {
        message.contains("loading") && !message.contains("overloading") && message.contains("model")
    })
}

/// The codes of an error, wherever servers put one.
fn codes(mut body: Object<'_>) -> Vec<String> {
    let mut issues = Vec::new();
    let mut of = |object: &mut Object<'_>| {
        for name in ["code", "type"] {
            issues.extend(object.take(name).filter(Node::is_text).and_then(|code| code.text().ok()));
        }
    };
    of(&mut body);
    if let Some(mut error) = body.take("error").and_then(|error| error.object().ok()) {
        of(&mut error);
    }
    issues
}

struct Reason {
    message: String,
    code: Option<String>,
    param: Option<String>,
}

/// The reason, in whichever of the forms that servers have for it.
fn reason(mut body: Object<'_>) -> Option<Reason> {
    let plain = |message: String| Reason { message, code: None, param: None };
    if let Some(node) = body.take("error") {
        if node.is_text() {
            return node.text().ok().map(plain);
        }
        let mut error = node.object().ok()?;
        let message = error.text("message").ok()??;
        let code = error.take("code").filter(Node::is_text).and_then(|code| code.text().ok());
        return Some(Reason { message, code, param: error.text("param").ok().flatten() });
    }
    if let Some(listed) = body.clone().take("detail").filter(Node::is_list) {
        return listed_reason(&listed);
    }
    let text = |body: &mut Object<'_>, name| body.take(name).filter(Node::is_text).and_then(|node| node.text().ok());
    text(&mut body, "message").or_else(|| text(&mut body, "detail")).map(plain)
}

/// What is wrong with a body, as servers say it that check one against its schema. `None` where nothing of the kind is said.
#[must_use]
pub fn wrong_places(body: &[u8]) -> Option<String> {
    let listed = read_of(body)?.take("detail").filter(Node::is_list)?;
    listed_reason(&listed).map(|reason| reason.message)
}

/// What servers say that check a body against its schema: a list of places with what is wrong there.
fn listed_reason(listed: &Node<'_>) -> Option<Reason> {
    let one = |node: &Node<'_>| {
        let mut item = node.object().ok()?;
        let message = item.text("msg").ok()??;
        let steps = item.list("loc").unwrap_or_default();
        let steps = steps.iter().filter_map(|step| step.text().ok().or_else(|| Some(step.count().ok()?.to_string())));
        // It begins with the part of the request, which is always the body.
        Some((steps.filter(|step| step != "body").collect::<Vec<_>>().join("."), message))
    };
    let wrong: Vec<(String, String)> = listed.list().ok()?.iter().filter_map(one).collect();
    let param = wrong.first().map(|(path, _)| path.clone()).filter(|path| !path.is_empty());
    let said = |(path, message): &(String, String)| {
        if path.is_empty() { message.clone() } else { format!("`{path}`: {message}") }
    };
    let message = wrong.iter().map(said).collect::<Vec<_>>().join("; ");
    (!message.is_empty()).then_some(Reason { message, code: None, param })
}

fn short(message: &str) -> &str {
    message.char_indices().nth(MAX_REASON).map_or(message, |(end, _)| message.get(..end).unwrap_or(message))
}

/// Whether clients of the dialect read it as they should.
fn is_proper(dialect: Dialect, mut body: Object<'_>) -> bool {
    let Some(error) = body.take("error") else { return false };
    match dialect {
        Dialect::LocalChat => error.is_text(),
        Dialect::Messages => {
            let outer = body.text("type").ok().flatten();
            outer.as_deref() == Some("error") && has(&error, &["type", "message"])
        }
        Dialect::ChatCompletions | Dialect::Responses => has(&error, &["message"]),
        Dialect::GenerateContent => {
            let code = error.object().ok().and_then(|mut error| error.count("code").ok().flatten());
            has(&error, &["message"]) && code.is_some()
        }
    }
}

fn has(error: &Node<'_>, texts: &[&str]) -> bool {
    let Ok(mut error) = error.object() else { return false };
    texts.iter().all(|name| error.text(name).ok().flatten().is_some())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::too_long(
        400,
        r#"{"error":{"message":"m","type":"invalid_request_error","code":"context_length_exceeded"}}"#,
        FailureKind::TooLong
    )]
    #[case::too_large(413, "", FailureKind::TooLong)]
    #[case::too_large_by_its_type(
        400,
        r#"{"type":"error","error":{"type":"request_too_large","message":"m"}}"#,
        FailureKind::TooLong
    )]
    #[case::declined(400, r#"{"error":{"message":"m","code":"content_filter"}}"#, FailureKind::Declined)]
    #[case::with_a_reason(
        400,
        r#"{"error":{"message":"the context_length_exceeded what it may"}}"#,
        FailureKind::Rejected
    )]
    #[case::listed(
        422,
        r#"{"detail":[{"loc":["body"],"msg":"Field required","type":"missing"}]}"#,
        FailureKind::Rejected
    )]
    #[case::a_page(400, "<html>400 Bad Request</html>", FailureKind::Malformed)]
    #[case::nothing(422, "", FailureKind::Malformed)]
    #[case::a_conflict_without_a_reason(409, "", FailureKind::Rejected)]
    fn what_a_rejection_is(#[case] status: u16, #[case] body: &str, #[case] kind: FailureKind) {
        assert_eq!(kind_of(status, body.as_bytes()), kind);
    }

    #[rstest]
    #[case::object(r#"{"error":{"code":503,"message":"Loading model","type":"unavailable_error"}}"#, true)]
    #[case::text(r#"{"error":"Model dunlin-7b is currently loading","estimated_time":20.0}"#, true)]
    #[case::busy(r#"{"error":{"message":"The model is overloaded"}}"#, false)]
    #[case::page("<html>loading the model</html>", false)]
    fn whether_a_server_loads(#[case] body: &str, #[case] loads: bool) {
        assert_eq!(is_loading(body.as_bytes()), loads);
    }

    #[rstest]
    #[case::own_dialect(
        Dialect::ChatCompletions,
        Dialect::ChatCompletions,
        400,
        r#"{"error":{"message":"m","code":null}}"#,
        None
    )]
    #[case::own_without_a_message(Dialect::ChatCompletions, Dialect::ChatCompletions, 400, r#"{"error":"no"}"#, Some((400, "status 400: no")))]
    #[case::detail(Dialect::ChatCompletions, Dialect::ChatCompletions, 422, r#"{"detail":"no"}"#, Some((422, "status 422: no")))]
    #[case::listed(
        Dialect::ChatCompletions,
        Dialect::ChatCompletions,
        422,
        r#"{"detail":[{"loc":["body","messages",0,"content"],"msg":"Field required","type":"missing"},{"msg":"too long"}]}"#,
        Some((422, "status 422: `messages.0.content`: Field required; too long"))
    )]
    #[case::page(Dialect::ChatCompletions, Dialect::Messages, 400, "<html>", Some((400, "status 400")))]
    #[case::empty(Dialect::Messages, Dialect::LocalChat, 413, "", Some((413, "status 413")))]
    #[case::conflict(Dialect::Messages, Dialect::ChatCompletions, 409, r#"{"type":"error","error":{"type":"conflict_error","message":"m"}}"#, Some((502, "status 502: m")))]
    fn what_an_app_is_told(
        #[case] from: Dialect,
        #[case] to: Dialect,
        #[case] status: u16,
        #[case] body: &str,
        #[case] expected: Option<(u16, &str)>,
    ) {
        match (rejection(from, to, status, body.as_bytes(), "r"), expected) {
            (Rejection::AsItCame, None) => {}
            (Rejection::Told(told), Some((status, end))) => {
                assert_eq!(told.status, status);
                assert!(told.message.ends_with(end), "{}", told.message);
            }
            (found, _) => panic!("{found:?}"),
        }
    }
}
