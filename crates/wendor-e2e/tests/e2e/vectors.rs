//! Requests as real clients of every dialect send them, with replies that they accept: each goes through as it came, but for what the
//! design names (`model`, the ask for usage, not to be kept, marks on seals, and failures that are the operator's or the upstream's, which are told in
//! Wendor's words).

use std::path::PathBuf;

use bytes::Bytes;
use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, header};
use wendor_standins::server::Replay;

struct Vector {
    name: String,
    request: Value,
    status: u16,
    headers: Vec<(String, String)>,
    body: Bytes,
    is_stream: bool,
}

impl Vector {
    fn path(&self) -> &str {
        self.request["path"].as_str().unwrap()
    }

    /// Whether it is asked of an upstream: listings are Wendor's own, and what services keep is refused.
    fn goes_up(&self) -> bool {
        let is_shown = self.path() == "/api/show";
        self.request["method"] == "POST" && !is_shown && self.name != "previous-response"
    }

    fn model(&self) -> String {
        let in_path = self.path().split_once("/models/").and_then(|(_, rest)| rest.rsplit_once(':'));
        match in_path {
            Some((model, _)) => model.to_owned(),
            None => {
                let form = self.request["body_multipart"].as_array();
                let part = form.map(|parts| &parts.iter().find(|part| part["name"] == "model").unwrap()["text"]);
                part.unwrap_or(&self.request["body"]["model"]).as_str().unwrap().to_owned()
            }
        }
    }
}

/// The body as it goes over the wire, and its content type.
fn body_of(vector: &Vector) -> (Vec<u8>, &'static str) {
    let Some(parts) = vector.request["body_multipart"].as_array() else {
        return (vector.request["body"].to_string().into_bytes(), "application/json");
    };
    let mut body = Vec::new();
    for part in parts {
        let name = part["name"].as_str().unwrap();
        let file = part["filename"].as_str().map(|file| format!("; filename=\"{file}\"")).unwrap_or_default();
        let head = format!("--b7\r\nContent-Disposition: form-data; name=\"{name}\"{file}\r\n\r\n");
        body.extend_from_slice(head.as_bytes());
        body.extend_from_slice(part["text"].as_str().or(part["base64"].as_str()).unwrap().as_bytes());
        body.extend_from_slice(b"\r\n");
    }
    body.extend_from_slice(b"--b7--\r\n");
    (body, "multipart/form-data; boundary=b7")
}

fn vectors(dialect: &str) -> Vec<Vector> {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("../wendor-wire/vectors").join(dialect);
    let mut names: Vec<String> = std::fs::read_dir(&folder)
        .unwrap()
        .filter_map(|file| file.unwrap().file_name().to_str()?.strip_suffix(".request.json").map(str::to_owned))
        .collect();
    // The one that rate-limits requests for a while goes last: its upstream is.
    names.sort_by_key(|name| (name == "error-429", name.clone()));
    let json = |path: PathBuf| serde_json::from_str::<Value>(&std::fs::read_to_string(path).unwrap()).unwrap();
    let read = |name: String| {
        let request = json(folder.join(format!("{name}.request.json")));
        for (ending, kind) in [("sse", "text/event-stream"), ("ndjson", "application/x-ndjson")] {
            let stream = folder.join(format!("{name}.reply.{ending}"));
            if stream.exists() {
                let headers = vec![("content-type".to_owned(), kind.to_owned())];
                let body = Bytes::from(std::fs::read(stream).unwrap());
                return Vector { name, request, status: 200, headers, body, is_stream: true };
            }
        }
        let reply = json(folder.join(format!("{name}.reply.json")));
        let headers = reply["headers"]
            .as_object()
            .unwrap()
            .iter()
            .map(|(name, value)| (name.clone(), value.as_str().unwrap().to_owned()));
        let status = u16::try_from(reply["status"].as_u64().unwrap()).unwrap();
        let (headers, body) = (
            headers.collect(),
            Bytes::from(reply["body"].as_str().map_or_else(|| reply["body"].to_string(), str::to_owned)),
        );
        Vector { name, request, status, headers, body, is_stream: false }
    };
    names.into_iter().map(read).filter(Vector::goes_up).collect()
}

