//! What stands at a path: what is told at once, or the endpoint of a question; and the request that an id leads back to.

use hyper::Response;
use wendor_core::diagnosis::speech::listing_path;
use wendor_core::request_id::RequestId;
use wendor_wire::dialect::Dialect;
use wendor_wire::endpoint::{Endpoint, Hints, Kind, resolve};

use crate::chat::{self, AnswerBody};
use crate::manners::{Manners, shown};
use crate::memory::Shared;

/// The request that an `x-request-id` leads back to. `None` where it is no UUID, which some servers refuse without a word.
pub(crate) fn request_of(id: Option<String>) -> Option<Option<String>> {
    let Some(id) = id else { return Some(None) };
    let request = RequestId::of_uuid(&id).map(|(request, _)| request.to_string());
    is_uuid(&id).then(|| request.or(Some(id)))
}

fn is_uuid(text: &str) -> bool {
    text.len() == 36
        && text.split('-').map(str::len).eq([8, 4, 4, 4, 12])
        && text.bytes().all(|byte| byte == b'-' || byte.is_ascii_hexdigit())
}

pub(crate) enum Found {
    Answered(Response<AnswerBody>),
    Endpoint(Endpoint),
}

/// What stands at a path: what is told at once, or the endpoint of a question.
pub(crate) fn found(shared: &Shared, manners: &Manners, method: &str, path: &str) -> Found {
    let dialect = shared.profile.dialect;
    let models = shared.state().models.clone();
    let nothing = || Found::Answered(chat::error(dialect, 404, "not_found", "There is nothing at this path."));
    let is_local = dialect == Dialect::LocalChat;
    match resolve(method, path, Hints::default()) {
        Ok(endpoint) if matches!(endpoint.kind, Kind::Models) => {
            if path != listing_path(dialect) || manners.no_listing {
                return nothing();
            }
            Found::Answered(chat::json(AnswerBody::whole(manners.listing(&chat::models(&shared.profile, &models)))))
        }
        Ok(endpoint) if is_local && endpoint.kind == Kind::ShowModel => Found::Answered(shown()),
        Ok(endpoint) if is_local && endpoint.kind == Kind::Loaded => Found::Answered(manners.running(&models)),
        Ok(endpoint) if is_local && endpoint.kind == Kind::Version => Found::Answered(manners.told_version()),
        Ok(endpoint) if endpoint.dialect == dialect => Found::Endpoint(endpoint),
        // Whoever only looks at an endpoint is told that it is there, but not so.
        Err(_) if method == "GET" && !manners.hides_endpoints && is_endpoint(dialect, path) => {
            Found::Answered(chat::error(dialect, 405, "method_not_allowed", "Ask with POST."))
        }
        Ok(_) | Err(_) => nothing(),
    }
}

fn is_endpoint(dialect: Dialect, path: &str) -> bool {
    resolve("POST", path, Hints::default()).is_ok_and(|endpoint| endpoint.dialect == dialect)
}
