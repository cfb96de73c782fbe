//! Former names, and that every name means one thing: none of them may be the present or the former name of another of its kind.

use std::collections::BTreeMap;

use super::reader::{Reader, Table};
use crate::catalog::Catalogue;
use crate::name::Name;

/// The entry `former` of a table: a list of names.
pub(super) fn former(reader: &mut Reader<'_>, table: &mut Table<'_>) -> Vec<Name> {
    let items = table.take("former").and_then(|item| reader.list(&item)).unwrap_or_default();
    items.iter().filter_map(|item| reader.parsed(item, Name::parse)).collect()
}

/// Something that is wrong of the whole: where it stands, and what.
pub(super) struct Wrong {
    /// Such as `routes`, `cargo`, `former`.
    pub path: Vec<String>,
    /// What is wrong, and what to do.
    pub message: String,
}

/// Every former name that another thing of the same kind has or had.
pub(super) fn taken(catalogue: &Catalogue) -> Vec<Wrong> {
    let mut all = Vec::new();
    let upstreams = catalogue.upstreams.iter().map(|(name, upstream)| (name, upstream.former.iter().collect()));
    look("upstreams", "upstream", upstreams, &mut all);
    let routes = catalogue.routes.iter();
    let routes = routes.map(|(name, route)| (name, route.former.iter().map(|former| &former.name).collect()));
    look("routes", "route", routes, &mut all);
    let teams = catalogue.teams.iter().map(|(name, team)| (name, team.former.iter().collect()));
    look("teams", "team", teams, &mut all);
    all
}

fn look<'c>(
    kind: &str,
    word: &str,
    things: impl Iterator<Item = (&'c Name, Vec<&'c Name>)> + Clone,
    all: &mut Vec<Wrong>,
) {
    let mut owners: BTreeMap<&Name, &Name> = things.clone().map(|(name, _)| (name, name)).collect();
    for (name, former) in things {
        for one in former {
            if let Some(other) = owners.insert(one, name) {
                let whose = if other == one {
                    format!("there is a {word} `{one}`")
                } else {
                    format!("the {word} `{other}` was called `{one}` too")
                };
                let message = format!("{whose}: a former name leads to one {word}; take it out of one of them");
                all.push(Wrong { path: vec![kind.to_owned(), name.to_string(), "former".to_owned()], message });
            }
        }
    }
}
