//! The management API: who may do what, and that its answers are what its OpenAPI document says.

use std::collections::BTreeSet;

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes, header, question};

async fn status(ferry: &Ferry, token: &str, method: &str, path: &str) -> u16 {
    let method_is_post = method == "POST";
    let method = method.parse().unwrap();
    let mut request = ferry.http.request(method, ferry.manage(path)).bearer_auth(token);
    request = match path {
        "/keys" => request.json(&json!({ "team": "timetables", "label": "x" })),
        "/people/nobody" => request.json(&json!({ "disabled": false })),
        "/people" => request.json(&json!({ "name": "clerk", "role": "operator" })),
        "/catalogue/difference" => request.json(&json!({ "text": "" })),
        "/upstreams/check" => request.json(&json!({ "name": "quayside" })),
        "/upstreams/quayside/mend" => request.json(&json!({ "change": { "setting": "plain-http" } })),
        "/upstreams/quayside/offers" => request.json(&json!({ "models": ["dunlin-7b"], "look": true })),
        "/upstreams/quayside/credential" => request.json(&json!({ "value": "a-key" })),
        "/teams" if method_is_post => request.json(&json!({ "name": "timetables" })),
        "/sign-in-rule" if method_is_post => request.json(&json!({ "codes_required": [] })),
        "/me/confirm" => request.json(&json!({ "password": "a tide table in winter" })),
        "/me/password" => request.json(&json!({ "password": "short" })),
        "/tokens" if method_is_post => request.json(&json!({ "label": "x" })),
        "/catalogue" if method_is_post => request.json(&json!({ "text": "", "base": 0 })),
        "/routes" if method_is_post => request.json(&json!({ "name": "harbour", "offers": ["quayside/dunlin-70b"] })),
        "/upstreams" if method_is_post => {
            request.json(&json!({ "name": "quayside", "settings": { "address": "http://127.0.0.1:9" } }))
        }
        "/upstreams/proof-cost" => request.json(&json!({ "name": "quayside" })),
        "/me/codes/first" => request.json(&json!({ "code": "123456" })),
        "/inventory/refresh" => request.json(&json!({})),
        "/upstreams/quayside/drained" => request.json(&json!({ "drained": false })),
        "/rates/adjustment" => request.json(&json!({
            "offer": "quayside/dunlin-70b", "from": "2026-11-01", "input": "1", "output": "2"
        })),
        "/routes/harbour/preset/trial" => request.json(&json!({ "question": "When?" })),
        "/routes/harbour/explain" => request.json(&json!({ "team": "timetables" })),
        _ => request,
    };
    request.send().await.unwrap().status().as_u16()
}

const RANGE: &str = "from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z";

/// What each may do, in the order owner, operator, lead and viewer of the team, lead of another team.
fn reach(request: &str) -> Vec<(&'static str, String, [u16; 5])> {
    let usage = format!("/usage?{RANGE}&team=timetables");
    let why = format!("/usage/why?{RANGE}&team=timetables");
    let table = [
        ("GET", "/me", [200, 200, 200, 200, 200]),
        ("GET", usage.as_str(), [200, 200, 200, 200, 403]),
        ("GET", why.as_str(), [200, 200, 200, 200, 403]),
        ("GET", request, [200, 200, 200, 200, 404]),
        ("GET", "/requests?team=timetables", [200, 200, 200, 200, 403]),
        ("GET", "/keys?team=timetables", [200, 200, 200, 200, 403]),
        ("POST", "/keys", [200, 200, 200, 403, 403]),
        ("GET", "/upstreams", [200, 200, 403, 403, 403]),
        ("GET", "/inventory", [200, 200, 403, 403, 403]),
        ("POST", "/inventory/refresh", [200, 200, 403, 403, 403]),
        ("POST", "/upstreams/check", [200, 200, 403, 403, 403]),
        ("POST", "/upstreams/quayside/mend", [200, 200, 403, 403, 403]),
        ("POST", "/upstreams/quayside/offers", [200, 200, 403, 403, 403]),
        ("POST", "/upstreams/quayside/credential", [400, 400, 403, 403, 403]),
        ("POST", "/teams", [409, 409, 403, 403, 403]),
        ("GET", "/routes/harbour/code", [200, 200, 200, 200, 404]),
        ("POST", "/routes/harbour/explain", [200, 200, 200, 200, 403]),
        ("PUT", "/upstreams/quayside/drained", [200, 200, 403, 403, 403]),
        ("GET", "/catalogue", [200, 200, 403, 403, 403]),
        ("POST", "/catalogue/difference", [200, 200, 403, 403, 403]),
        ("GET", "/spool", [200, 200, 403, 403, 403]),
        ("POST", "/spool/retry", [200, 200, 403, 403, 403]),
        ("GET", "/ledger/partitions", [200, 200, 403, 403, 403]),
        ("GET", "/ledger/export?from=2026-01-01T00:00:00Z&to=2100-01-01T00:00:00Z", [200, 200, 200, 200, 200]),
        ("GET", "/secret", [200, 403, 403, 403, 403]),
        ("POST", "/secret/rotate", [409, 403, 403, 403, 403]),
        ("GET", "/refusals", [200, 200, 403, 403, 403]),
        ("POST", "/people", [200, 403, 403, 403, 403]),
        ("GET", "/people", [200, 200, 403, 403, 403]),
        ("POST", "/people/nobody", [404, 403, 403, 403, 403]),
        ("POST", "/people/nobody/reset", [404, 403, 403, 403, 403]),
        ("POST", "/people/nobody/sign-out", [404, 403, 403, 403, 403]),
        ("GET", "/teams", [200, 200, 200, 200, 200]),
    ];
    table
        .into_iter()
        .chain(of_oneself_and_the_rest())
        .map(|(method, path, statuses)| (method, path.to_owned(), statuses))
        .collect()
}

