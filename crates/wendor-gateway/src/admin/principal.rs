//! Who calls: a person by their token, or an app by its key. Every handler takes one.

use std::future::Future;
use std::pin::Pin;

use actix_web::dev::Payload;
use actix_web::http::header;
use actix_web::{FromRequest, HttpRequest, web};
use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::audit::Doer;
use wendor_core::catalog::key::{AppKey, KeyKind, KeyText};
use wendor_core::catalog::role::Standing;
use wendor_core::name::Name;
use wendor_store::people::Bearer;
use wendor_wire::dialect::Dialect;

use super::cookie::{COOKIES, is_own_page};
use super::problem::Problem;
use crate::app::App;
use crate::caller::address_of;
use crate::caller::is_encrypted_here;
use crate::data_plane::call::Call;
use crate::data_plane::presented::{Query, key_of, key_text};

/// How long somebody who has signed in as themselves need not do it again.
const CONFIRMED: TimeDelta = TimeDelta::minutes(10);

/// A signed-in person.
#[derive(Clone, Debug)]
pub struct Principal {
    /// As in the audit.
    pub name: String,
    /// What they may do.
    pub standing: Standing,
    /// Id of the token that they came with.
    pub token: String,
    /// The address that the call came from.
    pub address: String,
    /// Whether the token came in the cookie of the console.
    pub is_console: bool,
    /// When they last signed in as themselves with it.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// Whether it is a token of programs that may do what people have to sign in again for.
    pub is_unasked: bool,
}

/// A signed-in person who may have to set up an authenticator app yet: for the few calls that lead there.
#[derive(Clone, Debug)]
pub struct Arriving {
    /// The person.
    pub principal: Principal,
    /// All that is known of who came.
    pub bearer: Bearer,
}

/// A person, or an app with its key, for what both may ask.
#[derive(Clone, Debug)]
pub enum PersonOrApp {
    /// Signed in, by session or token.
    Person(Principal),
    /// Shows a key of a team.
    App(AppKey),
}

impl Principal {
    /// Who they are to the audit, now.
    #[must_use]
    pub fn doing(&self, app: &App) -> Doer {
        let by = if self.is_console { "console" } else { "token" };
        let through = format!("{by} {}", self.token);
        Doer { name: self.name.clone(), address: self.address.clone(), through, at: app.clock.now() }
    }

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

    /// Goes on only if they signed in as themselves a short while ago, since what follows can be turned against everybody: `what` says it.
    ///
    /// # Errors
    /// [`Problem::ConfirmFirst`].
    pub fn must_be_confirmed(&self, app: &App, what: &str) -> Result<(), Problem> {
        let now = app.clock.now();
        if self.is_unasked || self.confirmed_at.is_some_and(|at| now - at < CONFIRMED) {
            return Ok(());
        }
        Err(Problem::ConfirmFirst(format!(
            "to {what}, sign in again as yourself: it is asked for when that was more than {} minutes ago; programs need a \
             token that was issued as `unasked`",
            CONFIRMED.num_minutes()
        )))
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

struct Presented {
    token: String,
    is_console: bool,
}

/// The token that came with a call: in its header, or in the cookie of the console's session.
fn presented(request: &HttpRequest, app: &App) -> Result<Presented, Problem> {
    let Some(cookie) = COOKIES
        .into_iter()
        .find_map(|name| request.cookie(name))
        .filter(|_| !request.headers().contains_key(header::AUTHORIZATION))
    else {
        return bearer(request).map(|token| Presented { token, is_console: false });
    };
    if request.method().is_safe() || is_own_page(request, &app.settings.listening) {
        return Ok(Presented { token: cookie.value().to_owned(), is_console: true });
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

async fn arriving(request: HttpRequest) -> Result<Arriving, Problem> {
    let app = request.app_data::<web::Data<App>>().cloned().ok_or(Problem::Internal)?;
    let Presented { token, is_console } = presented(&request, &app)?;
    let text = KeyText::parse(KeyKind::Person, &token).map_err(|_| {
        Problem::NotSignedIn("this is not a person's token: one begins with `wdt-`, and must be whole".to_owned())
    })?;
    let held = app.store.person_of_token(&text, app.clock.now()).await?;
    let ended = || Problem::NotSignedIn(format!("token {} has ended or was never issued; sign in again", text.id));
    let bearer = held.ok_or_else(ended)?;
    let mut standing = bearer.person.standing.clone();
    // People are kept with the name that their team had then.
    let snapshot = app.now_serving();
    standing.team = standing.team.map(|team| snapshot.catalogue.team_name(team.as_str()).cloned().unwrap_or(team));
    let principal = Principal {
        name: bearer.person.name.clone(),
        standing,
        token: text.id.to_string(),
        address: address_of(&request, &app),
        is_console,
        confirmed_at: bearer.confirmed_at,
        is_unasked: bearer.is_unasked,
    };
    Ok(Arriving { principal, bearer })
}

/// The person, if nothing is left that they have to set up first.
async fn settled(request: HttpRequest) -> Result<Principal, Problem> {
    let Arriving { principal, bearer } = arriving(request).await?;
    if !bearer.lacks_codes {
        return Ok(principal);
    }
    let role = principal.standing.role.as_str();
    Err(Problem::CodesFirst(format!(
        "an authenticator app is asked for of every {role} here: set yours up first, in the console or with `wendor me set-up-codes`"
    )))
}

async fn person_or_app(request: HttpRequest) -> Result<PersonOrApp, Problem> {
    let app = request.app_data::<web::Data<App>>().cloned().ok_or(Problem::Internal)?;
    if presented(&request, &app).is_ok_and(|presented| presented.token.starts_with("wdt-")) {
        return settled(request).await.map(PersonOrApp::Person);
    }
    let snapshot = app.now_serving();
    let key = key_of(
        &snapshot,
        key_text(request.headers(), Query::of(&app, request.query_string())),
        &Call::begin(&app, Dialect::ChatCompletions, request.head(), is_encrypted_here(&request)),
    );
    key.map(|key| PersonOrApp::App(key.as_ref().clone()))
        .map_err(|_| Problem::NotSignedIn("neither a token nor a key in force came with this call".to_owned()))
}

type Extraction<T> = Pin<Box<dyn Future<Output = Result<T, Problem>>>>;

impl FromRequest for Principal {
    type Error = Problem;
    type Future = Extraction<Self>;

    fn from_request(request: &HttpRequest, _payload: &mut Payload) -> Self::Future {
        Box::pin(settled(request.clone()))
    }
}

impl FromRequest for Arriving {
    type Error = Problem;
    type Future = Extraction<Self>;

    fn from_request(request: &HttpRequest, _payload: &mut Payload) -> Self::Future {
        Box::pin(arriving(request.clone()))
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
        let standing = Standing { role, team };
        Principal {
            name: "clerk".to_owned(),
            standing,
            token: "t1".to_owned(),
            address: String::new(),
            is_console: false,
            confirmed_at: None,
            is_unasked: false,
        }
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
