//! The cookie of the console's session, and whether a call with it comes from one of the console's pages.

use actix_web::HttpRequest;
use actix_web::cookie::{Cookie, SameSite};
use actix_web::http::header;

use crate::app::App;
use crate::caller::{is_encrypted, is_own};
use crate::settings::listening::Listening;

/// The cookie's name where the way is encrypted, which browsers then hold to this very host, and where it is not.
pub(super) const COOKIES: [&str; 2] = ["__Host-wendor_session", "wendor_session"];

/// The cookie that carries `value`.
pub(super) fn cookie_of(request: &HttpRequest, app: &App, value: String) -> Cookie<'static> {
    let is_encrypted = is_encrypted(request, app);
    let [guarded, plain] = COOKIES;
    let (name, path) = if is_encrypted { (guarded, "/") } else { (plain, "/manage/") };
    Cookie::build(name, value).path(path).http_only(true).same_site(SameSite::Strict).secure(is_encrypted).finish()
}

/// Whether a page of this very service made the call: browsers say so themselves, or else name the page's origin, whose host is
/// then the one that was asked.
pub(super) fn is_own_page(request: &HttpRequest, listening: &Listening) -> bool {
    let text = |name: &str| request.headers().get(name).and_then(|value| value.to_str().ok());
    match (text("sec-fetch-site"), request.headers().get(header::ORIGIN)) {
        (Some(site), _) => site == "same-origin",
        (None, Some(origin)) => is_own(request.head(), origin, listening),
        (None, None) => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::test::TestRequest;
    use rstest::rstest;

    #[rstest]
    #[case::own_page(&[("sec-fetch-site", "same-origin")], true)]
    #[case::other_port_of_the_host(&[("sec-fetch-site", "same-site"), ("origin", "http://127.0.0.1:7420")], false)]
    #[case::other_site(&[("sec-fetch-site", "cross-site")], false)]
    #[case::own_origin(&[("origin", "http://127.0.0.1:7420"), ("host", "127.0.0.1:7420")], true)]
    #[case::other_origin(&[("origin", "http://127.0.0.1:9999"), ("host", "127.0.0.1:7420")], false)]
    #[case::nothing_said(&[("host", "127.0.0.1:7420")], false)]
    fn only_an_own_page_changes_something(#[case] headers: &[(&str, &str)], #[case] is_own: bool) {
        let request = headers.iter().fold(TestRequest::post(), |request, header| request.insert_header(*header));
        let listening = Listening::at(([127, 0, 0, 1], 7420).into());
        assert_eq!(is_own_page(&request.to_http_request(), &listening), is_own);
    }
}
