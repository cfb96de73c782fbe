//! The key that a request presents: where it stands, and whether it opens anything.

use std::borrow::Cow;
use std::sync::Arc;

use actix_web::http::header::{self, HeaderMap};
use actix_web::web;
use wendor_core::catalog::key::{AppKey, KeyKind, KeyState, KeyText};

use super::call::Call;
use super::refusal::Refusal;
use crate::app::App;
use crate::snapshot::Snapshot;

/// The key that was presented, if it opens anything now.
///
/// # Errors
/// The [`Refusal`] that says which kind of wrong it is.
pub fn key_of<'s>(
    snapshot: &'s Snapshot,
    presented: Result<KeyText, Refusal>,
    call: &Call,
) -> Result<&'s Arc<AppKey>, Refusal> {
    let text = presented?;
    let key = snapshot.keys.get(&text.hash).ok_or_else(|| Refusal::UnknownKey(text.id.to_string()))?;
    match key.state(call.arrived_at) {
        KeyState::Good => {
            // Whatever it is refused for from here on, it is known by whom it was asked.
            let _set_before = call.key.set(key.clone());
            Ok(key)
        }
        KeyState::Revoked(at) => Err(Refusal::RevokedKey(text.id.to_string(), at)),
        KeyState::Expired(at) => Err(Refusal::ExpiredKey(text.id.to_string(), at)),
    }
}

/// The query of an address.
#[derive(Clone, Copy, Debug)]
pub struct Query<'a> {
    /// Whole, as it came in the address.
    pub text: &'a str,
    /// Whether a key in it counts.
    pub may_hold_key: bool,
}

impl<'a> Query<'a> {
    /// As the settings say.
    #[must_use]
    pub fn of(app: &App, text: &'a str) -> Self {
        Self { text, may_hold_key: app.settings.access.key_in_query }
    }

    /// The keys in it.
    ///
    /// # Errors
    /// [`Refusal::KeyInQuery`] where there is one that does not count.
    fn keys(self) -> Result<Vec<String>, Refusal> {
        if self.text.is_empty() {
            return Ok(Vec::new());
        }
        let query = web::Query::<Vec<(String, String)>>::from_query(self.text);
        let query = query.map(web::Query::into_inner).unwrap_or_default();
        let keys: Vec<String> = query.into_iter().filter(|(name, _)| name == "key").map(|(_, value)| value).collect();
        if keys.is_empty() || self.may_hold_key { Ok(keys) } else { Err(Refusal::KeyInQuery) }
    }
}

/// The app's key that was presented.
///
/// # Errors
/// As [`presented_key`], and [`Refusal::NotAKey`] for what is none.
pub fn key_text(headers: &HeaderMap, query: Query<'_>) -> Result<KeyText, Refusal> {
    KeyText::parse(KeyKind::App, &presented_key(headers, query)?).map_err(Refusal::NotAKey)
}

/// Keys come as `Authorization: Bearer`, in a header named `api-key` or ending in `-api-key`, or as the query parameter `key`.
///
/// # Errors
/// [`Refusal::NoKey`] and [`Refusal::TwoKeys`].
pub fn presented_key<'h>(headers: &'h HeaderMap, query: Query<'_>) -> Result<Cow<'h, str>, Refusal> {
    let mut found: Option<Cow<'h, str>> = None;
    let mut take = |key: Cow<'h, str>| match &found {
        _ if key.is_empty() => Ok(()),
        None => {
            found = Some(key);
            Ok(())
        }
        Some(known) if *known == key => Ok(()),
        Some(_) => Err(Refusal::TwoKeys),
    };
    for (name, value) in headers {
        let is_key_header = name.as_str() == "api-key" || name.as_str().ends_with("-api-key");
        if !is_key_header && name != header::AUTHORIZATION {
            continue;
        }
        let value = value.to_str().unwrap_or_default().trim();
        // A scheme alone, without anything behind it, is no key.
        let (scheme, rest) = value.split_once(' ').unwrap_or((value, ""));
        let is_bearer = !is_key_header && scheme.eq_ignore_ascii_case("bearer");
        take(Cow::Borrowed(if is_bearer { rest.trim() } else { value }))?;
    }
    for key in query.keys()? {
        take(Cow::Owned(key))?;
    }
    found.ok_or(Refusal::NoKey)
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::test::TestRequest;
    use rstest::rstest;

    fn presented(headers: &[(&str, &str)], path: &str) -> String {
        let request =
            headers.iter().fold(TestRequest::with_uri(path), |request, header| request.append_header(*header));
        let request = request.to_http_request();
        match presented_key(request.headers(), Query { text: request.query_string(), may_hold_key: true }) {
            Ok(key) => key.into_owned(),
            Err(Refusal::NoKey) => "none".to_owned(),
            Err(Refusal::TwoKeys) => "two".to_owned(),
            Err(other) => panic!("{other:?}"),
        }
    }

    #[rstest]
    #[case::nothing(&[], "/", "none")]
    #[case::bearer(&[("authorization", "Bearer k1")], "/", "k1")]
    #[case::scheme_in_any_case(&[("authorization", "bEARER   k1 ")], "/", "k1")]
    #[case::scheme_alone(&[("authorization", "Bearer")], "/", "none")]
    #[case::another_scheme(&[("authorization", "Basic a2V5")], "/", "Basic a2V5")]
    #[case::header(&[("api-key", "k1")], "/", "k1")]
    #[case::header_of_a_pattern(&[("x-quarry-api-key", "k1")], "/", "k1")]
    #[case::other_header(&[("x-api-keys", "k1")], "/", "none")]
    #[case::query(&[], "/?key=k1&model=x", "k1")]
    #[case::escaped_query(&[], "/?key=k%2D1", "k-1")]
    #[case::the_same_twice(&[("authorization", "Bearer k1"), ("x-api-key", "k1")], "/?key=k1", "k1")]
    #[case::two(&[("authorization", "Bearer k1"), ("x-api-key", "k2")], "/", "two")]
    #[case::empty_ones_do_not_count(&[("authorization", "Bearer "), ("x-api-key", "")], "/?key=k1", "k1")]
    fn where_a_key_is_found(#[case] headers: &[(&str, &str)], #[case] path: &str, #[case] key: &str) {
        assert_eq!(presented(headers, path), key);
    }
}
