//! A team: who pays. Which routes it may use, and its quotas.

use std::collections::BTreeSet;
use std::num::NonZeroU32;

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
    /// How many requests may be under way at once.
    #[serde(default, skip_serializing_if = "AtOnce::is_unlimited")]
    pub streams: AtOnce,
    /// How much of an upstream's room it gets beside other teams that wait for it; 1 when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub weight: Option<NonZeroU32>,
    /// Whom to ask about it: a person, an address.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub contact: Option<String>,
    /// The route of requests that name none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default_route: Option<Name>,
    /// What it was called before, the oldest first.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub former: Vec<Name>,
}

impl Team {
    /// What its quotas are counted under: the first name that it had, so that renaming gives nothing back.
    #[must_use]
    pub fn counted_as<'t>(&'t self, name: &'t Name) -> &'t Name {
        self.former.first().unwrap_or(name)
    }
}

/// How many requests may be under way at once; what is absent limits nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AtOnce {
    /// Of the team together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_team: Option<NonZeroU32>,
    /// Streams that each single key may hold open; unlimited without.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_key: Option<NonZeroU32>,
}

impl AtOnce {
    /// Whether it limits nothing.
    #[must_use]
    pub fn is_unlimited(&self) -> bool {
        *self == Self::default()
    }
}