/// The same of oneself, the audit, and what needs no example of its own.
fn of_oneself_and_the_rest() -> Vec<(&'static str, &'static str, [u16; 5])> {
    vec![
        ("GET", "/audit", [200, 200, 403, 403, 403]),
        ("GET", "/audit/verify", [200, 200, 403, 403, 403]),
        ("GET", "/audit/export", [200, 403, 403, 403, 403]),
        ("GET", "/events", [200, 200, 403, 403, 403]),
        ("GET", "/webhooks", [200, 200, 403, 403, 403]),
        ("GET", "/webhooks/on-call/deliveries", [404, 404, 403, 403, 403]),
        ("POST", "/webhooks/on-call/try", [404, 404, 403, 403, 403]),
        ("GET", "/requests/under-way", [200, 200, 200, 200, 200]),
        ("GET", "/sign-in-rule", [200, 200, 403, 403, 403]),
        ("POST", "/sign-in-rule", [204, 403, 403, 403, 403]),
        ("POST", "/me/confirm", [409, 409, 409, 409, 409]),
        ("POST", "/me/codes", [409, 409, 409, 409, 409]),
        ("POST", "/me/codes/first", [409, 409, 409, 409, 409]),
        ("DELETE", "/me/codes", [404, 404, 404, 404, 404]),
        ("POST", "/me/password", [400, 400, 400, 400, 400]),
        ("GET", "/tokens", [200, 200, 200, 200, 200]),
        ("POST", "/tokens", [200, 200, 200, 200, 200]),
        ("DELETE", "/tokens/nothing", [404, 404, 404, 404, 404]),
        ("GET", "/now", [200, 200, 200, 200, 200]),
        ("GET", "/service", [200, 200, 200, 200, 200]),
        ("GET", "/routes", [200, 200, 200, 200, 200]),
        ("GET", "/revisions", [200, 200, 403, 403, 403]),
        ("GET", "/routes/harbour/callers", [200, 200, 403, 403, 403]),
        ("POST", "/rates/adjustment", [200, 200, 403, 403, 403]),
        ("POST", "/routes/harbour/preset/trial", [200, 200, 403, 403, 403]),
        ("GET", "/routes/harbour/preset/versions", [200, 200, 403, 403, 403]),
        ("GET", "/revisions/1", [200, 200, 403, 403, 403]),
        ("GET", "/revisions/1/difference", [200, 200, 403, 403, 403]),
        ("GET", "/catalogue/uses?of=/routes/harbour", [200, 200, 403, 403, 403]),
        ("POST", "/catalogue", [409, 409, 403, 403, 403]),
        ("POST", "/routes", [409, 409, 403, 403, 403]),
        ("POST", "/upstreams", [400, 400, 403, 403, 403]),
        ("POST", "/upstreams/proof-cost", [200, 200, 403, 403, 403]),
        ("POST", "/keys/nothing/revoke", [404, 404, 404, 404, 404]),
    ]
}

