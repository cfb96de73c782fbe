//! A team: who pays. Which routes it may use, and its quotas.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};

use crate::name::Name;
use crate::quota::Quota;

/// Which routes someone may use.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Access {
    /// Every route there is and will be.
    #[default]
    AllRoutes,
    /// These alone.
    Only(BTreeSet<Name>),
}

impl Access {
    /// Whether `route` is among them.
    #[must_use]
    pub fn allows(&self, route: &str) -> bool {
        match self {
            Self::AllRoutes => true,
            Self::Only(routes) => routes.contains(route),
        }
    }
}

/// Who pays.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Team {
    /// The routes its keys may use.
    #[serde(default)]
    pub access: Access,
    /// Its quotas; at most one for each measure and window.
    #[serde(default)]
    pub quotas: Vec<Quota>,
}
