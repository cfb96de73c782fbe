//! A stolen session, a stolen token, a stolen password: how far each gets.

use rstest::rstest;
use serde_json::{Value, json};
use wendor_e2e::ferry::{Ferry, Wishes};

const PASSWORD: &str = "a tide table in winter";

/// An installation whose service has a secret.
pub async fn with_secret() -> Ferry {
    let secret = ("WENDOR_SECRET", "a secret of a test, which keeps nothing".to_owned());
    Ferry::with(Wishes { settings: vec![secret], ..Wishes::default() }).await
}

async fn call(ferry: &Ferry, token: &str, method: &str, path: &str, body: Value) -> (u16, Value) {
    let request = ferry.http.request(method.parse().unwrap(), ferry.manage(path)).bearer_auth(token).json(&body);
    let answer = request.send().await.unwrap();
    (answer.status().as_u16(), serde_json::from_str(&answer.text().await.unwrap()).unwrap_or_default())
}

async fn post(ferry: &Ferry, token: &str, path: &str, body: Value) -> (u16, Value) {
    call(ferry, token, "POST", path, body).await
}

/// As if everybody had signed in eleven minutes before.
pub async fn time_passes(ferry: &Ferry) {
    let mut database = ferry.database.connect().await;
    let earlier = "update person_token set confirmed_at = confirmed_at - interval '11 minutes'";
    sqlx::query(earlier).execute(&mut database).await.unwrap();
}

/// As if the codes of the last minutes had not been used.
pub async fn codes_are_fresh(ferry: &Ferry) {
    let mut database = ferry.database.connect().await;
    sqlx::query("update person set codes_step = 0").execute(&mut database).await.unwrap();
}

/// The code that an app shows now.
pub fn code_of(secret: &str) -> String {
    let secret = totp_rs::Secret::Encoded(secret.to_owned()).to_bytes().unwrap();
    totp_rs::TOTP::new(totp_rs::Algorithm::SHA1, 6, 0, 30, secret, None, String::new())
        .unwrap()
        .generate_current()
        .unwrap()
}

#[rstest]
#[case::keys_of_others("/keys", json!({ "team": "timetables", "label": "x" }), 200)]
#[case::people("/people", json!({ "name": "clerk", "role": "owner" }), 200)]
#[case::a_role("/people/nobody", json!({ "role": "owner" }), 404)]
#[case::a_reset("/people/nobody/reset", json!({}), 404)]
#[case::signing_out("/people/nobody/sign-out", json!({}), 404)]
#[case::secrets("/secret/rotate", json!({}), 200)]
#[case::a_credential("/upstreams/quarry/credential", json!({ "value": "another" }), 200)]
#[case::a_token_that_is_not_asked("/tokens", json!({ "label": "x", "unasked": true }), 200)]
#[case::an_app_of_the_thiefs("/me/codes", json!({}), 200)]
#[case::who_has_codes("/sign-in-rule", json!({ "codes_required": ["lead"] }), 204)]
#[tokio::test]
async fn a_session_of_before_touches_nothing_that_is_guarded(
    #[case] path: &str,
    #[case] body: Value,
    #[case] done: u16,
) {
    let ferry = with_secret().await;
    assert_eq!(post(&ferry, &ferry.owner, "/me/password", json!({ "password": PASSWORD })).await.0, 204);
    time_passes(&ferry).await;
    let (status, problem) = post(&ferry, &ferry.owner, path, body.clone()).await;
    assert_eq!((status, &problem["type"]), (403, &json!("urn:wendor:problem:confirm-first")), "{problem}");
    let wrong = post(&ferry, &ferry.owner, "/me/confirm", json!({ "password": "a guess of the thief" })).await;
    assert_eq!(wrong.0, 401);
    assert_eq!(post(&ferry, &ferry.owner, path, body.clone()).await.0, 403, "a wrong password confirms nothing");
    assert_eq!(post(&ferry, &ferry.owner, "/me/confirm", json!({ "password": PASSWORD })).await.0, 204);
    assert_eq!(post(&ferry, &ferry.owner, path, body).await.0, done);
}

#[tokio::test]
async fn a_lead_is_not_asked_for_the_keys_of_their_own_team() {
    let ferry = Ferry::begin().await;
    let lead = ferry.sign_in("timetabler", "lead", Some("timetables")).await;
    time_passes(&ferry).await;
    assert_eq!(post(&ferry, &lead, "/keys", json!({ "team": "timetables", "label": "x" })).await.0, 200);
}

