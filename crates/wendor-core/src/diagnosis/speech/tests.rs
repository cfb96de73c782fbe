use super::*;
use rstest::rstest;

fn heard(status: u16, content_type: &str, body: &str) -> Heard {
    Heard { status, content_type: content_type.into(), body: body.to_owned().into(), ..Heard::default() }
}

/// A proxy or a sign-in of browsers answers with pages; its status says what is the matter.
#[rstest]
#[case::a_page(200, Evidence::Page)]
#[case::basic_sign_in(401, Evidence::Guarded(vec![]))]
#[case::forbidden(403, Evidence::Guarded(vec![]))]
#[case::limited(429, Evidence::Guarded(vec![]))]
#[case::not_there(404, Evidence::Nothing)]
fn a_status_goes_before_how_a_body_looks(#[case] status: u16, #[case] expected: Evidence) {
    assert_eq!(evidence(&heard(status, "text/html", "<html><h1>Ferries</h1></html>")), expected);
}

fn json(status: u16, body: &str) -> Heard {
    heard(status, "application/json", body)
}

const CHAT: &[Dialect] = &[Dialect::ChatCompletions, Dialect::Responses];
const MESSAGES: &[Dialect] = &[Dialect::Messages];
const GENERATE: &[Dialect] = &[Dialect::GenerateContent];
const LOCAL: &[Dialect] = &[Dialect::LocalChat];
const EITHER: &[Dialect] = &[Dialect::LocalChat, Dialect::GenerateContent];

#[rstest]
#[case::chat(200, r#"{"object":"list","data":[{"id":"dunlin-7b"}]}"#, CHAT)]
#[case::chat_of_nothing(200, r#"{"data":[]}"#, CHAT)]
#[case::chat_with_kinds(200, r#"{"object":"list","data":[{"id":"dunlin-7b","type":"model"}]}"#, CHAT)]
#[case::messages_by_their_kind(200, r#"{"data":[{"id":"dunlin-7b","type":"model"}]}"#, MESSAGES)]
#[case::messages_by_their_pages(200, r#"{"data":[],"has_more":false}"#, MESSAGES)]
#[case::generate(200, r#"{"models":[{"name":"models/dunlin-7b"}]}"#, GENERATE)]
#[case::local_by_digest(200, r#"{"models":[{"name":"dunlin-7b","digest":"ab12"}]}"#, LOCAL)]
#[case::local_by_details(200, r#"{"models":[{"name":"models/dunlin","details":{}}]}"#, LOCAL)]
#[case::not_told(200, r#"{"models":[{"name":"dunlin-7b"}]}"#, EITHER)]
#[case::of_nothing(200, r#"{"models":[]}"#, EITHER)]
#[case::none(200, r#"{"berths":[]}"#, &[])]
#[case::an_error(404, r#"{"data":[]}"#, &[])]
#[case::no_json(200, "data", &[])]
fn listings_tell_their_dialect(#[case] status: u16, #[case] body: &str, #[case] expected: &[Dialect]) {
    assert_eq!(dialects_of_listing(&json(status, body)), expected);
}

#[rstest]
#[case::messages(r#"{"type":"error","error":{"message":"no"}}"#, MESSAGES)]
#[case::messages_without_an_object(r#"{"type":"error","error":"no"}"#, &[])]
#[case::generate(r#"{"error":{"code":401,"status":"UNAUTHENTICATED"}}"#, GENERATE)]
#[case::a_number_alone(r#"{"error":{"code":401}}"#, CHAT)]
#[case::a_status_alone(r#"{"error":{"status":"UNAUTHENTICATED"}}"#, CHAT)]
#[case::chat(r#"{"error":{"message":"no"}}"#, CHAT)]
#[case::of_another_kind(r#"{"type":"refusal","error":{"message":"no"}}"#, CHAT)]
#[case::a_text(r#"{"error":"no"}"#, &[])]
#[case::none(r#"{"detail":"no"}"#, &[])]
#[case::no_json("no", &[])]
fn errors_tell_their_dialect(#[case] body: &str, #[case] expected: &[Dialect]) {
    assert_eq!(dialect_of_error(&json(401, body)), expected);
}

#[rstest]
#[case::some_json(200, "{}", Evidence::Guarded(vec![]))]
#[case::some_text(200, "well", Evidence::Nothing)]
#[case::json_that_is_not_there(404, "{}", Evidence::Nothing)]
#[case::fails(500, "{}", Evidence::Failing)]
#[case::another_method(405, r#"{"error":{"message":"no"}}"#, Evidence::Guarded(CHAT.to_vec()))]
#[case::a_listing(200, r#"{"data":[]}"#, Evidence::Listing(CHAT.to_vec()))]
fn what_an_answer_shows(#[case] status: u16, #[case] body: &str, #[case] expected: Evidence) {
    assert_eq!(evidence(&json(status, body)), expected);
}

