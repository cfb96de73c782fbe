//! What pages of other sites and hostile answers could do to a person who is signed in.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::{Ferry, Wishes, header, question};
use wendor_e2e::site::Site;
use wendor_standins::memory::Replay;

const SCRIPT: &str = "<html><script>document.title='taken over';fetch('/manage/v1/people',{method:'POST',\
    headers:{'content-type':'application/json'},body:'{\"name\":\"intruder\",\"role\":\"owner\"}'})</script></html>";

/// An answer that a browser would take for a page.
fn hostile(status: u16, body: &str) -> Replay {
    let headers = vec![("content-type".to_owned(), "text/html; charset=utf-8".to_owned())];
    Replay { status, headers, body: body.to_owned().into() }
}

/// A page that posts a question to the service as soon as it is open, as plain text with the key in the address.
fn posting(ferry: &Ferry) -> String {
    format!(
        "<form method=post enctype=text/plain action=\"{}/v1/chat/completions?key={}\">\
         <input name='{{\"model\":\"night-sailings\",\"messages\":[{{\"role\":\"user\",\"content\":\"Hm\"}}],\"user\":\"' value='\"}}'>\
         </form><script>document.forms[0].submit()</script>",
        ferry.service.url, ferry.key
    )
}

#[tokio::test]
async fn a_page_of_another_site_and_a_hostile_server_take_no_session_over() {
    let ferry = Ferry::begin().await;
    let error = json!({ "error": { "message": SCRIPT, "type": "invalid_request_error" } }).to_string();
    ferry.quayside.replay(hostile(400, &error));
    let one_time = ferry.one_time("lookout", "owner", None).await;
    let browser = Browser::begin().await;
    browser.open(&format!("{}/console/", ferry.service.url)).await;
    browser.fill("One-time sign-in", &one_time).await;
    browser.click("Sign in").await;
    browser.see("Needs attention").await;

    let site = Site::of(posting(&ferry)).await;
    browser.open(&site.origin).await;
    browser.see("foreign_page").await;
    assert!(browser.address().await.starts_with("/v1/chat/completions"));
    assert_ne!(browser.script("return document.title").await, json!("taken over"));
    assert!(ferry.quayside.last_seen().is_none(), "no server was asked");
    let people = ferry.get("/people").await;
    let names: Vec<&Value> = people.as_array().unwrap().iter().map(|person| &person["name"]).collect();
    assert!(!names.contains(&&json!("intruder")), "{people}");
}

/// Whatever an upstream answers, and whatever it calls it: a browser takes it for no page.
#[rstest]
#[case::proper_error(400, &json!({ "error": { "message": SCRIPT, "type": "invalid_request_error" } }).to_string())]
#[case::a_page_as_error(400, SCRIPT)]
#[case::unprocessable(422, &json!({ "detail": SCRIPT }).to_string())]
#[case::a_page_as_answer(200, SCRIPT)]
#[tokio::test]
async fn an_answer_is_never_a_page(#[case] status: u16, #[case] body: &str) {
    let ferry = Ferry::begin().await;
    ferry.quayside.replay(hostile(status, body));
    let answer = ferry.ask(&question("harbour", false)).await;
    assert_eq!(header(&answer, "content-type"), "application/json");
    is_no_page(&answer);
    let text = answer.text().await.unwrap();
    assert!(serde_json::from_str::<Value>(&text).is_ok(), "{text}");
}

fn is_no_page(answer: &reqwest::Response) {
    let expected = [
        ("x-content-type-options", "nosniff"),
        ("content-security-policy", "default-src 'none'; sandbox"),
        ("cross-origin-resource-policy", "same-origin"),
    ];
    for (name, value) in expected {
        assert_eq!(header(answer, name), value, "{} {name}", answer.url());
    }
}

