//! The listing of routes as the dialect's clients read it (PROTOCOLS section 2.10).

use serde::Serialize;

/// One route.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Model<'a> {
    /// The route's name.
    pub id: &'a str,
    object: &'static str,
    /// When the revision in force was made, in seconds since 1970.
    pub created: i64,
    owned_by: &'static str,
}

impl<'a> Model<'a> {
    /// The route `name`.
    #[must_use]
    pub fn of_route(name: &'a str, created: i64) -> Self {
        Self { id: name, object: "model", created, owned_by: "wendor" }
    }
}

/// All routes that a key may use.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct ModelList<'a> {
    object: &'static str,
    /// The routes.
    pub data: Vec<Model<'a>>,
}

impl<'a> ModelList<'a> {
    /// The list of `models`.
    #[must_use]
    pub fn of(models: Vec<Model<'a>>) -> Self {
        Self { object: "list", data: models }
    }
}
