//! How a stand-in differs from a plain one: the mistakes of set-ups and the oddities of servers that practitioners meet, for tests of the
//! check and for trying it out. All of it can be changed while it runs.

use std::collections::BTreeMap;

use hyper::{Response, header};
use serde::Deserialize;
use serde_json::{Value, json};
use wendor_wire::dialect::Dialect;

use crate::chat::{AnswerBody, error, json as as_json};

/// What it does otherwise.
#[derive(Clone, Debug, Default, Deserialize)]
#[serde(deny_unknown_fields, default)]
pub struct Manners {
    /// Its API stands below this path, such as `/serve`.
    pub prefix: Option<String>,
    /// It takes its credential only there: `bearer`, `header:NAME` or `query:NAME`.
    pub key_place: Option<String>,
    /// It wants this request header.
    pub wants_header: Option<String>,
    /// It answers everything with a page for people.
    pub shows_page: bool,
    /// It leads everyone elsewhere.
    pub leads_to: Option<String>,
    /// It refuses every question with this status, code and message.
    pub refuses: Option<(u16, String, String)>,
    /// The list of models is answered with 404.
    pub no_listing: bool,
    /// It denies its endpoints to whoever only looks at them.
    pub hides_endpoints: bool,
    /// It wants a key for everything, whatever is there.
    pub guards_all: bool,
    /// Its errors are bare texts.
    pub bare_errors: bool,
    /// It hands a stream over in one piece.
    pub buffers: bool,
    /// Its streams do not say what they used.
    pub no_usage: bool,
    /// Its streams end without a terminator.
    pub no_terminator: bool,
    /// It loads its model on the first question, for so many milliseconds.
    pub load_ms: u64,
    /// It says that it loads its model for so long from the first question on, in milliseconds.
    pub says_loading_ms: u64,
    /// It serves one request at a time; others wait.
    pub one_at_a_time: bool,
    /// A listing that comes while it streams ends the stream.
    pub listing_ends_streams: bool,
    /// It says to whoever only looks that it is asked too often.
    pub refuses_looks: bool,
    /// It answers whatever model is named.
    pub any_name: bool,
    /// It denies that it lists anything to whoever shows no key.
    pub hides_listing: bool,
    /// Models that it lists and refuses.
    pub refuses_models: Vec<String>,
    /// It refuses requests with this header.
    pub refuses_header: Option<String>,
    /// It refuses turns of the role `developer`.
    pub no_developer: bool,
    /// It says that its streams are of this type.
    pub stream_type: Option<String>,
    /// It compresses whole answers, whoever asks.
    pub compresses: bool,
    /// Its streams stay open when they are complete.
    pub never_closes: bool,
    /// It sends this error, with success as its status, in the place of a whole answer, and in the middle of a stream.
    pub says_error: Option<String>,
    /// It makes so long pauses in the middle of a stream, in milliseconds.
    pub pauses_ms: u64,
    /// It does not look at images.
    pub ignores_images: bool,
    /// It knows no limit of output tokens by this name: `max_tokens`, `max_completion_tokens`, or `any`.
    pub ignores_limit: Option<String>,
    /// It calls no functions.
    pub ignores_tools: bool,
    /// It keeps to no schema.
    pub ignores_schema: bool,
    /// It cuts prompts to so many tokens.
    pub cuts_to: Option<u64>,
    /// It thinks for so many tokens before it says anything.
    pub thinks: usize,
    /// It takes so many requests in a minute.
    pub requests_a_minute: Option<u32>,
    /// It takes events at `/events`, and remembers them.
    pub takes_events: bool,
    /// Its clock is so many seconds ahead.
    pub clock_ahead: i64,
    /// Members that its listing has for every model, as JSON.
    pub listed: BTreeMap<String, Value>,
    /// Digests by model, where they are not made of the name.
    pub digests: BTreeMap<String, String>,
    /// The server's version.
    pub version: Option<String>,
    /// The models that are loaded; all of them when absent.
    pub loaded: Option<Vec<String>>,
}

