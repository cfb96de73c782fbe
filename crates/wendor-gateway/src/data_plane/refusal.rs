//! How an app is told that it gets no answer: each reason with its status, class, code, message and time to come back.
//!
//! One exhaustive match decides; nothing here repeats the app's query. Refusals before admission are counted and remembered, never
//! written to the ledger.

use actix_web::http::StatusCode;
use actix_web::http::header::{HeaderName, HeaderValue};
use actix_web::{HttpResponse, HttpResponseBuilder};
use chrono::{DateTime, Utc};
use wendor_core::catalog::key::{BadKey, without_secrets};
use wendor_core::words::sentence;
use wendor_wire::bad_request::BadRequest;
use wendor_wire::codec::ErrorTold;
use wendor_wire::dialects;
use wendor_wire::refusal_code::RefusalCode;

use super::call::Call;
use super::header_texts::written;
use super::refusal_words::{
    all_failed, body_too_large, cannot_serve, moment, no_such_route, over_quota, route_gone, secret_held,
};
use super::refused::KEPT_OF_A_NAME;
use crate::app::App;
use crate::recent::RefusalSeen;
use crate::spool::NoSlot;

/// Longest `Retry-After`: for more, many clients come back at once (`docs/protocols.md` section 1.7).
const LONGEST_RETRY_AFTER_S: i64 = 59;

pub use super::refused::{Caller, CannotServe, GivenUp, QuotaFull, RouteGone, SecretHeld, StreamsFull, UnknownRoute};

