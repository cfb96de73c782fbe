//! What stays the same from one request to an upstream to the next, made once a snapshot: where it goes and its headers, the
//! credential among them.

use http::uri::Scheme;
use hyper::header::{self, HeaderMap, HeaderName, HeaderValue};
use hyper::{Method, Request, Uri};
use wendor_core::catalog::upstream::{Address, Auth, Upstream, authorization};
use wendor_core::request_id::RequestId;
use wendor_core::secret::Secret;
use wendor_core::trace::Trace;
use wendor_wire::dialects;
use wendor_wire::percent::escaped;

use super::header_texts::written;
use super::pieces::Pieces;

/// Headers of a request beside those of its upstream and its app: what it accepts, its length and its two ids.
const OF_A_REQUEST: usize = 4;

const REQUEST_ID: HeaderName = HeaderName::from_static("x-request-id");
const TRACE: HeaderName = HeaderName::from_static("traceparent");

/// Where requests to an upstream go, and what they all carry.
#[derive(Clone, Debug)]
pub struct Outlet {
    /// The usual endpoint of the dialect.
    endpoint: Uri,
    /// The base address, for endpoints whose path names the model.
    base: Address,
    /// The credential as a part of the query, where it goes there.
    query: Option<String>,
    headers: HeaderMap,
    is_without_ids: bool,
}

/// Headers of one attempt: the ids under which an upstream finds it in its own logs, and what comes from the app.
#[derive(Clone, Debug)]
pub struct AttemptHeaders {
    /// A UUID: some servers refuse any other text in `x-request-id`.
    pub request: HeaderValue,
    /// `traceparent`.
    pub trace: HeaderValue,
    /// Of the body, in bytes.
    pub length: HeaderValue,
    /// What of the app's own headers goes up.
    pub own: Vec<(HeaderName, HeaderValue)>,
}

impl AttemptHeaders {
    /// Of the attempt `number` of a request, which belongs to that trace where there is one, with a body of so many bytes.
    #[must_use]
    pub fn of(id: &RequestId, number: u8, trace: Option<&Trace>, length: usize) -> Self {
        // Digits and hyphens are always a header.
        let header = |text| HeaderValue::from_maybe_shared(text).unwrap_or(HeaderValue::from_static(""));
        let texts = written([&id.uuid(number), &Trace::header(trace, id, number), &length]);
        let [request, trace, length] = texts.map(header);
        Self { request, trace, length, own: Vec::new() }
    }
}

/// An address, a header or a credential that makes no valid request.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("its address or headers make no valid request")]
pub struct NotARequest;

impl Outlet {
    /// What requests to `upstream` with that credential have in common.
    ///
    /// # Errors
    /// [`NotARequest`] when they would not be valid.
    pub fn prepare(upstream: &Upstream, credential: Option<&Secret>) -> Result<Self, NotARequest> {
        let base = upstream.address.clone();
        let mut headers = HeaderMap::new();
        headers.insert(header::HOST, host_of(&at(&base, "/", None)?)?);
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
        headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("identity"));
        headers.insert(header::USER_AGENT, HeaderValue::from_static(concat!("wendor/", env!("CARGO_PKG_VERSION"))));
        for (name, value) in &upstream.headers {
            let (name, value) = (name_of(name)?, value_of(value)?);
            // The one that it has by its address is what every other is in the place of.
            if name == header::HOST {
                headers.insert(name, value).is_some()
            } else {
                headers.append(name, value)
            };
        }
        let mut query = None;
        if let Some(credential) = credential {
            let secret = |text: &str| {
                value_of(text).map(|mut value| {
                    value.set_sensitive(true);
                    value
                })
            };
            match &upstream.auth {
                Auth::Bearer => {
                    headers.append(header::AUTHORIZATION, secret(&authorization(credential.expose()))?);
                }
                Auth::Header(name) => {
                    headers.append(name_of(name)?, secret(credential.expose())?);
                }
                Auth::Query(name) => {
                    query = Some(format!("{}={}", escaped(name), escaped(credential.expose())));
                }
            }
        }
        let endpoint = at(&base, &dialects::of(upstream.dialect).path("", false), query.as_deref())?;
        Ok(Self { endpoint, base, query, headers, is_without_ids: upstream.is_without_ids })
    }

    /// The same without ids of Wendor's own.
    #[must_use]
    pub fn without_ids(self) -> Self {
        Self { is_without_ids: true, ..self }
    }

    /// One request with `body`, at `path` where it is not the dialect's usual one. `headers` are its own.
    ///
    /// # Errors
    /// [`NotARequest`] when `path` makes no address.
    pub fn request(
        &self,
        body: Pieces,
        path: Option<&str>,
        accept: &'static str,
        headers: &AttemptHeaders,
    ) -> Result<Request<Pieces>, NotARequest> {
        let mut request = Request::new(body);
        *request.method_mut() = Method::POST;
        *request.uri_mut() = match path {
            None => self.endpoint.clone(),
            Some(path) => at(&self.base, path, self.query.as_deref())?,
        };
        // Made as large as it gets, where a clone would be made and grow.
        let mut own = HeaderMap::with_capacity(self.headers.len() + headers.own.len() + OF_A_REQUEST);
        self.headers.iter().for_each(|(name, value)| {
            own.append(name, value.clone());
        });
        own.insert(header::ACCEPT, HeaderValue::from_static(accept));
        own.insert(header::CONTENT_LENGTH, headers.length.clone());
        if !self.is_without_ids {
            own.insert(REQUEST_ID, headers.request.clone());
            own.insert(TRACE, headers.trace.clone());
        }
        for (name, value) in &headers.own {
            // What the operator sets on the upstream comes first.
            own.entry(name).or_insert_with(|| value.clone());
        }
        *request.headers_mut() = own;
        Ok(request)
    }
}

