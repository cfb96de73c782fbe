//! The console: the built pages, embedded in the binary and served under `/console/`.
//!
//! A path of a file gives the file, in the encoding that the browser takes; any other path gives the page itself, whose router
//! shows what belongs there. Files carry a hash in their names and never change; the page is asked for anew each time. Nothing
//! may be loaded from outside the service, which the policy in the page's head enforces.

use actix_web::http::header;
use actix_web::{HttpRequest, HttpResponse, guard, web};
use rust_embed::{EmbeddedFile, RustEmbed};

use crate::caller::is_plain;

/// What the pages may do: everything from this service, nothing from elsewhere, and no script in the text of a page.
const POLICY: &str = "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; base-uri 'none'; \
                      form-action 'self'; frame-ancestors 'none'; object-src 'none'";

/// For a year: the name changes when the content does.
const FOR_EVER: &str = "public, max-age=31536000, immutable";

const NOT_BUILT: &str =
    "The console was not built into this binary. Build it with scripts/console, then Wendor again.\n";

#[derive(RustEmbed)]
#[folder = "$CARGO_MANIFEST_DIR/../../console/dist"]
#[allow_missing = true]
struct Files;

/// Everything under `/console/`, and the way there.
pub fn routes(config: &mut web::ServiceConfig) {
    let plainly = || guard::fn_guard(|context| is_plain(context.head()));
    config
        .route("/", web::get().to(to_console))
        .route("/console", web::get().guard(plainly()).to(to_console))
        .route("/console/{path:.*}", web::get().guard(plainly()).to(file));
}

async fn to_console() -> HttpResponse {
    HttpResponse::Found().insert_header((header::LOCATION, "/console/")).finish()
}

async fn file(request: HttpRequest, path: web::Path<String>) -> HttpResponse {
    if let Some((found, encoding)) = encoded(&request, &path) {
        return answer(found, encoding, &path, FOR_EVER);
    }
    // A file of an older build is gone; its page would not be a script.
    if path.starts_with("assets/") {
        return HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body("There is no such file.\n");
    }
    match encoded(&request, "index.html") {
        Some((page, encoding)) => answer(page, encoding, "index.html", "no-cache"),
        None => HttpResponse::NotFound().content_type("text/plain; charset=utf-8").body(NOT_BUILT),
    }
}

/// The file in the best encoding that the browser takes and the build made.
fn encoded(request: &HttpRequest, path: &str) -> Option<(EmbeddedFile, Option<&'static str>)> {
    let accepts =
        request.headers().get(header::ACCEPT_ENCODING).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let takes = |encoding: &str| accepts.split(',').any(|offered| offered.trim().split(';').next() == Some(encoding));
    let compressed = [("br", "br"), ("gzip", "gz")].into_iter().filter(|(encoding, _)| takes(encoding));
    let mut compressed =
        compressed.filter_map(|(encoding, ending)| Some((Files::get(&format!("{path}.{ending}"))?, Some(encoding))));
    compressed.next().or_else(|| Some((Files::get(path)?, None)))
}

fn answer(file: EmbeddedFile, encoding: Option<&'static str>, path: &str, cache: &'static str) -> HttpResponse {
    let mut response = HttpResponse::Ok();
    response.content_type(content_type(path)).insert_header((header::CACHE_CONTROL, cache));
    response.insert_header((header::VARY, "accept-encoding"));
    response.insert_header((header::CONTENT_SECURITY_POLICY, POLICY));
    response.insert_header((header::X_CONTENT_TYPE_OPTIONS, "nosniff"));
    response.insert_header((header::REFERRER_POLICY, "same-origin"));
    if let Some(encoding) = encoding {
        response.insert_header((header::CONTENT_ENCODING, encoding));
    }
    match file.data {
        std::borrow::Cow::Borrowed(bytes) => response.body(bytes),
        std::borrow::Cow::Owned(bytes) => response.body(bytes),
    }
}

/// The types that a build holds.
fn content_type(path: &str) -> &'static str {
    match path.rsplit_once('.').map_or("", |(_, ending)| ending) {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "svg" => "image/svg+xml",
        "woff2" => "font/woff2",
        _ => "application/octet-stream",
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("index.html", "text/html; charset=utf-8")]
    #[case("assets/index-x1.js", "text/javascript; charset=utf-8")]
    #[case("assets/next.woff2", "font/woff2")]
    #[case("LICENSE", "application/octet-stream")]
    fn types_by_ending(#[case] path: &str, #[case] expected: &str) {
        assert_eq!(content_type(path), expected);
    }
}