/// A catalogue in which every model that the vectors name is a route to an offer of the same name, which passes on all controls and
/// knows whose token ids they are.
fn catalogue(ferry: &Ferry, dialect: &str, vectors: &[Vector]) -> String {
    let mut models: Vec<String> = vectors.iter().map(Vector::model).collect();
    models.sort_unstable();
    models.dedup();
    let pass = ["stay-loaded", "loaded-window", "load-options", "service-tier", "hosted-tools", "store"]
        .map(|control| format!("{control} = \"pass\""))
        .join(", ");
    let offer = |model: &String| {
        format!("[upstreams.quayside.offers.\"{model}\"]\nmarks = [\"token-ids\"]\ncontrols = {{ {pass} }}\n")
    };
    let offers: String = models.iter().map(offer).collect();
    let route = |model: &String| format!("[routes.\"{model}\"]\nstages = [{{ offers = [\"quayside/{model}\"] }}]\n");
    let routes: String = models.iter().map(route).collect();
    let address = ferry.quayside.address();
    format!(
        "[upstreams.quayside]\naddress = \"http://{address}\"\ndialect = \"{dialect}\"\nhosting = \"own\"\n{offers}{routes}[teams.timetables]\n"
    )
}

/// The status that an app gets for an upstream's: what is the operator's or the upstream's fault is not passed on as the app's, and a
/// limit that does not say when to come back is an overload.
fn told_status(vector: &Vector) -> u16 {
    let says_when = vector.headers.iter().any(|(name, _)| name.starts_with("retry-after"));
    match vector.status {
        // An error before a first token would be tried elsewhere.
        200 if vector.name == "stream-error-event" => 502,
        401 | 403 | 404 | 500 => 502,
        529 => 503,
        429 if !says_when => 503,
        other => other,
    }
}

/// Vectors as digits where base64 was asked for: some clients would decode garbage, so they are mended.
fn is_mended(vector: &Vector) -> bool {
    let is_digits = String::from_utf8_lossy(&vector.body).contains("\"embedding\":[");
    vector.request["body"]["encoding_format"] == "base64" && is_digits
}

/// What the upstream must have got: the app's body with the offer's model, and in a stream of chat-completions the ask for usage.
fn expected_upstream(dialect: &str, vector: &Vector) -> Value {
    let mut body = vector.request["body"].clone();
    if dialect == "chat-completions" && vector.path() == "/v1/chat/completions" && body["stream"] == true {
        body["stream_options"]["include_usage"] = json!(true);
    }
    if dialect == "responses" && vector.path() == "/v1/responses" && body["store"].is_null() {
        body["store"] = json!(false);
    }
    body
}

/// The stream as an app gets it: as it came, without a usage frame that it did not ask for, and with an error in the form that every
/// client raises on.
fn is_as_expected(dialect: &str, vector: &Vector, got: &str) -> bool {
    let text = String::from_utf8(vector.body.to_vec()).unwrap();
    if dialect == "responses" && (vector.name.contains("error") || vector.name.contains("failed")) {
        // Both forms of the error, in the upstream's words.
        return got.contains("event: response.failed\n")
            && got.contains("event: error\n")
            && got.contains("Upstream closed the stream.");
    }
    let asked = vector.request["body"]["stream_options"]["include_usage"] == true;
    let is_kept = |frame: &&str| asked || !(frame.contains("\"choices\":[]") && frame.contains("\"usage\":{"));
    let expected: String = text.split_inclusive("\n\n").filter(is_kept).collect();
    got.replace('\r', "") == expected.replace('\r', "")
}

/// Replies without the marks that seals get on their way.
fn without_marks(text: &str) -> String {
    let Some(start) = text.find("d2VuZG9yLX") else { return text.to_owned() };
    let mark = &text[start..start + 28];
    text.replace(mark, "")
}

