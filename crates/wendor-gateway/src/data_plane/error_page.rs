//! `GET /errors` and `GET /errors/{code}`: what each error code means and what to do. Every error that Wendor itself tells an app names
//! its page.

use actix_web::http::header;
use actix_web::{HttpResponse, HttpResponseBuilder, web};
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use sha2::{Digest, Sha256};

/// A code, what it means, and what to do.
type Explained = (&'static str, &'static str, &'static str);

/// Every code of the data plane.
pub const CODES: &[Explained] = &[
    (
        "foreign_page",
        "A web page asks from a browser, of a site that the route does not list.",
        "Ask from a program, or have the site listed in the route's `origins`. A key in a page can be read by everyone who opens it.",
    ),
    ("no_key", "The request came without a key.", "Send the key as `Authorization: Bearer wdr-..`."),
    (
        "two_keys",
        "Two different keys came with the request.",
        "Send one; look for a default header of the client library.",
    ),
    (
        "key_in_query",
        "The key came in the query, which this service does not take, since addresses stand in logs.",
        "Send the key as `Authorization: Bearer wdr-..`.",
    ),
    (
        "not_a_key",
        "What came as a key has another form than keys of this service.",
        "Copy the whole key, from `wdr-` on.",
    ),
    ("mistyped_key", "The key is mistyped or cut: its last part does not fit the rest.", "Copy it again in full."),
    ("unknown_key", "Nobody issued this key here.", "Check that it belongs to this installation."),
    ("revoked_key", "The key was revoked.", "Ask your team's lead for another."),
    ("expired_key", "The key has expired.", "Ask your team's lead for another."),
    (
        "team_gone",
        "The team that the key belongs to is not in the catalogue any more.",
        "Ask whoever runs this service.",
    ),
    (
        "bad_header",
        "One of the headers `wendor-run`, `wendor-step`, `wendor-labels` cannot be read.",
        "The message says which, and how it has to look.",
    ),
    (
        "body_too_large",
        "The body is larger than this service takes.",
        "Send less, for instance smaller images, or ask for a higher limit.",
    ),
    (
        "body_broken",
        "The body broke off before its end.",
        "Send the request again; if it goes on, look at proxies in between.",
    ),
    ("body_too_slow", "The body did not come to its end in time, or came in drops.", "Send the request again."),
    (
        "streams_full",
        "As many requests of your team, or of this key, are under way as may be at once.",
        "Come back when one has ended; the message says the limit.",
    ),
    (
        "too_many_connections",
        "Your team has so many connections that others would find none.",
        "Use those that are open, or close some.",
    ),
    ("too_many_bodies", "Too many large requests are under way at the moment.", "Come back in a second."),
    ("invalid_json", "The body is not one JSON object.", "The message names line and column."),
    (
        "nested_too_deep",
        "The body nests too many lists and objects.",
        "Flatten it; schemas of tools need a few dozen levels.",
    ),
    ("missing_member", "A member that has to be there is missing.", "The message names it."),
    (
        "repeated_member",
        "A member stands in the body twice, so that two readers could read two different ones.",
        "Send it once.",
    ),
    ("invalid_type", "A member has another type than the dialect says.", "The message names it and what it has to be."),
    (
        "invalid_value",
        "A member has a value that the dialect does not have.",
        "The message names it and what it has to be.",
    ),
    (
        "address_not_allowed",
        "The request names something by address that the model's server may not be told to fetch.",
        "Send its bytes, or an https: address of a public host; what an offer takes is said in the catalogue (`addresses`).",
    ),
    (
        "image_not_fetched",
        "An image that is named by address could not be fetched.",
        "The message says which and why; send its bytes, or mend the address.",
    ),
    (
        "image_kind",
        "An image is of a kind that the offer does not take, or its bytes are of another kind than is said.",
        "Convert the image, or say what it is.",
    ),
    (
        "secret_in_body",
        "The body holds a live key or token of this installation, or the credential of a model's server. Nothing was sent.",
        "Take it out of what is asked. If somebody else may have seen it, have it revoked.",
    ),
    (
        "route_not_found",
        "No route of that name may be used with this key.",
        "Put a name into `model` that the message or `GET /v1/models` lists, or ask for access.",
    ),
    (
        "path_not_found",
        "There is nothing at this path.",
        "The message names the nearest path that there is. The base address ends before `/v1`, or with it: both do.",
    ),
    ("wrong_method", "The path is there, but is asked with another method.", "The message names the right one."),
    (
        "unsupported_parameter",
        "No offer of the route can take a field of the request.",
        "The message names field and offer. Leave the field out, or use a route whose offers can.",
    ),
    (
        "ability_missing",
        "No offer of the route can do what the request needs, such as tools or images.",
        "Use another route; the message says which ability is missing where.",
    ),
    (
        "endpoint_not_offered",
        "This endpoint goes only to offers that speak the app's dialect, and the route has none.",
        "Use a route that has, or another endpoint.",
    ),
    (
        "context_length_exceeded",
        "Prompt and answer do not fit the context window of any offer of the route.",
        "Send fewer or shorter turns, or ask for fewer tokens.",
    ),
    (
        "over_quota",
        "A quota of the team has no room.",
        "The message says which, how much is used, and when there is room again.",
    ),
    (
        "no_spool",
        "The service cannot record the request at the moment, so it does not serve it.",
        "Come back in a moment; whoever runs the service looks at the disk of its spool.",
    ),
    (
        "all_offers_failed",
        "No offer of the route answered.",
        "The message says what each failed of. Trying again at once seldom helps; whoever is on call sees the same under Upstreams.",
    ),
    (
        "internal_fault",
        "Wendor itself failed on the request.",
        "Nothing is wrong with the key. Whoever runs the service finds the place of the fault in its log, by the time of the request, and reports it.",
    ),
    (
        "answer_not_taken",
        "What had come of the answer was not taken in time.",
        "Read the stream as it comes: what an app does not take is given up after the service's `take_time`, or with the time of the whole request.",
    ),
    (
        "stopped",
        "The service stops, and the time for what is under way is over.",
        "Ask again in a moment: another instance, or the one that takes its place, answers.",
    ),
    (
        "out_of_date",
        "The service could not ask its database for changes for too long.",
        "Ask again later. Whoever runs the service brings the database back; `/readyz` tells how old its state is.",
    ),
    ("answer_broke_off", "The answer had begun and broke off.", "What came before is not whole. Ask again."),
];

/// One code's page.
pub async fn page(code: web::Path<String>) -> HttpResponse {
    let found = CODES.iter().find(|(known, ..)| *known == code.as_str());
    match found {
        Some((code, what, remedy)) => {
            let body = format!("<h1>{code}</h1><p>{what}</p><p>{remedy}</p><p><a href=\"/errors\">All codes</a></p>");
            answer(HttpResponse::Ok(), framed(code, &body))
        }
        None => {
            let body = "<h1>No such code</h1><p><a href=\"/errors\">All codes</a></p>";
            answer(HttpResponse::NotFound(), framed("No such code", body))
        }
    }
}

/// The list of all.
pub async fn list() -> HttpResponse {
    let line = |(code, what, _): &Explained| format!("<li><a href=\"/errors/{code}\">{code}</a>: {what}</li>");
    let lines: String = CODES.iter().map(line).collect();
    let body = format!("<h1>Error codes</h1><ul>{lines}</ul>");
    answer(HttpResponse::Ok(), framed("Error codes", &body))
}

/// What the pages look like.
const STYLE: &str = "body{font:16px/1.5 system-ui,sans-serif;max-width:42rem;margin:3rem auto;padding:0 1rem}";

/// A page of which nothing runs, and only its own look counts.
fn answer(mut response: HttpResponseBuilder, page: String) -> HttpResponse {
    let policy = format!("default-src 'none'; style-src 'sha256-{}'; sandbox", BASE64.encode(Sha256::digest(STYLE)));
    response.insert_header((header::CONTENT_SECURITY_POLICY, policy));
    response.content_type("text/html; charset=utf-8").body(page)
}

/// A page that needs nothing but itself, light and dark as the reader's system is.
fn framed(title: &str, body: &str) -> String {
    format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title} · Wendor</title>\
         <meta name=\"color-scheme\" content=\"light dark\"><meta name=\"viewport\" content=\"width=device-width\">\
         <style>{STYLE}</style>\
         </head><body>{body}</body></html>"
    )
}
