//! An app that names things by address, so that a model's server inside the network fetches them for it.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_e2e::site::Site;
use wendor_standins::memory::{Profile, Seen};
use wendor_wire::dialect::Dialect;

use crate::diagnosis::certificates::{Authority, Mistake};

/// Inside the network, in every form that servers read.
const INSIDE: [&str; 9] = [
    "http://10.0.0.5/secret",
    "https://10.0.0.5/secret",
    "https://127.0.0.1/secret",
    "https://2130706433/secret",
    "https://[::ffff:10.0.0.5]/secret",
    "https://quarry.internal/secret",
    "https://localhost/secret",
    "file:///etc/passwd",
    "http://images.example.com/a.png",
];

/// The beginning of a picture, by which its kind is told.
fn picture() -> Vec<u8> {
    b"\x89PNG\r\n\x1a\n\0\0\0\rIHDR".to_vec()
}

fn of_dialect(dialect: &str, url: &str) -> (&'static str, Value) {
    let chat = |part: Value| {
        let text = json!({ "type": "text", "text": "what is it?" });
        json!({ "model": "harbour", "messages": [{ "role": "user", "content": [text, part] }] })
    };
    match dialect {
        "chat-completions" => {
            ("/v1/chat/completions", chat(json!({ "type": "image_url", "image_url": { "url": url } })))
        }
        "a video" => ("/v1/chat/completions", chat(json!({ "type": "video_url", "video_url": { "url": url } }))),
        "a sound" => ("/v1/chat/completions", chat(json!({ "type": "audio_url", "audio_url": { "url": url } }))),
        "responses" => (
            "/v1/responses",
            json!({ "model": "harbour", "input": [{ "role": "user", "content": [{ "type": "input_image", "image_url": url }] }] }),
        ),
        "messages" => (
            "/v1/messages",
            json!({ "model": "harbour", "max_tokens": 9, "messages": [{ "role": "user", "content": [
                { "type": "image", "source": { "type": "url", "url": url } } ] }] }),
        ),
        "generate-content" => (
            "/v1beta/models/harbour:generateContent",
            json!({ "contents": [{ "role": "user", "parts": [{ "fileData": { "fileUri": url, "mimeType": "image/png" } }] }] }),
        ),
        other => panic!("{other}"),
    }
}

fn text_of(seen: Seen) -> String {
    String::from_utf8(seen.body.to_vec()).unwrap()
}

async fn ask(ferry: &Ferry, path: &str, body: String) -> (u16, String) {
    let ask = ferry.http.post(format!("{}{path}", ferry.service.url)).bearer_auth(&ferry.key);
    let answer = ask.header("content-type", "application/json").body(body).send().await.unwrap();
    (answer.status().as_u16(), answer.text().await.unwrap())
}

#[rstest]
#[case("chat-completions")]
#[case("a video")]
#[case("a sound")]
#[case("responses")]
#[case("messages")]
#[case("generate-content")]
#[tokio::test]
async fn no_server_is_told_to_fetch_from_inside(#[case] dialect: &str) {
    let ferry = Ferry::begin().await;
    for url in INSIDE {
        let (path, body) = of_dialect(dialect, url);
        let escaped = body.to_string().replace("url\"", "\\u0075rl\"").replace("Uri\"", "\\u0055ri\"");
        for body in [body.to_string(), escaped] {
            let (status, told) = ask(&ferry, path, body).await;
            assert_eq!(status, 400, "{url}: {told}");
        }
    }
    assert!(ferry.quayside.last_seen().is_none(), "nothing was sent");
    if dialect == "chat-completions" {
        let (path, body) = of_dialect(dialect, "http://10.0.0.5/secret");
        let answer = ask(&ferry, path, body.to_string()).await.1;
        assert!(
            answer.contains("address_not_allowed") && answer.contains("only https: is taken; send its bytes"),
            "{answer}"
        );
        let (path, body) = of_dialect(dialect, "https://images.example.com/a.png");
        assert_eq!(ask(&ferry, path, body.to_string()).await.0, 200, "a public one goes on");
        assert!(ferry.quayside.last_seen().map(text_of).unwrap().contains("images.example.com"));
    }
}

/// What a service's own tool has given stands in the conversation that goes on, addresses of any kind in it: nothing fetches them again.
#[tokio::test]
async fn what_tools_of_a_service_gave_is_not_taken_for_something_to_fetch() {
    let messages = Profile { dialect: Dialect::Messages, ..Profile::quick("quayside", &["dunlin-70b"]) };
    let ferry = Ferry::with(Wishes { quayside: Some(messages), ..Wishes::default() }).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let own = text.replace("dialect = \"chat-completions\"", "dialect = \"messages\"");
    let own = own.replace("output_cap = 100", "output_cap = 100\ncontrols = { hosted-tools = \"pass\" }");
    assert_ne!(own, text, "{text}");
    ferry.apply(&own).await;
    let given = |kind: &str| {
        let results = json!([{ "type": "web_search_result", "url": "http://10.0.0.5/tides", "title": "tides" }]);
        json!({ "model": "harbour", "max_tokens": 9, "messages": [
            { "role": "user", "content": "when is the tide?" },
            { "role": "assistant", "content": [{ "type": kind, "tool_use_id": "srvtoolu_1", "content": results }] },
            { "role": "user", "content": "and tomorrow?" }] })
    };
    for (kind, status) in [("web_search_tool_result", 200), ("web_fetch_tool_result", 200), ("a_picture", 400)] {
        let (got, told) = ask(&ferry, "/v1/messages", given(kind).to_string()).await;
        assert_eq!(got, status, "{kind}: {told}");
    }
}