/// The address of `path` with what goes into the query.
fn at(base: &Address, path: &str, query: Option<&str>) -> Result<Uri, NotARequest> {
    let address = base.endpoint(&path_escaped(path));
    let with_query = match query {
        None => address,
        Some(query) if address.contains('?') => format!("{address}&{query}"),
        Some(query) => format!("{address}?{query}"),
    };
    with_query.parse().map_err(|_| NotARequest)
}

/// The host of an address, with its port where that is not the usual one.
fn host_of(address: &Uri) -> Result<HeaderValue, NotARequest> {
    let usual = if address.scheme() == Some(&Scheme::HTTPS) { 443 } else { 80 };
    let host = address.host().ok_or(NotARequest)?;
    match address.port_u16().filter(|port| *port != usual) {
        Some(port) => value_of(&format!("{host}:{port}")),
        None => value_of(host),
    }
}

/// A path in which a model's name stands as people write it: what would end a path or make it invalid as `%XX`.
fn path_escaped(path: &str) -> String {
    let (path, query) = path.split_once('?').map_or((path, ""), |(path, query)| (path, query));
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/:@!$&'()*+,;=".contains(&byte);
    let escape = |byte: u8| if is_plain(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") };
    let path: String = path.bytes().map(escape).collect();
    if query.is_empty() { path } else { format!("{path}?{query}") }
}

fn name_of(name: &str) -> Result<HeaderName, NotARequest> {
    name.parse().map_err(|_| NotARequest)
}

fn value_of(value: &str) -> Result<HeaderValue, NotARequest> {
    value.parse().map_err(|_| NotARequest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sharing::Sharing;
    use rstest::rstest;
    use std::sync::Arc;
    use wendor_core::catalog::upstream::{Address, Hosting};
    use wendor_wire::dialect::Dialect;
    use wendor_wire::members::Spliced;

    fn upstream(auth: Auth) -> Upstream {
        let address = Address::parse("http://quarry.example/models").unwrap();
        let headers = [("x-harbour".to_owned(), "farhythe".to_owned())].into();
        Upstream { auth, headers, ..Upstream::at(address, Dialect::ChatCompletions, Hosting::Hosted) }
    }

    #[rstest]
    #[case::bearer(Auth::Bearer, "/models/v1/chat/completions", Some(("authorization", "Bearer a&b c")))]
    #[case::header(Auth::Header("x-quarry-key".into()), "/models/v1/chat/completions", Some(("x-quarry-key", "a&b c")))]
    #[case::query(Auth::Query("key".into()), "/models/v1/chat/completions?key=a%26b%20c", None)]
    fn the_credential_goes_where_the_operator_says(
        #[case] auth: Auth,
        #[case] path: &str,
        #[case] sent: Option<(&str, &str)>,
    ) {
        let outlet = Outlet::prepare(&upstream(auth), Some(&Secret::new("a&b c"))).unwrap();
        let body = Pieces::new(Spliced::new(), Arc::new(Sharing::of(0).part(None)));
        let own = vec![(HeaderName::from_static("x-harbour"), HeaderValue::from_static("elsewhere"))];
        let (id, trace) = (HeaderValue::from_static("an-id"), HeaderValue::from_static("a-trace"));
        let headers = AttemptHeaders { request: id, trace, length: HeaderValue::from_static("0"), own };
        let request = outlet.request(body, None, "application/json", &headers).unwrap();
        assert_eq!(request.uri().path_and_query().unwrap().as_str(), path);
        let header = |name: &str| request.headers().get(name).map(|value| value.to_str().unwrap());
        if let Some((name, value)) = sent {
            assert_eq!(header(name), Some(value));
        }
        assert_eq!(request.headers().contains_key("authorization"), matches!(sent, Some(("authorization", _))));
        assert_eq!((header("x-harbour"), header("accept")), (Some("farhythe"), Some("application/json")));
        assert_eq!((header("x-request-id"), header("traceparent")), (Some("an-id"), Some("a-trace")));
        assert_eq!(header("accept-encoding"), Some("identity"));
        assert!(!format!("{:?}", request.headers()).contains("a&b c"), "a credential is not printed");
    }

    #[rstest]
    #[case::usual("http://quarry.example/models", None, "quarry.example")]
    #[case::usual_port("https://quarry.example:443", None, "quarry.example")]
    #[case::other_port("https://quarry.example:80", None, "quarry.example:80")]
    #[case::number("http://[::1]:8000", None, "[::1]:8000")]
    #[case::by_the_operator("http://10.0.0.7:8000", Some("quarry.example"), "quarry.example")]
    fn the_host_is_told_once(#[case] address: &str, #[case] by_operator: Option<&str>, #[case] host: &str) {
        let address = Address::parse(address).unwrap();
        let headers = by_operator.map(|host| ("host".to_owned(), host.to_owned())).into_iter().collect();
        let upstream = Upstream { headers, ..Upstream::at(address, Dialect::ChatCompletions, Hosting::Hosted) };
        let outlet = Outlet::prepare(&upstream, None).unwrap();
        assert_eq!(outlet.headers.get_all("host").iter().collect::<Vec<_>>(), [host]);
    }

    #[test]
    fn what_makes_no_request_is_said_once() {
        let mut broken = upstream(Auth::Bearer);
        broken.headers.insert("x harbour".to_owned(), "2".to_owned());
        assert_eq!(Outlet::prepare(&broken, None).unwrap_err(), NotARequest);
    }
}