#[tokio::test]
async fn roles_reach_as_far_as_they_should() {
    let ferry = Ferry::begin().await;
    let answer = ferry.ask(&question("night-sailings", false)).await;
    let request = format!("/requests/{}", header(&answer, "wendor-request-id"));
    ferry.drained().await;
    let operator = ferry.sign_in("duty-desk", "operator", None).await;
    let lead = ferry.sign_in("timetabler", "lead", Some("timetables")).await;
    let viewer = ferry.sign_in("clerk-of-times", "viewer", Some("timetables")).await;
    let stranger = ferry.sign_in("forwarder", "lead", Some("freight-desk")).await;
    for (method, path, statuses) in reach(&request) {
        let path = path.as_str();
        let mut got = Vec::new();
        for token in [&ferry.owner, &operator, &lead, &viewer, &stranger] {
            got.push(status(&ferry, token, method, path).await);
        }
        assert_eq!(got, statuses, "{method} {path}");
        assert_eq!(status(&ferry, "wdt-nobody", method, path).await, 401, "{method} {path} without a token");
        assert_eq!(
            status(&ferry, &ferry.key, method, path).await,
            if path == request { 200 } else { 401 },
            "{method} {path} with an app's key"
        );
    }
    let unnarrowed: Value = ferry
        .http
        .get(ferry.manage(&format!("/usage?{RANGE}")))
        .bearer_auth(&stranger)
        .send()
        .await
        .unwrap()
        .json()
        .await
        .unwrap();
    assert_eq!(unnarrowed["together"]["requests"], 0, "a lead's figures are the own team's, also unasked");
    let other_key = ferry.issue_key("timetables").await;
    assert_eq!(
        status(&ferry, &other_key, "GET", &request).await,
        404,
        "a request is shown to the key that asked it alone"
    );
}

/// Calls that whoever comes may make, and the one that ends the own session.
const OPEN: [&str; 4] = ["POST /sign-in", "POST /session", "DELETE /session", "GET /openapi.json"];

/// Whether an address is one of a path of the document, such as `/keys/{id}/revoke`.
fn is_of(template: &str, address: &str) -> bool {
    let address = address.split('?').next().unwrap();
    let (parts, asked): (Vec<&str>, Vec<&str>) = (template.split('/').collect(), address.split('/').collect());
    parts.len() == asked.len() && parts.iter().zip(&asked).all(|(part, asked)| part.starts_with('{') || part == asked)
}

/// Every call of the document has a line that says who may make it: a new one without a rule fails here.
#[tokio::test]
async fn every_call_has_a_rule() {
    let ferry = Ferry::begin().await;
    let document = ferry.get("/openapi.json").await;
    let rules = reach("/requests/some-id");
    let mut without = Vec::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        let path = path.strip_prefix("/manage/v1").unwrap();
        for method in item.as_object().unwrap().keys().map(|method| method.to_uppercase()) {
            let has_rule = rules.iter().any(|(known, address, _)| *known == method && is_of(path, address));
            if !has_rule && !OPEN.contains(&format!("{method} {path}").as_str()) {
                without.push(format!("{method} {path}"));
            }
        }
    }
    assert!(without.is_empty(), "nobody says who may call {without:#?}");
}

#[tokio::test]
async fn nobody_becomes_owner_by_coming_first() {
    let ferry = Ferry::begin().await;
    for body in [json!({}), json!({ "name": "harbour-master", "password": "" }), json!({ "one_time": "wdt-a-b-c" })] {
        let answer = ferry.http.post(ferry.manage("/sign-in")).json(&body).send().await.unwrap();
        assert!([400, 401].contains(&answer.status().as_u16()), "{body}");
    }
}

#[tokio::test]
async fn a_password_signs_in_and_an_ended_token_does_not() {
    let ferry = Ferry::begin().await;
    let post = |token: String, path: &'static str, body: Value| {
        ferry.http.post(ferry.manage(path)).bearer_auth(token).json(&body).send()
    };
    assert_eq!(post(ferry.owner.clone(), "/me/password", json!({ "password": "short" })).await.unwrap().status(), 400);
    assert_eq!(
        post(ferry.owner.clone(), "/me/password", json!({ "password": "a tide table in winter" }))
            .await
            .unwrap()
            .status(),
        204
    );
    let sign_in = |password: &'static str| {
        post(String::new(), "/sign-in", json!({ "name": "harbour-master", "password": password }))
    };
    assert_eq!(sign_in("a tide table in summer").await.unwrap().status(), 401);
    let session: Value = sign_in("a tide table in winter").await.unwrap().json().await.unwrap();
    let token = session["token"].as_str().unwrap();
    assert_eq!(status(&ferry, token, "GET", "/me").await, 200);
    assert_eq!(status(&ferry, token, "DELETE", &format!("/tokens/{}", session["id"].as_str().unwrap())).await, 204);
    assert_eq!(status(&ferry, token, "GET", "/me").await, 401);
}