/// An offer whose server reaches nothing that it should not may be given anything; one that takes nothing is given nothing.
#[tokio::test]
async fn an_offer_says_what_it_is_given() {
    let ferry = Ferry::begin().await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    let (path, inside) = of_dialect("chat-completions", "http://10.0.0.5/a.png");
    let (_, outside) = of_dialect("chat-completions", "https://images.example.com/a.png");
    for (addresses, expected) in [("any", [200, 200]), ("none", [400, 400])] {
        let said = text.replace("output_cap = 100", &format!("output_cap = 100\naddresses = \"{addresses}\""));
        assert_ne!(said, text);
        ferry.apply(&said).await;
        let got = [ask(&ferry, path, inside.to_string()).await.0, ask(&ferry, path, outside.to_string()).await.0];
        assert_eq!(got, expected, "{addresses}");
    }
}

/// Where the gateway fetches, it fetches from public hosts alone, in bounds, and the server gets bytes.
#[rstest]
#[case::an_image("https://images.ferry.example:PORT/a.png", 200, "data:image/png;base64,")]
#[case::that_leads_on("https://images.ferry.example:PORT/on", 200, "data:image/png;base64,")]
#[case::that_leads_inside(
    "https://images.ferry.example:PORT/inside",
    400,
    "redirects to where nothing is fetched from"
)]
#[case::that_leads_to_a_name_inside(
    "https://images.ferry.example:PORT/named",
    400,
    "does not resolve to a public address"
)]
#[case::that_leads_on_for_ever("https://images.ferry.example:PORT/for-ever", 400, "redirects more than 3 times")]
#[case::too_large("https://images.ferry.example:PORT/large", 400, "larger than 10485760 bytes")]
#[case::no_image("https://images.ferry.example:PORT/page", 400, "not a supported image")]
#[case::missing("https://images.ferry.example:PORT/none", 400, "answered 404")]
#[case::a_name_that_leads_inside(
    "https://inside.ferry.example:PORT/a.png",
    400,
    "does not resolve to a public address"
)]
#[case::unencrypted("http://images.ferry.example:PORT/a.png", 400, "only https: is taken")]
#[tokio::test]
async fn what_the_gateway_fetches(#[case] url: &str, #[case] status: u16, #[case] told: &str) {
    let folder = tempfile::tempdir().unwrap();
    let _installed = rustls::crypto::ring::default_provider().install_default();
    let authority = Authority::make("ferry");
    let tls = authority.server("images.ferry.example", Mistake::None);
    let mut large = picture();
    large.resize(11 * 1024 * 1024, 0);
    let to = |url: &str| (302, ("location", url.to_owned()), Vec::new());
    let site = Site::encrypted(
        tls,
        vec![
            ("/a.png", (200, ("content-type", "image/png".to_owned()), picture())),
            ("/on", to("/a.png")),
            ("/inside", to("http://10.0.0.5/a.png")),
            ("/named", to("https://inside.ferry.example/a.png")),
            ("/for-ever", to("/for-ever")),
            ("/large", (200, ("content-type", "image/png".to_owned()), large)),
            ("/page", (200, ("content-type", "image/png".to_owned()), b"<html>no image at all".to_vec())),
        ],
    )
    .await;
    // To the tests loopback is the public network, but for one address of it.
    let hosts = folder.path().join("hosts");
    std::fs::write(&hosts, "127.0.0.1 images.ferry.example\n10.0.0.5 inside.ferry.example\n").unwrap();
    let settings = vec![
        ("WENDOR_AUTHORITIES", authority.write(folder.path()).display().to_string()),
        ("WENDOR_HOSTS", hosts.display().to_string()),
        ("WENDOR_REACH", "127.0.0.0/8".to_owned()),
    ];
    let ferry = Ferry::with(Wishes { settings, ..Wishes::default() }).await;
    let text = ferry.get("/catalogue").await["text"].as_str().unwrap().to_owned();
    ferry.apply(&text.replace("output_cap = 100", "output_cap = 100\naddresses = \"fetched\"")).await;
    let port = site.origin.rsplit_once(':').unwrap().1;
    let (path, body) = of_dialect("chat-completions", &url.replace("PORT", port));
    let (got, answer) = ask(&ferry, path, body.to_string()).await;
    assert_eq!(got, status, "{answer}");
    let seen = ferry.quayside.last_seen().map(text_of);
    if status == 200 {
        let seen = seen.unwrap();
        assert!(seen.contains(told) && !seen.contains("ferry.example"), "{seen}");
    } else {
        assert!(answer.contains(told) && seen.is_none(), "{answer}");
        assert!(!answer.contains("10.0.0.5"), "what a name leads to is not told: {answer}");
    }
}