#[rstest]
#[case::chat_completions("chat-completions", 60)]
#[case::responses("responses", 35)]
#[case::messages("messages", 45)]
#[case::generate_content("generate-content", 35)]
#[case::local_chat("local-chat", 28)]
#[tokio::test]
async fn every_vector_goes_through_unchanged(#[case] dialect: &str, #[case] least: usize) {
    let vectors = vectors(dialect);
    assert!(vectors.len() >= least, "only {} vectors were found", vectors.len());
    let ferry = Ferry::begin().await;
    ferry.apply(&catalogue(&ferry, dialect, &vectors)).await;
    for vector in &vectors {
        let name = &vector.name;
        ferry.quayside.replay(Replay {
            status: vector.status,
            headers: vector.headers.clone(),
            body: vector.body.clone(),
        });
        let query = vector.request["query"].as_object().filter(|query| query.contains_key("alt"));
        let query = query.map_or("", |_| "?alt=sse");
        let mut request = ferry.http.post(format!("{}{}{query}", ferry.service.url, vector.path()));
        for (header, value) in vector.request["headers"].as_object().unwrap() {
            let is_ours = header == "authorization" || header.contains("api-key") || header.starts_with('@');
            if !is_ours && header != "content-type" {
                request = request.header(header, value.as_str().unwrap());
            }
        }
        let (sent, kind) = body_of(vector);
        let request = request.bearer_auth(&ferry.key).header("content-type", kind);
        let answer = request.body(sent.clone()).send().await.unwrap();
        let status = answer.status().as_u16();
        let id = header(&answer, "wendor-request-id");
        let content_type = header(&answer, "content-type");
        // A stream of generate-content that broke off ends with its connection.
        let (mut body, mut answer) = (Vec::new(), answer);
        while let Ok(Some(piece)) = answer.chunk().await {
            body.extend_from_slice(&piece);
        }
        let body = String::from_utf8(body).unwrap();
        assert_eq!(status, told_status(vector), "{name}: {body}");
        let declared = vector.headers.iter().find(|(name, _)| name == "content-type").map(|(_, value)| value.as_str());
        let expected_type = declared.filter(|_| status == 200).unwrap_or("application/json");
        assert!(content_type.starts_with(expected_type), "{name}: {content_type}");
        match status {
            429 | 502..=504 => assert!(body.contains("No offer answered"), "{name}: {body}"),
            _ if vector.is_stream => {
                let body = without_marks(&body);
                assert!(is_as_expected(dialect, vector, &body), "{name}:\n{body}");
            }
            _ if is_mended(vector) => assert!(body.contains("\"embedding\":\""), "{name}: {body}"),
            _ => assert_eq!(without_marks(&body), vector.body, "{name}"),
        }
        let seen = ferry.quayside.last_seen().unwrap();
        if kind != "application/json" {
            assert_eq!(seen.body, sent, "{name}");
            continue;
        }
        assert_eq!(serde_json::from_slice::<Value>(&seen.body).unwrap(), expected_upstream(dialect, vector), "{name}");
        if dialect == "chat-completions" {
            check_record(&ferry, vector, &id).await;
        }
    }
}

/// The usage on the record is the one of the reply, by kind.
async fn check_record(ferry: &Ferry, vector: &Vector, id: &str) {
    let text = String::from_utf8(vector.body.to_vec()).unwrap();
    let bodies = if vector.is_stream {
        text.lines().filter_map(|line| line.strip_prefix("data: ")).collect()
    } else {
        vec![text.as_str()]
    };
    let mut usages = bodies.iter().filter_map(|body| {
        serde_json::from_str::<Value>(body)
            .ok()?
            .get("usage")
            .filter(|usage| usage["prompt_tokens"].is_number())
            .cloned()
    });
    let Some(usage) = usages.next_back() else { return };
    let tokens = &ferry.request(id).await["request"]["tokens"];
    let number = |value: &Value| value.as_u64().unwrap_or(0);
    let input = number(&tokens["input"]) + number(&tokens["input_cached"]) + number(&tokens["cache_written"]);
    assert_eq!(input, number(&usage["prompt_tokens"]), "{}", vector.name);
    assert_eq!(number(&tokens["output"]), number(&usage["completion_tokens"]), "{}", vector.name);
    assert_eq!(
        number(&tokens["input_cached"]),
        number(&usage["prompt_tokens_details"]["cached_tokens"]),
        "{}",
        vector.name
    );
}
