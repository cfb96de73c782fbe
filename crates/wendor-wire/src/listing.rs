//! Listings of models as each dialect's clients read them (`docs/protocols.md` sections 2.10, 4.6, 5.6 and 6.4).

use chrono::{DateTime, SecondsFormat, Utc};
use sha2::{Digest, Sha256};

use crate::dialect::Dialect;
use crate::json::{Json, Members};

/// A route, which is what apps take for a model.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Listed<'n> {
    /// What apps put into `model`.
    pub name: &'n str,
    /// When the revision in force was made.
    pub made_at: DateTime<Utc>,
    /// Tokens of prompt and answer that every offer of it takes, if they say.
    pub context_window: Option<u32>,
    /// Output tokens that every offer of it makes, if they say.
    pub output_cap: Option<u32>,
}

/// All that a key may use.
#[must_use]
pub fn shape(dialect: Dialect, listed: &[Listed<'_>]) -> String {
    let each = listed.iter().map(|route| of(dialect, route).into()).collect::<Vec<Json>>();
    match dialect {
        Dialect::ChatCompletions | Dialect::Responses => {
            Members::new().put("object", "list").put("data", each).to_line()
        }
        Dialect::Messages => {
            let end = |route: Option<&Listed<'_>>| route.map_or(Json::Null, |route| route.name.into());
            Members::new()
                .put("data", each)
                .put("has_more", false)
                .put("first_id", end(listed.first()))
                .put("last_id", end(listed.last()))
                .to_line()
        }
        Dialect::GenerateContent | Dialect::LocalChat => Members::new().put("models", each).to_line(),
    }
}

/// One of them.
#[must_use]
pub fn one(dialect: Dialect, route: &Listed<'_>) -> String {
    of(dialect, route).to_line()
}

fn of(dialect: Dialect, route: &Listed<'_>) -> Members {
    match dialect {
        Dialect::ChatCompletions | Dialect::Responses => Members::new()
            .put("id", route.name)
            .put("object", "model")
            .put("created", route.made_at.timestamp())
            .put("owned_by", "wendor"),
        Dialect::Messages => Members::typed("model")
            .put("id", route.name)
            .put("display_name", route.name)
            .put("created_at", moment(route.made_at))
            .some("max_input_tokens", route.context_window)
            .some("max_tokens", route.output_cap),
        Dialect::GenerateContent => {
            let methods = ["generateContent", "countTokens"].map(Json::from).to_vec();
            Members::new()
                .put("name", format!("models/{}", route.name))
                .put("displayName", route.name)
                .put("version", "1")
                .some("inputTokenLimit", route.context_window)
                .some("outputTokenLimit", route.output_cap)
                .put("supportedGenerationMethods", methods)
        }
        Dialect::LocalChat => Members::new()
            .put("name", route.name)
            .put("model", route.name)
            .put("modified_at", moment(route.made_at))
            .put("size", 0u64)
            .put("digest", digest(route.name))
            .put("details", details()),
    }
}

fn moment(at: DateTime<Utc>) -> String {
    at.to_rfc3339_opts(SecondsFormat::Secs, true)
}

/// Clients want one; a route has no weights of its own, so its name stands for them.
fn digest(name: &str) -> String {
    Sha256::digest(name.as_bytes()).iter().map(|byte| format!("{byte:02x}")).collect()
}

fn details() -> Members {
    Members::new()
        .put("format", "route")
        .put("family", "route")
        .put("families", vec!["route".into()])
        .put("parameter_size", "")
        .put("quantization_level", "")
        .put("parent_model", "")
}

/// What a local server shows of a model.
#[must_use]
pub fn shown(route: &Listed<'_>) -> String {
    let info = Members::new().some("route.context_length", route.context_window);
    Members::new()
        .put("modified_at", moment(route.made_at))
        .put("details", details())
        .put("model_info", info)
        .put("capabilities", vec!["completion".into(), "tools".into()])
        .to_line()
}

/// What a local server has loaded: routes are not loaded.
#[must_use]
pub fn loaded() -> String {
    Members::new().put("models", Vec::new()).to_line()
}

/// A local server's version.
#[must_use]
pub fn version(version: &str) -> String {
    Members::new().put("version", version).to_line()
}