#[rstest]
#[case::unknown_field(
    "/usage?from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z&colour=red",
    "query",
    "unknown field `colour`"
)]
#[case::no_range("/usage", "query", "missing field `from`")]
#[case::no_label(
    "/usage?from=2026-01-01T00:00:00Z&to=2026-01-02T00:00:00Z&by=label",
    "by",
    "`label:NAME`, such as `label:feature`"
)]
#[case::backwards("/usage?from=2026-01-02T00:00:00Z&to=2026-01-01T00:00:00Z", "to", "is not after")]
#[case::bad_mark("/requests?after=yesterday", "after", "`next` of a page before")]
#[case::bad_offer("/requests?offer=quarry", "offer", "upstream/model")]
#[tokio::test]
async fn a_bad_query_is_told_with_its_field(#[case] path: &str, #[case] field: &str, #[case] detail: &str) {
    let ferry = Ferry::begin().await;
    let problem = ferry.get(path).await;
    assert_eq!((&problem["status"], &problem["field"]), (&json!(400), &json!(field)), "{problem}");
    assert!(problem["detail"].as_str().unwrap().contains(detail), "{problem}");
}

/// What of `value` is not as `schema` says; the part of JSON Schema that the document uses.
/// One object schema with the members of all `parts`.
fn joined(document: &Value, parts: &[Value]) -> Value {
    let (mut properties, mut required) = (serde_json::Map::new(), Vec::new());
    for part in parts {
        let part = part["$ref"].as_str().map_or(part, |reference| document.pointer(&reference[1..]).unwrap());
        properties.extend(part["properties"].as_object().unwrap().clone());
        required.extend(part["required"].as_array().cloned().unwrap_or_default());
    }
    json!({ "type": "object", "properties": properties, "required": required })
}

fn breaches(document: &Value, schema: &Value, value: &Value, at: &str) -> Vec<String> {
    if let Some(reference) = schema["$ref"].as_str() {
        return breaches(document, document.pointer(&reference[1..]).unwrap(), value, at);
    }
    if let Some(options) = schema["oneOf"].as_array() {
        let fits = options.iter().any(|option| breaches(document, option, value, at).is_empty());
        return if fits { vec![] } else { vec![format!("{at}: {value} is not one of {schema}")] };
    }
    if let Some(parts) = schema["allOf"].as_array() {
        return breaches(document, &joined(document, parts), value, at);
    }
    let kind = match value {
        Value::Null => "null",
        Value::Bool(_) => "boolean",
        Value::Number(_) => "integer",
        Value::String(_) => "string",
        Value::Array(_) => "array",
        Value::Object(_) => "object",
    };
    let allowed: Vec<&str> = match &schema["type"] {
        Value::String(one) => vec![one],
        Value::Array(several) => several.iter().filter_map(Value::as_str).collect(),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::Object(_) => {
            return vec![format!("{at}: no type in {schema}")];
        }
    };
    if !allowed.contains(&kind) {
        return vec![format!("{at}: {value} is no {allowed:?}")];
    }
    let mut problems = Vec::new();
    if let Some(items) = value.as_array() {
        problems.extend(items.iter().flat_map(|item| breaches(document, &schema["items"], item, &format!("{at}[]"))));
    }
    if let (Some(members), Some(known)) = (value.as_object(), schema["properties"].as_object()) {
        let required = schema["required"].as_array().cloned().unwrap_or_default();
        problems.extend(
            required
                .iter()
                .filter(|name| !members.contains_key(name.as_str().unwrap()))
                .map(|name| format!("{at}: {name} is missing")),
        );
        for (name, member) in members {
            match known.get(name) {
                Some(schema) => problems.extend(breaches(document, schema, member, &format!("{at}.{name}"))),
                None => problems.push(format!("{at}.{name} is not described")),
            }
        }
    }
    problems
}