#[rstest]
#[case::alive("/livez")]
#[case::ready("/readyz")]
#[case::metrics("/metrics")]
#[case::management("/manage/v1/me")]
#[case::document("/manage/v1/openapi.json")]
#[case::nothing("/nothing/here")]
#[case::nothing_of_management("/manage/v1/nothing")]
#[case::models("/v1/models")]
#[tokio::test]
async fn nothing_outside_the_console_is_a_page(#[case] path: &str) {
    let ferry = Ferry::begin().await;
    is_no_page(&ferry.http.get(format!("{}{path}", ferry.service.url)).send().await.unwrap());
    // The pages that explain codes have a look, and nothing else.
    let page = ferry.http.get(format!("{}/errors/no_key", ferry.service.url)).send().await.unwrap();
    let policy = header(&page, "content-security-policy");
    assert!(policy.starts_with("default-src 'none'; style-src 'sha256-") && policy.ends_with("; sandbox"), "{policy}");
}

/// A request of a page: which origins may ask which route.
#[rstest]
#[case::listed("https://berths.example", "manifests", 200)]
#[case::listed_elsewhere("https://berths.example", "night-sailings", 403)]
#[case::listed_nowhere("https://gulls.example", "manifests", 403)]
#[case::without_an_origin("null", "manifests", 403)]
#[case::another_scheme("http://berths.example", "manifests", 403)]
#[tokio::test]
async fn pages_ask_the_routes_that_list_them(#[case] origin: &str, #[case] route: &str, #[case] status: u16) {
    let more = "[routes.manifests]\norigins = [\"https://berths.example\"]\nstages = [{ offers = [\"quayside/dunlin-70b\"] }]\n";
    let ferry = Ferry::with(Wishes { more: more.to_owned(), ..Wishes::default() }).await;
    let url = format!("{}/v1/chat/completions", ferry.service.url);
    let asked = ferry.http.post(&url).bearer_auth(&ferry.key).header("origin", origin).json(&question(route, false));
    let answer = asked.send().await.unwrap();
    assert_eq!(answer.status().as_u16(), status);
    // One that some route lists may read why it was refused.
    let may_read = if origin == "https://berths.example" { origin } else { "" };
    assert_eq!(header(&answer, "access-control-allow-origin"), may_read);
    if status == 403 {
        let body: Value = answer.json().await.unwrap();
        assert_eq!(body["error"]["code"], "foreign_page", "{body}");
        assert!(body["error"]["message"].as_str().unwrap().contains(origin), "{body}");
    }
    let method = reqwest::Method::OPTIONS;
    let preflight = ferry.http.request(method, &url).header("origin", origin);
    let preflight = preflight
        .header("access-control-request-method", "POST")
        .header("access-control-request-headers", "authorization,content-type");
    let answer = preflight.send().await.unwrap();
    assert_eq!(header(&answer, "access-control-allow-origin"), may_read);
    let headers = if may_read.is_empty() { "" } else { "authorization,content-type" };
    assert_eq!(header(&answer, "access-control-allow-headers"), headers);
}

/// The management API takes no call of any other page, whatever comes with it.
#[rstest]
#[case::sign_in("/sign-in", json!({ "one_time": "wdt-aaaaaaaa-x" }))]
#[case::session("/session", json!({ "one_time": "wdt-aaaaaaaa-x" }))]
#[case::keys("/keys", json!({ "team": "timetables", "label": "x" }))]
#[tokio::test]
async fn management_takes_no_call_of_another_page(#[case] path: &str, #[case] body: Value) {
    let ferry = Ferry::begin().await;
    let call = |origin: String| {
        ferry.http.post(ferry.manage(path)).bearer_auth(&ferry.owner).header("origin", origin).json(&body).send()
    };
    let answer = call("https://gulls.example".to_owned()).await.unwrap();
    assert_eq!((answer.status().as_u16(), header(&answer, "content-type").as_str()), (403, "application/problem+json"));
    let own = call(ferry.service.url.clone()).await.unwrap();
    assert_ne!(own.status().as_u16(), 403, "the service's own page");
}
