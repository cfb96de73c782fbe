//! Web pages that ask. A browser says of which page a request is, in `Origin`; programs say nothing. Pages of this service may ask, and
//! those that a route lists (`origins`): all others are refused before their body is read, since a form on any site can post here.

use actix_web::HttpResponse;
use actix_web::HttpResponseBuilder;
use actix_web::dev::{RequestHead, ServiceRequest};
use actix_web::http::Method;
use actix_web::http::header::{self, HeaderValue};
use wendor_core::catalog::route::Route;

use super::refused::KEPT_OF_A_NAME;
use crate::app::App;
use crate::caller::is_own;

/// The answers' own headers that a page may read.
const SHOWN: &str = "wendor-request-id, wendor-offer, wendor-revision, wendor-attempts, wendor-notes, sunset, x-request-id, request-id, \
                     retry-after, retry-after-ms, x-should-retry";

/// For how long a browser may keep what a preflight told it, in seconds.
const PREFLIGHT_AGE: &str = "600";

/// Of which page a request is.
#[derive(Clone, Debug)]
pub enum Page {
    /// A program, or a page of this service.
    Own,
    /// A page that some route lists.
    Listed(HeaderValue),
    /// Any other.
    Foreign(Box<str>),
}

impl Page {
    /// What the headers of a request say.
    #[must_use]
    pub fn of(head: &RequestHead, app: &App) -> Self {
        let Some(origin) = head.headers.get(header::ORIGIN) else { return Self::Own };
        if is_own(head, origin, &app.settings.listening) {
            return Self::Own;
        }
        let text = origin.to_str().unwrap_or_default();
        let is_listed = |route: &Route| route.lists(text);
        if app.now_serving().catalogue.routes.values().any(is_listed) {
            Self::Listed(origin.clone())
        } else {
            Self::Foreign(text.chars().take(KEPT_OF_A_NAME).collect())
        }
    }

    /// The origin of a page that may not ask at all.
    #[must_use]
    pub fn foreign(&self) -> Option<&str> {
        match self {
            Self::Own | Self::Listed(_) => None,
            Self::Foreign(origin) => Some(origin),
        }
    }

    /// The origin of a page that may not ask for that route.
    #[must_use]
    pub fn foreign_to(&self, route: &Route) -> Option<&str> {
        match self {
            Self::Own => None,
            Self::Listed(origin) => {
                let origin = origin.to_str().unwrap_or_default();
                (!route.lists(origin)).then_some(origin)
            }
            Self::Foreign(origin) => Some(origin),
        }
    }

    /// Says in an answer that the page may read it.
    pub fn allow(&self, response: &mut HttpResponseBuilder) {
        if let Self::Listed(origin) = self {
            response.insert_header((header::ACCESS_CONTROL_ALLOW_ORIGIN, origin.clone()));
            response.insert_header((header::ACCESS_CONTROL_EXPOSE_HEADERS, SHOWN));
            response.insert_header((header::VARY, "origin"));
        }
    }
}

/// The answer to a browser that asks before a page does. `None` for any other request.
#[must_use]
pub fn preflight(request: &ServiceRequest, app: &App) -> Option<HttpResponse> {
    let headers = request.headers();
    let wanted = headers.get(header::ACCESS_CONTROL_REQUEST_METHOD)?;
    if request.method() != Method::OPTIONS {
        return None;
    }
    let page = Page::of(request.head(), app);
    let Page::Listed(_) = &page else { return None };
    let mut response = HttpResponse::NoContent();
    page.allow(&mut response);
    response.insert_header((header::ACCESS_CONTROL_ALLOW_METHODS, wanted.clone()));
    response.insert_header((header::ACCESS_CONTROL_MAX_AGE, PREFLIGHT_AGE));
    if let Some(names) = headers.get(header::ACCESS_CONTROL_REQUEST_HEADERS) {
        response.insert_header((header::ACCESS_CONTROL_ALLOW_HEADERS, names.clone()));
    }
    Some(response.finish())
}