/// Every call that reads: its path in the document, and how it is asked.
fn read_calls(id: &str) -> Vec<(&'static str, String)> {
    vec![
        ("/me", "/me".to_owned()),
        ("/tokens", "/tokens".to_owned()),
        ("/people", "/people".to_owned()),
        ("/keys", "/keys".to_owned()),
        ("/teams", "/teams".to_owned()),
        ("/routes", "/routes".to_owned()),
        ("/upstreams", "/upstreams".to_owned()),
        ("/catalogue", "/catalogue".to_owned()),
        ("/revisions", "/revisions".to_owned()),
        ("/usage", format!("/usage?{RANGE}")),
        ("/usage/why", format!("/usage/why?{RANGE}")),
        ("/requests", "/requests".to_owned()),
        ("/requests/{id}", format!("/requests/{id}")),
        ("/now", "/now".to_owned()),
        ("/service", "/service".to_owned()),
        ("/spool", "/spool".to_owned()),
        ("/secret", "/secret".to_owned()),
        ("/ledger/partitions", "/ledger/partitions".to_owned()),
        ("/refusals", "/refusals".to_owned()),
        ("/inventory", "/inventory".to_owned()),
        ("/audit", "/audit".to_owned()),
        ("/audit/verify", "/audit/verify".to_owned()),
        ("/sign-in-rule", "/sign-in-rule".to_owned()),
        ("/routes/{name}/code", "/routes/night-sailings/code".to_owned()),
        ("/requests/under-way", "/requests/under-way?after=0".to_owned()),
        ("/routes/{name}/callers", "/routes/night-sailings/callers".to_owned()),
        ("/routes/{name}/preset/versions", "/routes/night-sailings/preset/versions".to_owned()),
        ("/revisions/{number}", "/revisions/1".to_owned()),
        ("/revisions/{number}/difference", "/revisions/1/difference".to_owned()),
        ("/catalogue/uses", "/catalogue/uses?of=/teams/timetables".to_owned()),
        ("/events", "/events".to_owned()),
        ("/webhooks", "/webhooks".to_owned()),
        ("/webhooks/{name}/deliveries", "/webhooks/on-call/deliveries".to_owned()),
    ]
}

#[tokio::test]
async fn answers_are_what_the_openapi_document_says() {
    // Nobody listens there: its deliveries fail, and stand on the log.
    let hook =
        "\n[webhooks.on-call]\naddress = \"http://127.0.0.1:9/\"\nsecret = { env = \"WENDOR_WEBHOOK_ON_CALL\" }\n";
    let ferry = Ferry::with(Wishes { more: hook.to_owned(), ..Wishes::default() }).await;
    ferry.post("/webhooks/on-call/try", &json!({})).await;
    ferry.quayside.set_fault(wendor_standins::fault::Fault::Refuse).await.unwrap();
    let answer = ferry.ask(&question("night-sailings", false)).await;
    ferry.ask(&json!({})).await;
    ferry.drained().await;
    let id = header(&answer, "wendor-request-id");
    let document = ferry.get("/openapi.json").await;
    assert_eq!(document["openapi"].as_str().unwrap().split('.').next(), Some("3"));
    let paths = document["paths"].as_object().unwrap();
    let mut checked = BTreeSet::new();
    for (path, asked) in read_calls(&id) {
        let path = format!("/manage/v1{path}");
        let schema = &document["paths"][&path]["get"]["responses"]["200"]["content"]["application/json"]["schema"];
        assert!(schema.is_object(), "{path} has no schema");
        let value = ferry.get(&asked).await;
        assert_eq!(breaches(&document, schema, &value, &path), Vec::<String>::new());
        checked.insert(path);
    }
    let undescribed: Vec<&String> = paths
        .iter()
        .filter(|(path, item)| {
            item.get("get").is_some()
                && !checked.contains(*path)
                && !path.ends_with("/openapi.json")
                && !path.ends_with("/export")
        })
        .map(|(path, _)| path)
        .collect();
    assert!(undescribed.is_empty(), "not looked at: {undescribed:?}");
    let problem = ferry.get("/requests/nothing").await;
    let schema = json!({ "$ref": "#/components/schemas/ProblemDetails" });
    assert_eq!(breaches(&document, &schema, &problem, "problem"), Vec::<String>::new());
}

#[tokio::test]
async fn answers_to_what_is_done_are_what_the_document_says() {
    let ferry = Ferry::begin().await;
    let document = ferry.get("/openapi.json").await;
    for (path, body) in [
        ("/upstreams/check", json!({ "name": "quarry" })),
        ("/upstreams/proof-cost", json!({ "name": "quarry" })),
        ("/inventory/refresh", json!({})),
        ("/teams", json!({ "name": "harbour-ops" })),
        ("/routes", json!({ "name": "deck-plans", "offers": ["quayside/dunlin-70b"] })),
        ("/routes/night-sailings/explain", json!({ "team": "timetables" })),
        ("/routes/night-sailings/preset/trial", json!({ "question": "When?" })),
        (
            "/rates/adjustment",
            json!({ "offer": "quayside/dunlin-70b", "from": "2026-11-01", "input": "1", "output": "2" }),
        ),
    ] {
        let value = ferry.post(path, &body).await;
        let path = format!("/manage/v1{path}");
        let path = path.replace("/night-sailings/", "/{name}/");
        let schema = &document["paths"][&path]["post"]["responses"]["200"]["content"]["application/json"]["schema"];
        assert_eq!(breaches(&document, schema, &value, &path), Vec::<String>::new());
    }
}