#[tokio::test]
async fn tokens_for_programs_touch_what_is_guarded_only_if_they_were_made_for_it() {
    let ferry = Ferry::begin().await;
    let token = async |unasked: bool| {
        let (_, issued) = post(&ferry, &ferry.owner, "/tokens", json!({ "label": "x", "unasked": unasked })).await;
        issued["token"].as_str().unwrap().to_owned()
    };
    let (asked, unasked) = (token(false).await, token(true).await);
    time_passes(&ferry).await;
    let new = json!({ "team": "timetables", "label": "x" });
    assert_eq!(post(&ferry, &asked, "/keys", new.clone()).await.0, 403);
    assert_eq!(post(&ferry, &unasked, "/keys", new).await.0, 200);
    let output = ferry.wendor(&["key", "issue", "--team", "timetables", "--label", "x"]).await;
    assert_eq!(output.status, 3);
    assert!(output.err.contains("sign in again as yourself") && output.err.contains("`unasked`"), "{}", output.err);
}

/// A password alone does not get in where its person has an authenticator app.
#[tokio::test]
async fn a_stolen_password_does_not_get_past_codes() {
    let ferry = with_secret().await;
    assert_eq!(post(&ferry, &ferry.owner, "/me/password", json!({ "password": PASSWORD })).await.0, 204);
    let (_, setup) = post(&ferry, &ferry.owner, "/me/codes", json!({})).await;
    let secret = setup["secret"].as_str().unwrap();
    assert!(setup["address"].as_str().unwrap().contains(secret));
    let with = |code: Option<String>| {
        let body = json!({ "name": "harbour-master", "password": PASSWORD, "code": code });
        post(&ferry, "", "/sign-in", body)
    };
    assert_eq!(with(None).await.0, 200, "not yet: the app may not be set up");
    assert_eq!(post(&ferry, &ferry.owner, "/me/codes/first", json!({ "code": "000000" })).await.0, 400);
    // The very same code each time: the next one may have come meanwhile.
    let code = code_of(secret);
    let (status, recovery) = post(&ferry, &ferry.owner, "/me/codes/first", json!({ "code": code })).await;
    assert_eq!(status, 200, "{recovery}");
    let recovery = recovery["codes"][0].as_str().unwrap().to_owned();
    let (status, problem) = with(None).await;
    assert_eq!((status, &problem["type"]), (401, &json!("urn:wendor:problem:code-needed")));
    assert_eq!(with(Some("000000".to_owned())).await.0, 401);
    assert_eq!(with(Some(code)).await.0, 401, "the code of the set-up was taken already");
    codes_are_fresh(&ferry).await;
    let code = code_of(secret);
    assert_eq!(with(Some(code.clone())).await.0, 200);
    assert_eq!(with(Some(code)).await.0, 401, "none works twice");
    assert_eq!(with(Some(recovery.to_uppercase())).await.0, 200);
    assert_eq!(with(Some(recovery)).await.0, 401, "nor does a recovery code");
    let me = ferry.get("/me").await;
    assert_eq!((me["recovery_codes"].as_i64(), me["codes_since"].is_string()), (Some(9), true));
    assert_eq!(post(&ferry, &ferry.owner, "/me/codes", json!({})).await.0, 409, "one at a time");
    // Whoever has lost both is let in by an owner, without codes.
    assert_eq!(call(&ferry, &ferry.owner, "DELETE", "/me/codes", json!({})).await.0, 204);
    assert_eq!(with(None).await.0, 200);
}

#[tokio::test]
async fn whoever_has_to_have_codes_does_nothing_before_they_are_set_up() {
    let ferry = with_secret().await;
    let operator = ferry.sign_in("duty-desk", "operator", None).await;
    let rule = |roles: Value| post(&ferry, &ferry.owner, "/sign-in-rule", json!({ "codes_required": roles }));
    let (status, problem) = rule(json!(["owner"])).await;
    assert_eq!(status, 409, "nobody shuts themselves out: {problem}");
    assert_eq!(rule(json!(["captain"])).await.0, 400);
    assert_eq!(rule(json!(["operator"])).await.0, 204);
    let (status, problem) = call(&ferry, &operator, "GET", "/upstreams", json!({})).await;
    assert_eq!((status, &problem["type"]), (403, &json!("urn:wendor:problem:codes-first")));
    let (_, me) = call(&ferry, &operator, "GET", "/me", json!({})).await;
    assert_eq!(me["lacks_codes"], true);
    let (_, setup) = post(&ferry, &operator, "/me/codes", json!({})).await;
    let code = code_of(setup["secret"].as_str().unwrap());
    assert_eq!(post(&ferry, &operator, "/me/codes/first", json!({ "code": code })).await.0, 200);
    assert_eq!(call(&ferry, &operator, "GET", "/upstreams", json!({})).await.0, 200);
    let printed = ferry.wendor(&["person", "list"]).await.out;
    assert!(printed.contains("duty-desk"), "{printed}");
    assert_eq!(ferry.wendor(&["person", "require-codes", "--nobody"]).await.status, 0);
}
