//! What can be done about a finding: a change that Wendor applies and checks again, or a sentence for whoever can.

use serde::{Deserialize, Serialize};
use wendor_wire::ability::{Ability, Mark};
use wendor_wire::dialect::Dialect;

use crate::catalog::upstream::{Address, Auth, Fingerprint};

/// A change to an upstream's settings.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "setting", rename_all = "kebab-case")]
pub enum Change {
    /// Another address.
    Address {
        /// Which.
        to: Address,
    },
    /// Another dialect.
    Dialect {
        /// Which.
        to: Dialect,
    },
    /// The credential goes elsewhere.
    Auth {
        /// Where.
        to: Auth,
    },
    /// A request header. Its value must be told by whoever applies this.
    Header {
        /// As the catalogue spells it.
        name: String,
    },
    /// This certificate is accepted, whoever signed it.
    Certificate {
        /// Its fingerprint.
        to: Fingerprint,
    },
    /// The credential may cross a network unencrypted.
    PlainHttp,
    /// Requests go there without ids of Wendor's own.
    NoRequestIds,
    /// An offer is for a model of another name. Routes and rates go along.
    Model {
        /// Its name so far.
        from: String,
        /// The upstream's name for it.
        to: String,
    },
    /// An offer's abilities.
    Abilities {
        /// Of which model.
        model: String,
        /// All of them.
        to: Vec<Ability>,
    },
    /// An offer's output cap.
    OutputCap {
        /// Of which model.
        model: String,
        /// Tokens.
        to: u32,
    },
    /// An offer gets a mark.
    Mark {
        /// Of which model.
        model: String,
        /// Which.
        mark: Mark,
    },
    /// An offer's context window.
    ContextWindow {
        /// Of which model.
        model: String,
        /// Tokens.
        to: u32,
    },
    /// An offer is for the weights that are there now.
    Weights {
        /// Of which model.
        model: String,
        /// Their digest.
        to: String,
    },
}

/// Who can do it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "by", rename_all = "kebab-case")]
pub enum Act {
    /// Wendor, at the touch of a button.
    Wendor {
        /// Applied to the upstream as a new revision.
        change: Change,
    },
    /// Whoever runs Wendor.
    Operator,
    /// Whoever runs the server; what is said is for them.
    Owner,
}

/// What can be done.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remedy {
    /// In words: what a button says, or the sentence to be sent.
    pub says: String,
    /// Who can do it.
    #[serde(flatten)]
    pub act: Act,
}

impl Remedy {
    /// One that Wendor can apply by itself, once somebody agrees.
    #[must_use]
    pub fn change(says: impl Into<String>, change: Change) -> Self {
        Self { says: says.into(), act: Act::Wendor { change } }
    }

    /// Another address.
    #[must_use]
    pub fn address(to: Address) -> Self {
        Self::change(format!("Use {}", to.as_str()), Change::Address { to })
    }

    /// Something for the operator to do.
    #[must_use]
    pub fn operator(says: impl Into<String>) -> Self {
        Self { says: says.into(), act: Act::Operator }
    }

    /// A sentence for the server's owner.
    #[must_use]
    pub fn owner(says: impl Into<String>) -> Self {
        Self { says: says.into(), act: Act::Owner }
    }

    /// What can be applied by itself; nothing where somebody has to act.
    #[must_use]
    pub fn as_change(&self) -> Option<&Change> {
        match &self.act {
            Act::Wendor { change } => Some(change),
            Act::Operator | Act::Owner => None,
        }
    }
}