/// Why an app gets no answer.
#[derive(Debug)]
pub enum Refusal {
    /// A web page of that origin asks, and no route lists it.
    ForeignPage(Box<str>),
    /// No key was sent.
    NoKey,
    /// Two different keys were sent.
    TwoKeys,
    /// The key came in the query, which is switched off.
    KeyInQuery,
    /// What was sent is no key.
    NotAKey(BadKey),
    /// A key of the right form that nobody issued.
    UnknownKey(String),
    /// Revoked at that instant.
    RevokedKey(String, DateTime<Utc>),
    /// Expired at that instant.
    ExpiredKey(String, DateTime<Utc>),
    /// The key's team is not in the catalogue any more.
    TeamGone(String),
    /// A header of ours cannot be read.
    BadHeader(&'static str, String),
    /// The body is larger than the limit in bytes.
    BodyTooLarge(usize),
    /// The body did not come to its end.
    BodyBroken,
    /// The body did not come in time.
    BodyTooSlow,
    /// The bodies of all requests together are too large at the moment.
    TooManyBodies,
    /// The body is too large or cannot be read.
    BadRequest(BadRequest),
    /// The body holds a secret that must not leave.
    SecretInBody(SecretHeld),
    /// No route of that name for this key.
    NoSuchRoute(Box<UnknownRoute>),
    /// The route has retired, or is not served under this name any more.
    RouteGone(Box<RouteGone>),
    /// There is nothing at this path; the nearest that is.
    NoSuchPath(String, Option<&'static str>),
    /// The path is there, but not for this method.
    WrongMethod(String, &'static str),
    /// No offer of the route can serve such a request, whenever it is asked.
    CannotServe(Box<CannotServe>),
    /// A quota has no room.
    OverQuota(Box<QuotaFull>),
    /// As many requests are under way as may be at once.
    StreamsFull(Box<StreamsFull>),
    /// The team has as many connections as it can while others need some.
    TooManyConnections(Caller),
    /// There is no room for its entry.
    NoSpool(NoSlot),
    /// No offer answered. It was admitted and stands in the ledger.
    AllFailed(Box<GivenUp>),
    /// Wendor itself failed: a panic on the request's path.
    Fault,
    /// The service stops, and the time for what is under way is over.
    Stopped,
    /// It could not be asked for changes for too long.
    OutOfDate,
}

/// When to come back.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Retry {
    /// The clients' own rules are right.
    AsUsual,
    /// Trying again changes nothing.
    Never,
    /// After that many milliseconds.
    After(i64),
}

struct Form {
    status: u16,
    class: &'static str,
    code: RefusalCode,
    param: Option<String>,
    retry: Retry,
}

const INVALID: &str = "invalid_request_error";

/// The first thing that no offer can do is what the app is told of.
fn form_of_unfit(cannot: &CannotServe) -> Form {
    let first = cannot.unfit.first().map(|(_, unfit)| unfit);
    let code = first.map_or(RefusalCode::UnsupportedParameter, |unfit| unfit.code);
    Form { param: first.and_then(|unfit| unfit.param.clone()), ..told(400, "invalid_request_error", code) }
}

fn told(status: u16, class: &'static str, code: RefusalCode) -> Form {
    Form { status, class, code, param: None, retry: Retry::Never }
}

const MESSAGE_OF_FAULT: &str =
    "An internal error of Wendor; nothing is wrong with your key. Report the request's id to whoever runs it.";
const MESSAGE_OF_STOP: &str = "The service stops, and the time for open requests is over. Send the request again.";
const MESSAGE_OF_AGE: &str = "The service could not ask its database for changes for too long, so it refuses requests until it can. Send the request again later.";

impl Refusal {
    fn told(&self) -> Form {
        use RefusalCode as Code;
        const SERVER: &str = "server_error";
        let unauthorised = |code| told(401, "authentication_error", code);
        let at_once = |code| Form { retry: Retry::After(1_000), ..told(429, "rate_limit_error", code) };
        match self {
            Self::ForeignPage(_) => told(403, "permission_error", Code::ForeignPage),
            Self::NoKey => unauthorised(Code::NoKey),
            Self::TwoKeys => unauthorised(Code::TwoKeys),
            Self::KeyInQuery => unauthorised(Code::KeyInQuery),
            Self::NotAKey(BadKey::OtherForm(_)) => unauthorised(Code::NotAKey),
            Self::NotAKey(BadKey::Mistyped) => unauthorised(Code::MistypedKey),
            Self::UnknownKey(_) => unauthorised(Code::UnknownKey),
            Self::RevokedKey(..) => unauthorised(Code::RevokedKey),
            Self::ExpiredKey(..) => unauthorised(Code::ExpiredKey),
            Self::TeamGone(_) => told(403, "permission_error", Code::TeamGone),
            Self::BadHeader(..) => told(400, INVALID, Code::BadHeader),
            Self::BodyTooLarge(_) => told(413, INVALID, Code::BodyTooLarge),
            Self::BodyBroken => told(400, INVALID, Code::BodyBroken),
            Self::BodyTooSlow => Form { retry: Retry::AsUsual, ..told(408, INVALID, Code::BodyTooSlow) },
            Self::TooManyBodies => Form { retry: Retry::After(1_000), ..told(503, SERVER, Code::TooManyBodies) },
            Self::BadRequest(bad) => Form { param: bad.param.clone(), ..told(400, INVALID, bad.code) },
            Self::SecretInBody(_) => told(400, INVALID, Code::SecretInBody),
            Self::NoSuchRoute(_) => Form { param: Some("model".to_owned()), ..told(404, INVALID, Code::RouteNotFound) },
            Self::RouteGone(_) => Form { param: Some("model".to_owned()), ..told(404, INVALID, Code::RouteRetired) },
            Self::NoSuchPath(..) => told(404, INVALID, Code::PathNotFound),
            Self::WrongMethod(..) => told(405, INVALID, Code::WrongMethod),
            Self::CannotServe(cannot) => form_of_unfit(cannot),
            Self::OverQuota(full) => {
                let wait = (full.over.room.resets_at - full.now).num_milliseconds();
                Form { retry: Retry::After(wait), ..told(429, "rate_limit_error", Code::OverQuota) }
            }
            Self::StreamsFull(_) => at_once(Code::StreamsFull),
            Self::TooManyConnections(_) => at_once(Code::TooManyConnections),
            Self::NoSpool(_) => Form { retry: Retry::After(2_000), ..told(503, SERVER, Code::NoSpool) },
            Self::AllFailed(given_up) => {
                let answer = given_up.answer;
                let retry = answer
                    .retry_after_ms
                    .map_or(Retry::Never, |wait| Retry::After(i64::try_from(wait).unwrap_or(i64::MAX)));
                let class = if answer.status == 429 { "rate_limit_error" } else { SERVER };
                Form { retry, ..told(answer.status, class, Code::AllOffersFailed) }
            }
            Self::Fault => told(500, SERVER, Code::InternalFault),
            Self::Stopped => Form { retry: Retry::After(1_000), ..told(503, SERVER, Code::Stopped) },
            Self::OutOfDate => Form { retry: Retry::After(30_000), ..told(503, SERVER, Code::OutOfDate) },
        }
    }

    /// Refuses a page of that origin, where there is one.
    ///
    /// # Errors
    /// The refusal that names it.
    pub fn of_page(foreign: Option<&str>) -> Result<(), Self> {
        foreign.map_or(Ok(()), |origin| Err(Self::ForeignPage(origin.into())))
    }

    /// The status that it is told with.
    #[must_use]
    pub fn status(&self) -> u16 {
        self.told().status
    }

    /// What is wrong and what to do.
    #[must_use]
    pub fn message(&self) -> String {
        match self {
            Self::ForeignPage(origin) => format!(
                "Web pages of {origin} are not allowed on this route. Call it from a program, or have the origin listed in the route's `origins`."
            ),
            Self::NoKey => "No key came with this request. Send one as `Authorization: Bearer wdr-..`.".to_owned(),
            Self::TwoKeys => "Two different keys came with this request. Send one.".to_owned(),
            Self::KeyInQuery => {
                "A key in the query is not accepted here, since addresses are logged. Send it as `Authorization: Bearer wdr-..`."
                    .to_owned()
            }
            Self::NotAKey(bad) => sentence(&bad.to_string()),
            Self::UnknownKey(id) => format!("No key {id} was issued here. Check that it belongs to this installation."),
            Self::RevokedKey(id, at) => {
                format!("Key {id} was revoked on {}. Ask your team's lead for another.", moment(*at))
            }
            Self::ExpiredKey(id, at) => {
                format!("Key {id} expired on {}. Ask your team's lead for another.", moment(*at))
            }
            Self::TeamGone(team) => {
                format!("Team {team} of this key is not in the catalogue any more. Ask whoever runs Wendor.")
            }
            Self::BadHeader(name, why) => format!("The header {name} {why}."),
            Self::BodyTooLarge(limit) => body_too_large(*limit),
            Self::BodyBroken => "The body broke off before its end. Send the request again.".to_owned(),
            Self::BodyTooSlow => "The body was not complete in time, or came too slowly. Send the request again.".to_owned(),
            Self::TooManyBodies => {
                "Too many large requests are under way at the moment. Try again in a second.".to_owned()
            }
            Self::BadRequest(bad) => sentence(&bad.message),
            Self::SecretInBody(held) => secret_held(held),
            Self::NoSuchRoute(unknown) => no_such_route(unknown),
            Self::RouteGone(gone) => route_gone(gone),
            Self::NoSuchPath(path, nearest) => {
                let remedy = nearest.map_or_else(String::new, |path| format!(" Nearest: {path}."));
                format!("There is nothing at {path}.{remedy}")
            }
            Self::WrongMethod(path, right) => format!("{path} accepts only {right}."),
            Self::CannotServe(cannot) => cannot_serve(cannot),
            Self::OverQuota(full) => over_quota(full),
            Self::StreamsFull(full) => full.to_string(),
            Self::TooManyConnections(_) => {
                "Your team has too many open connections. Reuse open ones, or close some.".to_owned()
            }
            Self::NoSpool(no_slot) => format!("Wendor cannot record this request: {no_slot}. Try again in a moment."),
            Self::AllFailed(given_up) => all_failed(&given_up.attempts, &given_up.left_out),
            Self::Fault => MESSAGE_OF_FAULT.to_owned(),
            Self::Stopped => MESSAGE_OF_STOP.to_owned(),
            Self::OutOfDate => MESSAGE_OF_AGE.to_owned(),
        }
    }

    fn caller(&self) -> Caller {
        if let Self::UnknownKey(id) | Self::RevokedKey(id, _) | Self::ExpiredKey(id, _) = self {
            return Caller { key: Some(id.clone()), ..Caller::default() };
        }
        if let Self::NoSuchRoute(unknown) = self {
            let wanted = unknown.wanted.chars().take(KEPT_OF_A_NAME).collect();
            return Caller { key: Some(unknown.key.clone()), route: None, wanted: Some(wanted) };
        }
        if let Self::RouteGone(gone) = self {
            let RouteGone { key, route, asked, .. } = gone.as_ref();
            return Caller { key: Some(key.clone()), route: Some(route.to_string()), wanted: Some(asked.clone()) };
        }
        if let Self::CannotServe(cannot) = self {
            let CannotServe { key, route, .. } = cannot.as_ref();
            return Caller { key: Some(key.clone()), route: Some(route.clone()), wanted: None };
        }
        if let Self::StreamsFull(full) = self {
            return full.caller.clone();
        }
        if let Self::TooManyConnections(caller) = self {
            return caller.clone();
        }
        if let Self::OverQuota(full) = self { full.caller.clone() } else { Caller::default() }
    }

    /// The answer to the app. Counts and remembers what was refused before admission.
    #[must_use]
    pub fn answer(self, app: &App, call: &Call) -> HttpResponse {
        let form = self.told();
        let error = self.error(&form, call);
        let status = StatusCode::from_u16(form.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = HttpResponse::build(status);
        identify(&mut response, call);
        if let Self::TooManyConnections(_) = &self {
            response.force_close();
        }
        // What an app has to mend no client tries again by itself; the hint is for a final failure of ours.
        if form.retry != Retry::Never || form.status >= 500 {
            form.retry.write(&mut response);
        }
        if let Self::AllFailed(given_up) = &self {
            response.insert_header(("wendor-attempts", given_up.attempts.len().to_string()));
            response.insert_header(("wendor-revision", given_up.revision.to_string()));
        }
        self.count(app, call);
        response.content_type("application/json").body(dialects::of(call.dialect).error(&error))
    }
}

impl Refusal {
    fn error(&self, told: &Form, call: &Call) -> ErrorTold {
        ErrorTold {
            status: told.status,
            class: told.class,
            code: told.code.to_string(),
            param: told.param.clone(),
            message: format!("{} More: {}", without_secrets(&self.message()), call.page_of(told.code)),
            request: call.id.to_string(),
        }
    }

    /// What an app is told in its stream, whose head has gone out. Counts and remembers it as [`Self::answer`] does.
    #[must_use]
    pub fn told_late(&self, app: &App, call: &Call) -> ErrorTold {
        self.count(app, call);
        self.error(&self.told(), call)
    }

    /// What was admitted stands in the ledger; what was not is counted and remembered.
    fn count(&self, app: &App, call: &Call) {
        if !matches!(self, Self::AllFailed(_)) {
            let Form { code, param, .. } = self.told();
            remember(app, call, self.caller(), code, param);
        }
    }
}

/// Counts and remembers that no answer was given, and why in a word.
pub(super) fn remember(app: &App, call: &Call, caller: Caller, reason: RefusalCode, param: Option<String>) {
    let Caller { key, route, wanted } = caller;
    let key = key.or_else(|| call.key.get().map(|key| key.id.clone()));
    // People put keys where names belong.
    let wanted = wanted.map(|wanted| without_secrets(&wanted).into_owned());
    app.metrics.refusals.with_label_values(&[reason.as_str()]).inc();
    tracing::debug!(request = %call.id, reason = reason.as_str(), key = key.as_deref(), "refused");
    // A key whose id could be read and that nobody issued is told by its cause.
    let is_issued = key.is_some() && reason != RefusalCode::UnknownKey;
    let (at, request) = (call.arrived_at, call.id);
    app.recent.refused(RefusalSeen { at, request, key, is_issued, route, wanted, reason, param });
}

impl Retry {
    fn write(self, response: &mut HttpResponseBuilder) {
        match self {
            Self::AsUsual => {}
            Self::Never => {
                response.insert_header(("x-should-retry", "false"));
            }
            Self::After(wait_ms) => {
                let longest_ms = LONGEST_RETRY_AFTER_S * 1_000;
                let shown_ms = wait_ms.clamp(1_000, longest_ms);
                response.insert_header(("retry-after", (shown_ms + 999).div_euclid(1_000).to_string()));
                response.insert_header(("retry-after-ms", shown_ms.to_string()));
                if wait_ms > longest_ms {
                    response.insert_header(("x-should-retry", "false"));
                }
            }
        }
    }
}

/// The request's id in the headers that client libraries show, and that a page may read the answer where one asks.
pub(super) fn identify(response: &mut HttpResponseBuilder, call: &Call) {
    call.page.allow(response);
    let [id] = written([&call.id]);
    if let Ok(id) = HeaderValue::from_maybe_shared(id) {
        for name in ["wendor-request-id", "x-request-id", "request-id"] {
            response.insert_header((HeaderName::from_static(name), id.clone()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::allowances::OverQuota;
    use chrono::TimeDelta;
    use rstest::rstest;
    use wendor_core::quota::window::Window;
    use wendor_core::quota::{Measure, Quota};

    fn retry_headers(retry: Retry) -> [Option<String>; 3] {
        let mut response = HttpResponse::Ok();
        retry.write(&mut response);
        let response = response.finish();
        ["retry-after", "retry-after-ms", "x-should-retry"]
            .map(|name| response.headers().get(name).map(|value| value.to_str().unwrap().to_owned()))
    }

    #[rstest]
    #[case::short(Retry::After(12_300), ["13", "12300", ""])]
    #[case::never_zero(Retry::After(0), ["1", "1000", ""])]
    #[case::longest(Retry::After(59_000), ["59", "59000", ""])]
    #[case::longer(Retry::After(3_600_000), ["59", "59000", "false"])]
    #[case::never(Retry::Never, ["", "", "false"])]
    #[case::as_usual(Retry::AsUsual, ["", "", ""])]
    fn when_to_come_back(#[case] retry: Retry, #[case] headers: [&str; 3]) {
        assert_eq!(retry_headers(retry).map(Option::unwrap_or_default), headers);
    }

    fn full(measure: Measure, window: Window, numbers: [i64; 4], wait: TimeDelta) -> Refusal {
        let [limit, used, reserved, wanted] = numbers.map(rust_decimal::Decimal::from);
        let now = DateTime::from_timestamp(1_790_000_040, 0).unwrap();
        let limit_of = Quota { measure, window, limit, at_limit: wendor_core::quota::AtLimit::Refuse };
        let quota =
            wendor_core::quota::QuotaId::of_team(&wendor_core::name::Name::parse("timetables").unwrap(), &limit_of);
        let room = wendor_core::quota::allowance::NoRoom { limit, used, reserved, wanted, resets_at: now + wait };
        let over = OverQuota { quota, limit: limit_of, room };
        Refusal::OverQuota(Box::new(QuotaFull { team: "timetables".into(), over, now, caller: Caller::default() }))
    }

    fn route(nearest: Option<&str>, known: &[&str]) -> Refusal {
        let known = known.iter().map(ToString::to_string).collect();
        Refusal::NoSuchRoute(Box::new(UnknownRoute {
            key: "k7".into(),
            wanted: "manifest".into(),
            nearest: nearest.map(str::to_owned),
            known,
        }))
    }

    #[rstest]
    #[case::quota(
        full(Measure::Requests, Window::Minute, [20, 18, 2, 1], TimeDelta::seconds(14)), 429,
        "Quota timetables/requests/minute has no room: timetables has used 18 of 20 requests this minute, 2 more are held by requests under way. There is room again at 14:14:14 UTC on 21 September, in 14 s."
    )]
    #[case::never_fits(
        full(Measure::Tokens, Window::Day, [1_000, 0, 0, 5_000], TimeDelta::hours(3)), 429,
        "Quota timetables/tokens/day has no room: timetables has used 0 of 1000 tokens today (UTC). This request alone may need 5000: ask for fewer with `max_tokens`. There is room again at 17:14:00 UTC on 21 September, in 3 h."
    )]
    #[case::no_such_route(route(Some("manifests"), &["deck-plans", "manifests"]), 404, "Unknown route manifest. Nearest: manifests. This key may use deck-plans, manifests.")]
    #[case::no_route_at_all(route(None, &[]), 404, "Unknown route manifest. This key may use no route yet.")]
    #[case::mistyped(
        Refusal::NotAKey(BadKey::Mistyped),
        401,
        "This key is mistyped or cut: its last part does not fit the rest; copy it again in full."
    )]
    #[case::revoked(Refusal::RevokedKey("3f9k2mq7".into(), DateTime::UNIX_EPOCH), 401, "Key 3f9k2mq7 was revoked on 1 January 1970 at 00:00 UTC. Ask your team's lead for another.")]
    #[case::no_path(Refusal::NoSuchPath("/v1/chat".into(), Some("/v1/chat/completions")), 404, "There is nothing at /v1/chat. Nearest: /v1/chat/completions.")]
    #[case::full_disk(
        Refusal::NoSpool(NoSlot::NotWritable),
        503,
        "Wendor cannot record this request: the disk of the spool is full or not writable. Try again in a moment."
    )]
    fn what_an_app_is_told(#[case] refusal: Refusal, #[case] status: u16, #[case] message: &str) {
        assert_eq!((refusal.told().status, refusal.message().as_str()), (status, message));
    }
}