/// Answers of a server by the path; 404 at all others.
type Server = &'static [(&'static str, u16, &'static str)];

/// Looks where [`search`] wants to until it knows; with how many looks.
fn walk(address: &str, stated: Option<Dialect>, only_here: bool, server: Server) -> (Option<Found>, Looks) {
    let address = Address::parse(address).unwrap();
    let mut looks = Looks::default();
    loop {
        match search(&address, Wanted { only_here, stated, model: "dunlin-7b" }, &looks) {
            Ok(found) => return (found, looks),
            Err(place) => {
                assert!(looks.count() < 60, "it looks on and on: {}", place.url);
                let path = place.url.strip_prefix("http://quarry.example").unwrap().to_owned();
                let answer = server.iter().find(|(at, ..)| *at == path);
                looks.add(place, Some(answer.map_or_else(|| json(404, "{}"), |(_, status, body)| json(*status, body))));
            }
        }
    }
}

const LISTED: &str = r#"{"object":"list","data":[{"id":"dunlin-7b"}]}"#;
const NO_KEY: &str = r#"{"error":{"message":"no key"}}"#;
const NO_KEY_MESSAGES: &str = r#"{"type":"error","error":{"message":"no key"}}"#;
const NO_KEY_GENERATE: &str = r#"{"error":{"code":401,"status":"UNAUTHENTICATED"}}"#;

#[rstest]
#[case::chat(None, &[("/v1/models", 200, LISTED), ("/v1/chat/completions", 405, "")], "chat-completions at /: Openly", 2)]
#[case::messages_by_the_listing(None, &[("/v1/models", 200, r#"{"data":[],"has_more":false}"#)], "messages at /: Openly", 1)]
#[case::responses_alone(None, &[("/v1/models", 200, LISTED), ("/v1/responses", 405, "")], "responses at /: Openly", 3)]
#[case::stated_goes_first(Some(Dialect::Responses), &[("/v1/models", 200, LISTED), ("/v1/chat/completions", 405, ""), ("/v1/responses", 405, "")], "responses at /: Openly", 2)]
#[case::the_listing_has_to_do(None, &[("/v1/models", 200, LISTED)], "chat-completions at /: Openly", 3)]
#[case::guarded(None, &[("/v1/models", 401, ""), ("/v1/chat/completions", 401, "")], "chat-completions at /: Guarded", 2)]
#[case::guarded_by_its_errors(None, &[("/v1/models", 401, NO_KEY_MESSAGES), ("/v1/messages", 401, NO_KEY_MESSAGES)], "messages at /: Guarded", 2)]
#[case::guarded_by_those_of_another(None, &[("/v1/models", 401, NO_KEY_GENERATE), ("/api/tags", 401, NO_KEY_GENERATE), ("/v1beta/models", 401, NO_KEY_GENERATE)], "generate-content at /: Guarded", 4)]
#[case::without_a_listing(None, &[("/v1/chat/completions", 405, "")], "chat-completions at /: No", 2)]
#[case::without_a_listing_by_its_errors(None, &[("/v1/chat/completions", 400, NO_KEY_MESSAGES), ("/v1/responses", 400, NO_KEY_MESSAGES), ("/v1/messages", 400, NO_KEY_MESSAGES)], "messages at /: No", 4)]
#[case::local(None, &[("/api/tags", 200, r#"{"models":[{"name":"dunlin-7b","digest":"ab"}]}"#)], "local-chat at /: Openly", 5)]
#[case::generate(None, &[("/v1beta/models", 200, r#"{"models":[{"name":"models/dunlin-7b"}]}"#)], "generate-content at /: Openly", 7)]
#[case::local_was_stated(Some(Dialect::LocalChat), &[("/api/tags", 200, r#"{"models":[{"name":"dunlin-7b","digest":"ab"}]}"#)], "local-chat at /: Openly", 1)]
fn an_api_is_found_at_its_address(
    #[case] stated: Option<Dialect>,
    #[case] server: Server,
    #[case] expected: &str,
    #[case] count: usize,
) {
    let (found, looks) = walk("http://quarry.example", stated, true, server);
    let place = found.map(|Found { address, dialect, lists }| format!("{dialect} at {}/: {lists:?}", address.prefix()));
    assert_eq!((place.as_deref(), looks.count()), (Some(expected), count), "{looks:?}");
}

