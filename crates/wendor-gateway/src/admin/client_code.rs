//! Ready code for a route, and a file of environment variables.

use actix_web::{HttpRequest, get, web};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::client_code::{self, KEY_VARIABLE, Language, Way};
use wendor_core::name::Name;
use wendor_wire::nearest::nearest;

use super::principal::Principal;
use super::problem::{Problem, ProblemDetails};
use crate::app::App;
use crate::caller::{host_of, is_encrypted};

/// Code in one language.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CodeLine {
    /// `shell`, `python` or `javascript`.
    pub language: String,
    /// `whole` or `streamed`.
    pub way: String,
    /// A file's name for it.
    pub file_name: String,
    /// The code.
    pub text: String,
}

/// Code for a route.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ClientCode {
    /// Named in the code.
    pub route: String,
    /// Where the gateway is, as whoever asks reached it.
    pub url: String,
    /// The variable that must hold the key.
    pub key_variable: String,
    /// One for each way to ask.
    pub code: Vec<CodeLine>,
    /// A file of environment variables: address, route, and the key's, empty.
    pub env_file: String,
}

/// Where whoever asks has reached the gateway. What stands in a header goes into code that people run, so only a plain host is taken.
fn url_of(request: &HttpRequest, app: &App) -> String {
    let listening = &app.settings.listening;
    if let Some(url) = &listening.public_url {
        return url.as_str().to_owned();
    }
    let is_plain = |byte: u8| byte.is_ascii_alphanumeric() || b".:-[]".contains(&byte);
    let asked = host_of(request.head()).filter(|host| !host.is_empty() && host.bytes().all(is_plain));
    // Where people have an address of their own, apps have another.
    match asked.filter(|_| listening.manage_listen.is_none()) {
        Some(host) => format!("{}://{host}", if is_encrypted(request, app) { "https" } else { "http" }),
        None => format!("{}://{}", if listening.certificate.is_some() { "https" } else { "http" }, listening.listen),
    }
}

/// Code that asks a route, in every language, whole and streamed.
#[utoipa::path(tag = "routes", responses(
    (status = 200, body = ClientCode, description = "The code"),
    (status = 404, body = ProblemDetails, description = "No such route")))]
#[get("/routes/{name}/code")]
pub(super) async fn code(
    principal: Principal,
    app: web::Data<App>,
    path: web::Path<String>,
    request: HttpRequest,
) -> Result<web::Json<ClientCode>, Problem> {
    let snapshot = app.now_serving();
    let sees = |route: &Name| match principal.standing.only_team() {
        None => true,
        Some(team) => snapshot.catalogue.teams.get(team).is_some_and(|team| team.access.allows(route.as_str())),
    };
    let visible: Vec<&str> = snapshot.catalogue.routes.keys().filter(|route| sees(route)).map(Name::as_str).collect();
    if !visible.contains(&path.as_str()) {
        let nearest = nearest(&path, visible.iter().copied()).map(str::to_owned);
        return Err(Problem::NoSuch { what: "route", name: path.into_inner(), nearest });
    }
    let url = url_of(&request, &app);
    let line = |language: Language, (way, word): (Way, &str)| CodeLine {
        language: language.as_str().to_owned(),
        way: word.to_owned(),
        file_name: language.file_name().to_owned(),
        text: client_code::code(language, way, &url, &path),
    };
    let ways = [(Way::Whole, "whole"), (Way::Streamed, "streamed")];
    let code = Language::ALL.into_iter().flat_map(|language| ways.map(|way| line(language, way))).collect();
    let env_file = client_code::env_file(&url, &path);
    Ok(web::Json(ClientCode { route: path.into_inner(), url, key_variable: KEY_VARIABLE.to_owned(), code, env_file }))
}
