//! The sentences in which refusals are told: what was wrong, with which value, and what to do. Page not found repeats the app's query.

use chrono::{DateTime, TimeDelta, Utc};
use wendor_core::quota::window::Window;
use wendor_core::quota::{Measure, Quota};
use wendor_core::routing::failure::FailedAttempt;
use wendor_core::words;

use super::refused::{CannotServe, KEPT_OF_A_NAME, QuotaFull, RouteGone, SecretHeld, UnknownRoute};
use crate::allowances::OverQuota;

pub(super) fn moment(at: DateTime<Utc>) -> String {
    at.format("%-d %B %Y at %H:%M UTC").to_string()
}

/// What a body holds that does not leave, and what to do.
pub(super) fn secret_held(held: &SecretHeld) -> String {
    let what = match held {
        SecretHeld::Key(id) => format!("the live key {id} of this installation"),
        SecretHeld::Token(id) => format!("the live token {id} of a person"),
        SecretHeld::Credential => "the credential of a model's server".to_owned(),
    };
    format!(
        "The body holds {what}. Nothing was sent. Remove it, and have it revoked if somebody else may have seen it."
    )
}

pub(super) fn body_too_large(limit: usize) -> String {
    format!("The body is larger than {limit} bytes, the limit here. Send less, or ask for a higher body_limit.")
}

pub(super) fn no_such_route(unknown: &UnknownRoute) -> String {
    let UnknownRoute { key: _, wanted, nearest, known } = unknown;
    let wanted: String = wanted.chars().take(KEPT_OF_A_NAME).collect();
    let nearest = nearest.as_ref().map_or_else(String::new, |near| format!(" Nearest: {near}."));
    let known = match known.as_slice() {
        [] => "This key may use no route yet.".to_owned(),
        names => format!("This key may use {}.", names.join(", ")),
    };
    format!("Unknown route {wanted}.{nearest} {known}")
}

pub(super) fn route_gone(refused: &RouteGone) -> String {
    let RouteGone { asked, gone, .. } = refused;
    let instead = gone.instead.as_ref().map_or_else(
        || "`GET /v1/models` lists the routes of this key.".to_owned(),
        |other| format!("Use {other} instead."),
    );
    if gone.is_renamed {
        return format!(
            "Route {asked} has another name, and is not served under this one since {}. {instead}",
            gone.since
        );
    }
    format!("Route {asked} has retired on {}. {instead}", gone.since)
}

pub(super) fn cannot_serve(cannot: &CannotServe) -> String {
    // Offers that cannot for the same reason stand together.
    let mut reasons: Vec<(&str, Vec<String>)> = Vec::new();
    for (offer, unfit) in &cannot.unfit {
        match reasons.iter_mut().find(|(reason, _)| *reason == unfit.reason) {
            Some((_, offers)) => offers.push(offer.to_string()),
            None => reasons.push((&unfit.reason, vec![offer.to_string()])),
        }
    }
    let lines: Vec<String> =
        reasons.iter().map(|(reason, offers)| format!("{}: {reason}", offers.join(", "))).collect();
    format!("No offer of route {} can serve this request. {}.", cannot.route, lines.join("; "))
}

pub(super) fn over_quota(full: &QuotaFull) -> String {
    let QuotaFull { team, over: OverQuota { limit, room, quota }, now, .. } = full;
    let unit = measure_words(limit);
    let window = match limit.window {
        Window::Minute => "this minute",
        Window::Hour => "this hour",
        Window::Day => "today (UTC)",
        Window::Month => "this month (UTC)",
    };
    let held = if room.reserved.is_zero() {
        String::new()
    } else {
        format!(", {} more are held by requests under way", room.reserved.normalize())
    };
    let alone = if room.wanted > room.limit {
        format!(" This request alone may need {}: ask for fewer with `max_tokens`.", room.wanted.normalize())
    } else {
        String::new()
    };
    let wait = (room.resets_at - *now).max(TimeDelta::zero());
    format!(
        "Quota {quota} has no room: {team} has used {} of {} {unit} {window}{held}.{alone} There is room again at {}, in {}.",
        room.used.normalize(),
        room.limit.normalize(),
        room.resets_at.format("%H:%M:%S UTC on %-d %B"),
        words::wait(wait),
    )
}

pub(super) fn measure_words(quota: &Quota) -> &'static str {
    match quota.measure {
        Measure::Requests => "requests",
        Measure::InputTokens => "input tokens",
        Measure::OutputTokens => "output tokens",
        Measure::Tokens => "tokens",
        Measure::Cost => "of its budget",
    }
}

pub(super) fn all_failed(attempts: &[FailedAttempt], left_out: &[String]) -> String {
    let of_attempt =
        |failed: &FailedAttempt| format!("{} {} ({})", failed.offer, failed.failure.kind, failed.failure.detail);
    let tried: Vec<String> = attempts.iter().map(of_attempt).collect();
    let left_out = match left_out {
        [] => String::new(),
        reasons => format!(" Skipped: {}.", reasons.join("; ")),
    };
    match tried.as_slice() {
        [] => format!("No offer of this route can serve at the moment.{left_out}"),
        tried => format!("No offer answered: {}.{left_out}", tried.join("; ")),
    }
}