impl Manners {
    /// The path without the prefix; `None` when it does not stand below it.
    pub(crate) fn below<'p>(&self, path: &'p str) -> Option<&'p str> {
        match &self.prefix {
            None => Some(path),
            Some(prefix) => path.strip_prefix(prefix.as_str()).filter(|rest| rest.starts_with('/')),
        }
    }

    /// What is said before anyone looks at the request, if something is.
    pub(crate) fn at_the_door(&self, dialect: Dialect, headers: &header::HeaderMap) -> Option<Response<AnswerBody>> {
        if let Some(to) = &self.leads_to {
            let mut response = Response::new(AnswerBody::whole(""));
            *response.status_mut() = hyper::StatusCode::FOUND;
            response.headers_mut().insert(header::LOCATION, to.parse().ok()?);
            return Some(response);
        }
        if self.shows_page {
            return Some(page(200, "Timetable of the Tern Isles Ferries"));
        }
        if let Some(name) = self.refuses_header.as_ref().filter(|name| headers.contains_key(name.as_str())) {
            return Some(error(dialect, 400, "invalid_request", &format!("{name} is not known here")));
        }
        if let Some(name) = self.wants_header.as_ref().filter(|name| !headers.contains_key(name.as_str())) {
            return Some(error(dialect, 400, "invalid_request", &format!("{name}: header is required")));
        }
        None
    }

    /// Whether the credential came where this server looks for it; `None` when it looks everywhere.
    pub(crate) fn takes_key(&self, headers: &header::HeaderMap, query: &str, wanted: &str) -> Option<bool> {
        let place = self.key_place.as_deref()?;
        Some(match place.split_once(':') {
            Some(("header", name)) => headers.get(name).is_some_and(|value| value == wanted),
            Some(("query", name)) => query.split('&').any(|pair| pair == format!("{name}={wanted}")),
            _ => headers.get(header::AUTHORIZATION).is_some_and(|value| *value == *format!("Bearer {wanted}")),
        })
    }

    /// The listing with what this server tells beside the plain one.
    pub(crate) fn listing(&self, plain: &str) -> String {
        let Ok(mut body) = serde_json::from_str::<Value>(plain) else { return plain.to_owned() };
        let member = if body.get("data").is_some() { "data" } else { "models" };
        let entries = body.get_mut(member).and_then(Value::as_array_mut).map_or(&mut [][..], Vec::as_mut_slice);
        for entry in entries {
            let name =
                ["id", "model", "name"].iter().find_map(|member| entry.get(member)?.as_str()).unwrap_or_default();
            let digest = self.digests.get(name).cloned();
            let Some(entry) = entry.as_object_mut() else { continue };
            if let Some(details) = entry.get_mut("details") {
                *details = json!({ "format": "plain", "family": "dunlin", "parameter_size": "7B", "quantization_level": "8 bit" });
            }
            entry.extend(self.listed.iter().map(|(name, value)| (name.clone(), value.clone())));
            if let Some(digest) = digest {
                entry.insert("digest".to_owned(), Value::String(digest));
            }
        }
        body.to_string()
    }

    /// What a local server has loaded.
    pub(crate) fn running(&self, models: &[String]) -> Response<AnswerBody> {
        let loaded = self.loaded.as_deref().unwrap_or(models);
        let entry = |model: &String| json!({ "name": model, "model": model, "size_vram": 4_000_000_000u64 });
        let body = json!({ "models": loaded.iter().map(entry).collect::<Vec<Value>>() });
        as_json(AnswerBody::whole(body.to_string()))
    }

    /// Answers a question for the server's version.
    pub(crate) fn told_version(&self) -> Response<AnswerBody> {
        let body = json!({ "version": self.version.as_deref().unwrap_or("1.0.0") });
        as_json(AnswerBody::whole(body.to_string()))
    }
}

/// A page for people.
pub(crate) fn page(status: u16, title: &str) -> Response<AnswerBody> {
    let mut response =
        Response::new(AnswerBody::whole(format!("<!doctype html><title>{title}</title><h1>{title}</h1>")));
    *response.status_mut() = hyper::StatusCode::from_u16(status).unwrap_or_default();
    response.headers_mut().insert(header::CONTENT_TYPE, header::HeaderValue::from_static("text/html; charset=utf-8"));
    response
}

/// What a local server shows of a model.
pub(crate) fn shown() -> Response<AnswerBody> {
    let body = json!({
        "details": { "format": "plain", "family": "dunlin" },
        "model_info": { "dunlin.context_length": 8_192 },
        "capabilities": ["completion", "tools", "vision", "thinking"],
    });
    as_json(AnswerBody::whole(body.to_string()))
}
