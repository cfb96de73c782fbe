//! The OpenAPI document: made from the handlers, which tell what is theirs, with what any call may be answered beside.

use actix_web::App as WebApp;
use utoipa::OpenApi;
use utoipa::openapi::path::{Operation, Parameter};
use utoipa::openapi::{ContentBuilder, Ref, RefOr, Response, ResponseBuilder};
use utoipa_actix_web::AppExt;

use super::routes;

/// The type of problem details (RFC 9457).
const PROBLEM: &str = "application/problem+json";

/// What any call may be answered.
const ANY: [(&str, &str); 3] = [
    ("400", "A value of the call is invalid; `field` names it"),
    ("500", "An internal error; the log of the service says what"),
    ("503", "The database is unreachable"),
];

/// What a call that takes a token may be answered beside.
const SIGNED_IN: [(&str, &str); 2] = [
    ("401", "No token, or one that is not valid"),
    ("403", "The role does not allow it, or something is required first: sign in again, set up an authenticator app"),
];

/// What a call that changes the catalogue may be answered beside.
const REVISED: [(&str, &str); 2] = [
    ("409", "It conflicts with what exists, or another revision is in force"),
    ("422", "The catalogue would be invalid; `problems` says where"),
];

/// What a call to something by its name may be answered beside.
const NAMED: (&str, &str) = ("404", "Not found");

#[derive(OpenApi)]
#[openapi(
    info(title = "Wendor management API", description = "Upstreams, routes, teams, keys, figures and requests of a Wendor installation."),
    modifiers(&BearerToken)
)]
struct About;

/// Every call but signing in takes a person's token.
struct BearerToken;

impl utoipa::Modify for BearerToken {
    fn modify(&self, openapi: &mut utoipa::openapi::OpenApi) {
        use utoipa::openapi::security::{Http, HttpAuthScheme, SecurityRequirement, SecurityScheme};
        let components = openapi.components.get_or_insert_with(Default::default);
        components.add_security_scheme("token", SecurityScheme::Http(Http::new(HttpAuthScheme::Bearer)));
        openapi.security = Some(vec![SecurityRequirement::new("token", Vec::<String>::new())]);
    }
}

/// The OpenAPI document, made once.
#[derive(Debug)]
pub struct Document(String);

impl Document {
    /// Makes it from the handlers.
    ///
    /// # Panics
    /// Never: the document has a JSON form.
    #[must_use]
    pub fn make() -> Self {
        let (_, mut document) =
            WebApp::new().into_utoipa_app().openapi(About::openapi()).configure(routes).split_for_parts();
        for (path, item) in &mut document.paths.paths {
            // Handlers of different things have the same names; an operation's must be its own.
            let name = path.trim_start_matches("/manage/v1/").replace(['/', '{', '}', '.'], "-");
            let changing = [("post", &mut item.post), ("put", &mut item.put), ("delete", &mut item.delete)];
            let methods = std::iter::once(("get", &mut item.get)).chain(changing);
            for (method, operation) in methods.filter_map(|(method, found)| Some((method, found.as_mut()?))) {
                operation.operation_id = Some(format!("{method}-{}", name.replace("--", "-").trim_end_matches('-')));
                tell_problems(operation, method, path.contains('{'));
            }
        }
        Self(document.to_pretty_json().expect("the document has a JSON form"))
    }

    /// The document as JSON.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Whether a call goes by what the catalogue names: the team, route, offer, key that a query or a body asks for.
fn asks_by_name(operation: &Operation) -> bool {
    const NAMES: [&str; 4] = ["team", "route", "offer", "upstream"];
    let is_name = |parameter: &RefOr<Parameter>| match parameter {
        RefOr::T(parameter) => NAMES.contains(&parameter.name.as_str()),
        RefOr::Ref(_) => false,
    };
    operation.parameters.iter().flatten().any(is_name)
}

/// Whether a call changes the catalogue, by the way that all changes take.
fn revises(operation: &Operation, method: &str) -> bool {
    const CHANGED: [&str; 3] = ["upstreams", "routes", "teams"];
    matches!(method, "post" | "put") && operation.tags.iter().flatten().any(|tag| CHANGED.contains(&tag.as_str()))
}

/// Tells what the handler does not: the answers that come from what stands before it, and the type of all problems.
fn tell_problems(operation: &mut Operation, method: &str, is_named: bool) {
    let is_open = operation.security.as_ref().is_some_and(|needed| !needed.is_empty());
    let signed_in = if is_open { &[][..] } else { &SIGNED_IN[..] };
    let named = if is_named || asks_by_name(operation) { &[NAMED][..] } else { &[][..] };
    let revised = if revises(operation, method) { &REVISED[..] } else { &[][..] };
    let responses = &mut operation.responses.responses;
    for (status, description) in ANY.iter().chain(signed_in).chain(named).chain(revised) {
        responses.entry((*status).to_owned()).or_insert_with(|| RefOr::T(problem(description)));
    }
    for (status, response) in responses {
        let RefOr::T(response) = response else { continue };
        if status.starts_with(['4', '5']) {
            *response = problem(&response.description);
        }
    }
}

fn problem(description: &str) -> Response {
    let schema = ContentBuilder::new().schema(Some(Ref::from_schema_name("ProblemDetails"))).build();
    ResponseBuilder::new().description(description).content(PROBLEM, schema).build()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The console's types are generated from the copy in its folder. With `WENDOR_WRITE_OPENAPI` set, the copy is made anew.
    #[test]
    fn the_consoles_copy_of_the_document_is_current() {
        let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../console/openapi.json");
        let document = Document::make();
        if std::env::var_os("WENDOR_WRITE_OPENAPI").is_some() {
            std::fs::write(path, document.as_str()).unwrap();
        }
        let copy = std::fs::read_to_string(path).unwrap_or_default();
        assert!(copy == document.as_str(), "console/openapi.json is old: run scripts/console types");
    }
}
