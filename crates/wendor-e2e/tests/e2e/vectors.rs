//! Requests as real clients send them, with replies that they accept: each goes through as it came, but for what the design
//! names (`model`, the ask for usage, and failures that are the operator's or the upstream's, which are told in Wendor's words).

use std::path::PathBuf;

use bytes::Bytes;
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

fn vectors() -> Vec<Vector> {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("vectors/chat-completions");
    let mut names: Vec<String> = std::fs::read_dir(&folder)
        .unwrap()
        .filter_map(|file| file.unwrap().file_name().to_str()?.strip_suffix(".request.json").map(str::to_owned))
        .collect();
    // The one that asks to be left alone for a while goes last: its upstream is.
    names.sort_by_key(|name| (name == "error-429", name.clone()));
    let json = |path: PathBuf| serde_json::from_str::<Value>(&std::fs::read_to_string(path).unwrap()).unwrap();
    let read = |name: String| {
        let request = json(folder.join(format!("{name}.request.json")));
        let stream = folder.join(format!("{name}.reply.sse"));
        if stream.exists() {
            let headers = vec![("content-type".to_owned(), "text/event-stream".to_owned())];
            let body = Bytes::from(std::fs::read(stream).unwrap());
            return Vector { name, request, status: 200, headers, body, is_stream: true };
        }
        let reply = json(folder.join(format!("{name}.reply.json")));
        let headers = reply["headers"]
            .as_object()
            .unwrap()
            .iter()
            .map(|(name, value)| (name.clone(), value.as_str().unwrap().to_owned()));
        let status = u16::try_from(reply["status"].as_u64().unwrap()).unwrap();
        let (headers, body) = (headers.collect(), Bytes::from(reply["body"].to_string()));
        Vector { name, request, status, headers, body, is_stream: false }
    };
    names.into_iter().map(read).collect()
}

/// A catalogue in which every model that the vectors name is a route to an offer of the same name.
fn catalogue(ferry: &Ferry, vectors: &[Vector]) -> String {
    let mut models: Vec<&str> =
        vectors.iter().map(|vector| vector.request["body"]["model"].as_str().unwrap()).collect();
    models.sort_unstable();
    models.dedup();
    let offers: String = models.iter().map(|model| format!("[upstreams.quayside.offers.\"{model}\"]\n")).collect();
    let route = |model: &&str| format!("[routes.\"{model}\"]\nstages = [{{ offers = [\"quayside/{model}\"] }}]\n");
    let routes: String = models.iter().map(route).collect();
    let address = ferry.quayside.address();
    format!(
        "[upstreams.quayside]\naddress = \"http://{address}\"\nhosting = \"own\"\n{offers}{routes}[teams.timetables]\n"
    )
}

/// The status that an app gets for an upstream's: what is the operator's or the upstream's fault is not passed on as the app's.
fn told_status(upstream: u16) -> u16 {
    match upstream {
        401 | 403 | 404 | 500 => 502,
        other => other,
    }
}

/// What the upstream has to have got: the app's body with the offer's model, and in a stream the ask for usage.
fn expected_upstream(vector: &Vector) -> Value {
    let mut body = vector.request["body"].clone();
    if body["stream"] == true {
        body["stream_options"]["include_usage"] = json!(true);
    }
    body
}

/// The stream as an app gets it: as it came, without a usage frame that it did not ask for.
fn expected_stream(vector: &Vector) -> String {
    let text = String::from_utf8(vector.body.to_vec()).unwrap();
    let asked = vector.request["body"]["stream_options"]["include_usage"] == true;
    let is_kept = |frame: &&str| asked || !(frame.contains("\"choices\":[]") && frame.contains("\"usage\":{"));
    text.split_inclusive("\n\n").filter(is_kept).collect()
}

#[tokio::test]
async fn every_vector_goes_through_unchanged() {
    let vectors = vectors();
    assert!(vectors.len() >= 50, "only {} vectors were found", vectors.len());
    let ferry = Ferry::begin().await;
    ferry.apply(&catalogue(&ferry, &vectors)).await;
    for vector in &vectors {
        let name = &vector.name;
        ferry.quayside.replay(Replay {
            status: vector.status,
            headers: vector.headers.clone(),
            body: vector.body.clone(),
        });
        let mut request = ferry.http.post(format!("{}/v1/chat/completions", ferry.service.url));
        for (header, value) in vector.request["headers"].as_object().unwrap() {
            if header != "authorization" {
                request = request.header(header, value.as_str().unwrap());
            }
        }
        let answer = request.bearer_auth(&ferry.key).body(vector.request["body"].to_string()).send().await.unwrap();
        let status = answer.status().as_u16();
        assert_eq!(status, told_status(vector.status), "{name}");
        let id = header(&answer, "wendor-request-id");
        let content_type = header(&answer, "content-type");
        assert!(
            content_type.starts_with(if vector.is_stream { "text/event-stream" } else { "application/json" }),
            "{name}: {content_type}"
        );
        let body = answer.bytes().await.unwrap();
        match status {
            429 | 502..=504 => {
                let told: Value = serde_json::from_slice(&body).unwrap();
                assert_eq!(told["error"]["code"], "all_offers_failed", "{name}: {told}");
            }
            _ if vector.is_stream => {
                assert_eq!(String::from_utf8(body.to_vec()).unwrap(), expected_stream(vector), "{name}")
            }
            _ => assert_eq!(body, vector.body, "{name}"),
        }
        let seen = ferry.quayside.last_seen().unwrap();
        assert_eq!(serde_json::from_slice::<Value>(&seen.body).unwrap(), expected_upstream(vector), "{name}");
        check_record(&ferry, vector, &id).await;
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
        serde_json::from_str::<Value>(body).ok()?.get("usage").filter(|usage| usage.is_object()).cloned()
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
