//! Members of a body, or of an object in it, set, and others cut out: as edits, so that every other byte stays.

use std::collections::BTreeMap;

use crate::json::read::camel;
use crate::members::{Edit, Member, behind_opening, cuts, members};

/// What becomes of the members of one object.
#[derive(Default)]
struct Wanted<'p> {
    set: Vec<(&'p str, String)>,
    cut: Vec<&'p str>,
}

/// Members to set and to cut, by the object that they stand in.
pub(super) struct Settings<'p> {
    by_object: BTreeMap<&'p str, Wanted<'p>>,
    has_names_both_ways: bool,
}

/// `object.name` taken apart; the object is empty for the body itself.
fn parts(path: &str) -> (&str, &str) {
    path.split_once('.').unwrap_or(("", path))
}

impl<'p> Settings<'p> {
    /// None yet, for a dialect whose members may have their names in two ways or not.
    pub(super) fn new(has_names_both_ways: bool) -> Self {
        Self { by_object: BTreeMap::new(), has_names_both_ways }
    }

    /// Of `names`, which are one thing, the one that the body uses, or the first, gets `value`; the others go.
    pub(super) fn set(&mut self, outer: &[Member<'_>], names: &'static [&'static str], value: String) {
        let Some(usual) = names.first() else { return };
        let used = names.iter().find(|name| self.holds(outer, name)).unwrap_or(usual);
        for name in names {
            let (object, member) = parts(name);
            let wanted = self.by_object.entry(object).or_default();
            if name == used { wanted.set.push((member, value.clone())) } else { wanted.cut.push(member) }
        }
    }

    fn is_named(&self, member: &Member<'_>, name: &str) -> bool {
        member.name == name || (self.has_names_both_ways && camel(&member.name) == name)
    }

    fn holds(&self, outer: &[Member<'_>], path: &str) -> bool {
        let (object, name) = parts(path);
        if object.is_empty() {
            return outer.iter().any(|member| self.is_named(member, name) && member.value != "null");
        }
        let holder = outer.iter().find(|member| self.is_named(member, object));
        let inner = holder.and_then(|holder| members(holder.value.as_bytes()).ok()).unwrap_or_default();
        inner.iter().any(|member| self.is_named(member, name) && member.value != "null")
    }

    /// The edits of `body`, whose outermost members are `outer`.
    pub(super) fn edits(&self, body: &[u8], outer: &[Member<'_>]) -> Vec<Edit> {
        let mut edits = Vec::new();
        for (object, wanted) in &self.by_object {
            if object.is_empty() {
                edits.extend(self.edits_in(body, outer, 0, wanted));
                continue;
            }
            let holder = outer.iter().find(|member| self.is_named(member, object));
            match holder {
                None if wanted.set.is_empty() => {}
                None => edits.push(insertion(body, &format!("\"{object}\":{{{}}}", listed(&wanted.set)))),
                Some(holder) => match members(holder.value.as_bytes()) {
                    Ok(inner) => {
                        edits.extend(self.edits_in(holder.value.as_bytes(), &inner, holder.place.start, wanted));
                    }
                    // It says null.
                    Err(_) => edits.push((holder.place.clone(), format!("{{{}}}", listed(&wanted.set)))),
                },
            }
        }
        edits
    }

    fn edits_in(&self, text: &[u8], found: &[Member<'_>], offset: usize, wanted: &Wanted<'_>) -> Vec<Edit> {
        let mut edits: Vec<Edit> = Vec::new();
        let mut new = Vec::new();
        for (name, value) in &wanted.set {
            match found.iter().rfind(|member| self.is_named(member, name)) {
                Some(member) => edits.push((member.place.clone(), value.clone())),
                None => new.push((*name, value.clone())),
            }
        }
        let is_cut = |member: &Member<'_>| wanted.cut.iter().any(|name| self.is_named(member, name));
        edits.extend(cuts(text, found, is_cut).into_iter().map(|place| (place, String::new())));
        if !new.is_empty() {
            edits.push(insertion(text, &listed(&new)));
        }
        edits.into_iter().map(|(place, new)| (offset + place.start..offset + place.end, new)).collect()
    }
}

fn listed(pairs: &[(&str, String)]) -> String {
    pairs.iter().map(|(name, value)| format!("\"{name}\":{value}")).collect::<Vec<_>>().join(",")
}

/// `members` as the first of the object `text`.
pub(super) fn insertion(text: &[u8], members: &str) -> Edit {
    let place = behind_opening(text);
    (place..place, format!("{members},"))
}
