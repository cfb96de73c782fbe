//! From where a call comes, and under which address it was asked: the word of proxies counts where they are trusted
//! ([`wendor_core::caller`]).

use std::sync::Arc;

use actix_web::HttpRequest;
use actix_web::dev::RequestHead;
use actix_web::http::header::{self, HeaderMap, HeaderName, HeaderValue};
use wendor_core::caller::{Caller, Came, caller};

use crate::app::App;
use crate::settings::listening::Listening;
use crate::sharing::Connection;

const FORWARDED_FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const FORWARDED_SCHEME: HeaderName = HeaderName::from_static("x-forwarded-proto");

fn texts<'a>(headers: &'a HeaderMap, name: &HeaderName) -> Vec<&'a str> {
    headers.get_all(name).filter_map(|value| value.to_str().ok()).collect()
}

fn of(request: &HttpRequest, app: &App) -> Option<Caller> {
    let headers = request.headers();
    let (forwarded_for, forwarded) = (texts(headers, &FORWARDED_FOR), texts(headers, &header::FORWARDED));
    let scheme = headers.get(FORWARDED_SCHEME).and_then(|value| value.to_str().ok());
    let peer = request.peer_addr()?.ip();
    let came = Came { peer, forwarded_for: &forwarded_for, forwarded: &forwarded, scheme };
    Some(caller(&came, &app.settings.listening.proxies))
}

/// The address that a call comes from.
#[must_use]
pub fn address_of(request: &HttpRequest, app: &App) -> String {
    of(request, app).map(|caller| caller.address.to_string()).unwrap_or_default()
}

/// Whether the connection of a call is encrypted as far as here.
#[must_use]
pub fn is_encrypted_here(request: &HttpRequest) -> bool {
    request.conn_data::<Arc<Connection>>().is_some_and(|connection| connection.is_encrypted())
}

/// Whether the way of a call was encrypted: to this service, to a proxy that is trusted and says so, or by the address under which people
/// know it.
#[must_use]
pub fn is_encrypted(request: &HttpRequest, app: &App) -> bool {
    let by_proxy = || of(request, app).and_then(|caller| caller.is_encrypted);
    let by_address = || app.settings.listening.url_of_people().is_some_and(|url| url.is_encrypted());
    is_encrypted_here(request) || by_proxy().unwrap_or_else(by_address)
}

/// The host that was asked: in its header, or where the later version of HTTP has it.
#[must_use]
pub fn host_of(head: &RequestHead) -> Option<&str> {
    let in_header = head.headers.get(header::HOST).and_then(|host| host.to_str().ok());
    in_header.or_else(|| head.uri.authority().map(|authority| authority.as_str()))
}

/// Whether that origin is the address under which this service is known, or was asked.
#[must_use]
pub fn is_own(head: &RequestHead, origin: &HeaderValue, listening: &Listening) -> bool {
    let Ok(origin) = origin.to_str() else { return false };
    let known = [&listening.public_url, &listening.manage_url];
    if known.into_iter().flatten().any(|url| url.as_str().eq_ignore_ascii_case(origin)) {
        return true;
    }
    let of_page = origin.split_once("://").map(|(_, host)| host);
    of_page.is_some() && of_page == host_of(head)
}

/// Whether the beginning of a path is written plainly. One that is escaped would get round whoever stands in front and looks at beginnings.
#[must_use]
pub fn is_plain(head: &RequestHead) -> bool {
    let first = head.uri.path().trim_start_matches('/').split('/').next().unwrap_or_default();
    !first.contains('%')
}
