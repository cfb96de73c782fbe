//! What a person may do: the four roles and the questions that the management API asks of them.
//!
//! A role and a team enter, yes or no leaves; nothing else decides about people.

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

use crate::name::Name;

worded! {
    /// A person's role.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Role {
        /// Everything.
        Owner = "owner",
        /// Upstreams, routes, rates, quotas, access; keys and figures of every team.
        Operator = "operator",
        /// Own team's keys, members and figures.
        Lead = "lead",
        /// Own team's figures.
        Viewer = "viewer",
    }
}

impl Role {
    /// Whether this role belongs to one team.
    #[must_use]
    pub fn needs_team(self) -> bool {
        matches!(self, Self::Lead | Self::Viewer)
    }
}

/// A role with the team it is held in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Standing {
    /// Decides what may be read and changed; a lead only where their teams are concerned.
    pub role: Role,
    /// The team of a lead or viewer.
    pub team: Option<Name>,
}

impl Standing {
    /// Whether the figures and requests of `team` may be seen.
    #[must_use]
    pub fn can_see(&self, team: &str) -> bool {
        match self.role {
            Role::Owner | Role::Operator => true,
            Role::Lead | Role::Viewer => self.team.as_ref().is_some_and(|own| own.as_str() == team),
        }
    }

    /// The one team whose figures may be seen; `None` when every team's may.
    #[must_use]
    pub fn only_team(&self) -> Option<&Name> {
        match self.role {
            Role::Owner | Role::Operator => None,
            Role::Lead | Role::Viewer => self.team.as_ref(),
        }
    }

    /// Whether keys of `team` may be issued and revoked.
    #[must_use]
    pub fn can_manage_keys(&self, team: &str) -> bool {
        self.role != Role::Viewer && self.can_see(team)
    }

    /// Whether the catalogue and the rates may be changed.
    #[must_use]
    pub fn can_change_catalogue(&self) -> bool {
        matches!(self.role, Role::Owner | Role::Operator)
    }

    /// Whether what the service's secret protects may be moved to another.
    #[must_use]
    pub fn can_manage_secret(&self) -> bool {
        self.role == Role::Owner
    }

    /// Whether what was done to the installation may be seen.
    #[must_use]
    pub fn can_see_audit(&self) -> bool {
        matches!(self.role, Role::Owner | Role::Operator)
    }

    /// Whether all of it may be taken away.
    #[must_use]
    pub fn can_export_audit(&self) -> bool {
        self.role == Role::Owner
    }

    /// Whether people may be added.
    #[must_use]
    pub fn can_manage_people(&self) -> bool {
        self.role == Role::Owner
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::owner(Role::Owner, [true, true, true, true])]
    #[case::operator(Role::Operator, [true, true, true, false])]
    #[case::lead(Role::Lead, [false, false, false, false])]
    #[case::viewer(Role::Viewer, [false, false, false, false])]
    fn roles_reach_as_far_as_designed(#[case] role: Role, #[case] allowed: [bool; 4]) {
        let standing = Standing { role, team: role.needs_team().then(|| Name::parse("freight-desk").unwrap()) };
        let asked = [
            standing.can_see("timetables"),
            standing.can_manage_keys("timetables"),
            standing.can_change_catalogue(),
            standing.can_manage_people(),
        ];
        assert_eq!(asked, allowed);
        assert!(standing.can_see("freight-desk"));
        assert_eq!(standing.can_manage_keys("freight-desk"), role != Role::Viewer);
    }
}
