//! Who calls: a person by their token, or an app by its key. Every handler takes one.

use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::http::header;
use actix_web::{FromRequest, HttpRequest, web};
use wendor_core::catalog::key::{AppKey, KeyKind, KeyText};
use wendor_core::catalog::role::Standing;
use wendor_core::catalog::upstream::Dialect;
use wendor_core::name::Name;

use super::browser;
use super::problem::Problem;
use crate::app::App;
use crate::data_plane::Call;
use crate::data_plane::admit::{Query, key_of, presented_key};

/// A signed-in person.
#[derive(Clone, Debug)]
pub struct Principal {
    /// Their name.
    pub name: String,
    /// What they may do.
    pub standing: Standing,
    /// Id of the token that they came with.
    pub token: String,
}

/// A person, or an app with its key, for what both may ask.
#[derive(Clone, Debug)]
pub enum PersonOrApp {
    /// A person.
    Person(Principal),
    /// An app.
    App(AppKey),
}

impl Principal {
    /// Goes on only if the figures of `team` may be seen.
    ///
    /// # Errors
    /// [`Problem::NotAllowed`].
    pub fn must_see(&self, team: &str) -> Result<(), Problem> {
        self.must(self.standing.can_see(team), &format!("see team {team}"))
    }

    /// Goes on only if `allowed`; `what` is what was asked.
    ///
    /// # Errors
    /// [`Problem::NotAllowed`].
    pub fn must(&self, allowed: bool, what: &str) -> Result<(), Problem> {
        if allowed {
            return Ok(());
        }
        let role = self.standing.role.as_str();
        let team = self.standing.team.as_ref().map_or_else(String::new, |team| format!(" of {team}"));
        // What an operator may not do is an owner's alone.
        let ask = if self.standing.only_team().is_none() { "an owner" } else { "an owner or operator" };
        Err(Problem::NotAllowed(format!("{} is {role}{team} and may not {what}; ask {ask}", self.name)))
    }

    /// The team that a list is narrowed to: the one asked for if it may be seen, the own one of a lead or viewer.
    ///
    /// # Errors
    /// [`Problem::NotAllowed`] when another team was asked for.
    pub fn narrow(&self, asked: Option<Name>) -> Result<Option<Name>, Problem> {
        match asked {
            Some(team) => self.must_see(team.as_str()).map(|()| Some(team)),
            None => Ok(self.standing.only_team().cloned()),
        }
    }
}

/// The token that came with a call: in its header, or in the cookie of the console's session.
fn presented(request: &HttpRequest) -> Result<String, Problem> {
    let Some(cookie) =
        request.cookie(browser::COOKIE).filter(|_| !request.headers().contains_key(header::AUTHORIZATION))
    else {
        return bearer(request);
    };
    if request.method().is_safe() || browser::is_own_page(request) {
        return Ok(cookie.value().to_owned());
    }
    let why = "a call that changes something came with the console's cookie, but not from its pages; send a token";
    Err(Problem::NotAllowed(why.to_owned()))
}

fn bearer(request: &HttpRequest) -> Result<String, Problem> {
    let value = request.headers().get(header::AUTHORIZATION).and_then(|value| value.to_str().ok());
    let token =
        value.and_then(|value| value.split_once(' ')).filter(|(scheme, _)| scheme.eq_ignore_ascii_case("bearer"));
    let missing = || {
        Problem::NotSignedIn(
            "no token came with this call: send `Authorization: Bearer wdt-..` (`wendor sign-in` gets one)".to_owned(),
        )
    };
    token.map(|(_, token)| token.trim().to_owned()).ok_or_else(missing)
}

async fn person(request: HttpRequest) -> Result<Principal, Problem> {
    let app = request.app_data::<web::Data<App>>().cloned().ok_or(Problem::Internal)?;
    let text = KeyText::parse(KeyKind::Person, &presented(&request)?).map_err(|_| {
        Problem::NotSignedIn("this is not a person's token: one begins with `wdt-`, and must be whole".to_owned())
    })?;
    let found = app.store.person_of_token(&text, app.clock.now()).await?;
    let ended = || Problem::NotSignedIn(format!("token {} has ended or was never issued; sign in again", text.id));
    let person = found.ok_or_else(ended)?;
    Ok(Principal { name: person.name, standing: person.standing, token: text.id })
}

async fn person_or_app(request: HttpRequest) -> Result<PersonOrApp, Problem> {
    if presented(&request).is_ok_and(|token| token.starts_with("wdt-")) {
        return person(request).await.map(PersonOrApp::Person);
    }
    let app = request.app_data::<web::Data<App>>().cloned().ok_or(Problem::Internal)?;
    let snapshot = app.now_serving();
    let key = key_of(
        &snapshot,
        presented_key(request.headers(), Query::of(&app, request.query_string())),
        &Call::begin(&app, Dialect::ChatCompletions, request.headers()),
    );
    key.map(|key| PersonOrApp::App(key.as_ref().clone()))
        .map_err(|_| Problem::NotSignedIn("neither a token nor a key in force came with this call".to_owned()))
}

type Extraction<T> = Pin<Box<dyn Future<Output = Result<T, Problem>>>>;

impl FromRequest for Principal {
    type Error = Problem;
    type Future = Extraction<Self>;

    fn from_request(request: &HttpRequest, _payload: &mut Payload) -> Self::Future {
        Box::pin(person(request.clone()))
    }
}

impl FromRequest for PersonOrApp {
    type Error = Problem;
    type Future = Extraction<Self>;

    fn from_request(request: &HttpRequest, _payload: &mut Payload) -> Self::Future {
        Box::pin(person_or_app(request.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;
    use wendor_core::catalog::role::Role;

    fn name(text: &str) -> Name {
        Name::parse(text).unwrap()
    }

    fn principal(role: Role) -> Principal {
        let team = role.needs_team().then(|| name("timetables"));
        Principal { name: "clerk".to_owned(), standing: Standing { role, team }, token: "t1".to_owned() }
    }

    #[rstest]
    #[case::owner_sees_all(Role::Owner, None, Some(None))]
    #[case::owner_may_narrow(Role::Owner, Some("freight-desk"), Some(Some("freight-desk")))]
    #[case::lead_sees_the_own_team_unasked(Role::Lead, None, Some(Some("timetables")))]
    #[case::lead_may_ask_for_it(Role::Lead, Some("timetables"), Some(Some("timetables")))]
    #[case::lead_may_not_ask_for_another(Role::Lead, Some("freight-desk"), None)]
    #[case::viewer_may_not_either(Role::Viewer, Some("freight-desk"), None)]
    fn lists_are_narrowed_to_what_may_be_seen(
        #[case] role: Role,
        #[case] asked: Option<&str>,
        #[case] team: Option<Option<&str>>,
    ) {
        let narrowed = principal(role).narrow(asked.map(name)).ok();
        assert_eq!(narrowed, team.map(|team| team.map(name)));
    }

    #[test]
    fn a_refusal_names_who_what_and_whom_to_ask() {
        let refusal = principal(Role::Viewer).must(false, "issue keys of team timetables").unwrap_err().to_string();
        assert_eq!(
            refusal,
            "clerk is viewer of timetables and may not issue keys of team timetables; ask an owner or operator"
        );
    }
}
