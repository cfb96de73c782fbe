//! `GET /errors` and `GET /errors/{code}`: what each error code means and what to do. Every error that Wendor itself tells an app names
//! its page.

use actix_web::http::header;
use actix_web::{HttpResponse, HttpResponseBuilder, web};
use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;
use sha2::{Digest, Sha256};
use wendor_wire::refusal_code::RefusalCode;

/// One code's page.
pub async fn page(code: web::Path<String>) -> HttpResponse {
    match RefusalCode::parse(&code) {
        Some(code) => {
            let (meaning, remedy) = (code.meaning(), code.remedy());
            let body =
                format!("<h1>{code}</h1><p>{meaning}</p><p>{remedy}</p><p><a href=\"/errors\">All codes</a></p>");
            answer(HttpResponse::Ok(), framed(code.as_str(), &body))
        }
        None => {
            let body = "<h1>No such code</h1><p><a href=\"/errors\">All codes</a></p>";
            answer(HttpResponse::NotFound(), framed("No such code", body))
        }
    }
}

/// All codes with their meanings, each a link to its page.
pub async fn list() -> HttpResponse {
    let line = |code: RefusalCode| format!("<li><a href=\"/errors/{code}\">{code}</a>: {}</li>", code.meaning());
    let lines: String = RefusalCode::ALL.into_iter().map(line).collect();
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