#[rstest]
#[case::below("http://quarry.example", &[("/serve/v1/models", 200, LISTED), ("/serve/v1/chat/completions", 405, "")], Some("/serve"))]
#[case::above("http://quarry.example/serve/deep", &[("/serve/v1/models", 200, LISTED)], Some("/serve"))]
#[case::at_the_root("http://quarry.example/serve", &[("/v1/models", 200, LISTED)], Some(""))]
#[case::below_its_prefix("http://quarry.example/quay", &[("/quay/api/v1/models", 200, LISTED)], Some("/quay/api"))]
#[case::guarded_by_its_errors("http://quarry.example", &[("/llm/v1/models", 401, NO_KEY), ("/llm/v1/chat/completions", 401, NO_KEY)], Some("/llm"))]
#[case::guarded_like_everything("http://quarry.example", &[("/llm/v1/models", 401, ""), ("/llm/v1/chat/completions", 401, "")], None)]
#[case::nowhere("http://quarry.example", &[], None)]
fn elsewhere_it_has_to_show_itself(#[case] address: &str, #[case] server: Server, #[case] expected: Option<&str>) {
    let (found, _) = walk(address, None, false, server);
    assert_eq!(found.as_ref().map(|found| found.address.prefix()), expected, "{found:?}");
    assert_eq!(walk(address, None, true, server).0, None, "only here it is not");
}

#[rstest]
#[case::no_one(None, &[CHAT[0], CHAT[1], MESSAGES[0], LOCAL[0], GENERATE[0]])]
#[case::within_its_group(Some(Dialect::Messages), &[MESSAGES[0], CHAT[0], CHAT[1], LOCAL[0], GENERATE[0]])]
#[case::of_a_later_group(Some(Dialect::GenerateContent), &[GENERATE[0], CHAT[0], CHAT[1], MESSAGES[0], LOCAL[0]])]
fn what_is_stated_is_looked_for_first(#[case] stated: Option<Dialect>, #[case] order: &[Dialect]) {
    assert_eq!(groups(stated).concat(), order);
}

/// What is made of a walk: what came back, and the finding.
fn judged(address: &str, stated: Option<Dialect>, server: Server) -> (String, String) {
    let (found, looks) = walk(address, stated, false, server);
    let judged = judge_path(&Address::parse(address).unwrap(), stated, found.as_ref(), &looks);
    (super::super::sketch::of(&judged), judged.came_back)
}

#[rstest]
#[case::as_stated("http://quarry.example", Some(Dialect::ChatCompletions), &[("/v1/models", 200, LISTED)], "-", "chat-completions is spoken at http://quarry.example and lists its models")]
#[case::nothing_stated("http://quarry.example", None, &[("/v1/models", 401, ""), ("/v1/chat/completions", 401, "")], "-", "and wants a key for its listing")]
#[case::without_a_listing("http://quarry.example", None, &[("/v1/chat/completions", 405, "")], "-", "without a listing of models")]
#[case::another_dialect("http://quarry.example", Some(Dialect::Responses), &[("/v1/models", 200, r#"{"data":[],"has_more":false}"#)], r#"other-dialect failing: {"setting":"dialect","to":"messages"}"#, "messages is spoken")]
#[case::prefix_missing("http://quarry.example", None, &[("/serve/v1/models", 200, LISTED)], r#"prefix-missing failing: {"setting":"address","to":"http://quarry.example/serve"}"#, "at http://quarry.example/serve and")]
#[case::prefix_doubled("http://quarry.example/serve/serve", None, &[("/serve/v1/models", 200, LISTED)], r#"prefix-doubled failing: {"setting":"address","to":"http://quarry.example/serve"}"#, "at http://quarry.example/serve and")]
#[case::nowhere("http://quarry.example", None, &[], "path-unknown failing: owner", "nothing in 35 places")]
#[case::pages("http://quarry.example", None, &[("/v1/models", 200, "<html>")], "web-page failing: owner", "nothing in")]
#[case::fails_there("http://quarry.example", None, &[("/v1/models", 500, "boom")], "server-error failing: owner", "nothing in")]
#[case::fails_elsewhere("http://quarry.example/quay", None, &[("/v1/models", 500, "boom")], "path-unknown failing: owner", "nothing in")]
fn what_is_made_of_where_it_is(
    #[case] address: &str,
    #[case] stated: Option<Dialect>,
    #[case] server: Server,
    #[case] finding: &str,
    #[case] words: &str,
) {
    let (found, came_back) = judged(address, stated, server);
    assert_eq!(found, finding, "{came_back}");
    assert!(came_back.contains(words), "{came_back}");
}

#[test]
fn a_prefix_of_the_same_length_is_another_and_not_an_extra_one() {
    let [one, other] = ["http://quarry.example/api", "http://quarry.example/llm"].map(|at| Address::parse(at).unwrap());
    assert_eq!(elsewhere(&one, &other).kind, FindingKind::PrefixMissing);
}
