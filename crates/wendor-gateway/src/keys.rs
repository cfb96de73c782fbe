//! The keys that open something, or did: found by what an app presents and by their ids. A change of one shares all the others with what was
//! before, so that it costs the same whether there are ten keys or a hundred thousand.

use std::collections::HashMap;
use std::sync::Arc;

use foldhash::fast::RandomState;
use wendor_core::catalog::key::{AppKey, KeyHash};

/// From so many changed keys on they are put with the others, which is done for all at once.
const APART: usize = 1_000;

/// Keys by their hash, revoked ones too, so that they are told apart.
#[derive(Clone, Debug, Default)]
pub struct Keys {
    /// As they were read all together.
    all: Arc<Found>,
    /// Those that were changed or added since.
    changed: Arc<Found>,
}

#[derive(Clone, Debug, Default)]
struct Found {
    /// Hashes of what the world sends are looked for by what nobody can choose.
    by_hash: HashMap<KeyHash, Arc<AppKey>>,
    by_id: HashMap<String, KeyHash, RandomState>,
}

impl Found {
    fn put(&mut self, hash: KeyHash, key: Arc<AppKey>) {
        self.by_id.insert(key.id.clone(), hash);
        self.by_hash.insert(hash, key);
    }
}

impl Keys {
    /// All of them.
    pub fn of(keys: impl Iterator<Item = (KeyHash, AppKey)>) -> Self {
        let mut all = Found::default();
        keys.for_each(|(hash, key)| all.put(hash, Arc::new(key)));
        Self { all: Arc::new(all), changed: Arc::default() }
    }

    /// The same with some as they are now.
    #[must_use]
    pub fn with(&self, changed: impl Iterator<Item = (KeyHash, AppKey)>) -> Self {
        let mut newer = Found::clone(&self.changed);
        changed.for_each(|(hash, key)| newer.put(hash, Arc::new(key)));
        if newer.by_hash.len() < APART {
            return Self { all: self.all.clone(), changed: Arc::new(newer) };
        }
        let mut all = Found::clone(&self.all);
        newer.by_hash.into_iter().for_each(|(hash, key)| all.put(hash, key));
        Self { all: Arc::new(all), changed: Arc::default() }
    }

    /// The key of that hash.
    #[must_use]
    pub fn get(&self, hash: &KeyHash) -> Option<&Arc<AppKey>> {
        self.changed.by_hash.get(hash).or_else(|| self.all.by_hash.get(hash))
    }

    /// The key of that id.
    #[must_use]
    pub fn by_id(&self, id: &str) -> Option<&Arc<AppKey>> {
        self.get(self.changed.by_id.get(id).or_else(|| self.all.by_id.get(id))?)
    }

    /// Every key.
    pub fn values(&self) -> impl Iterator<Item = &Arc<AppKey>> + Clone {
        let is_as_before = |(hash, _): &(&KeyHash, &Arc<AppKey>)| !self.changed.by_hash.contains_key(*hash);
        let as_before = self.all.by_hash.iter().filter(is_as_before).map(|(_, key)| key);
        self.changed.by_hash.values().chain(as_before)
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.values().count()
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.values().next().is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use wendor_core::catalog::key::{KeyKind, KeyText, RANDOM_BYTES};
    use wendor_core::catalog::team::Access;
    use wendor_core::name::Name;

    fn key(number: u16, label: &str) -> (KeyHash, AppKey) {
        let mut random = [0; RANDOM_BYTES];
        let [first, second] = number.to_be_bytes();
        (random[0], random[1]) = (first, second);
        let (_, text) = KeyText::mint(KeyKind::App, &random);
        let key = AppKey {
            id: text.id.to_string(),
            team: Name::parse("timetables").unwrap(),
            label: label.to_owned(),
            access: Access::AllRoutes,
            lane: wendor_core::routing::queue::Lane::default(),
            expires_at: None,
            revoked_at: None,
        };
        (text.hash, key)
    }

    fn label(keys: &Keys, number: u16) -> [Option<String>; 2] {
        let (hash, key) = key(number, "");
        [keys.get(&hash), keys.by_id(&key.id)].map(|found| found.map(|key| key.label.clone()))
    }

    #[test]
    fn a_change_counts_and_leaves_the_others() {
        let before = Keys::of((0..10).map(|number| key(number, "old")));
        let after = before.with([key(3, "new"), key(10, "added")].into_iter());
        let told = |text: &str| [Some(text.to_owned()), Some(text.to_owned())];
        assert_eq!((label(&before, 3), label(&before, 10)), (told("old"), [None, None]), "what was before stays");
        assert_eq!((label(&after, 3), label(&after, 4), label(&after, 10)), (told("new"), told("old"), told("added")));
        assert_eq!((before.len(), after.len()), (10, 11));
        assert!(Arc::ptr_eq(&before.all, &after.all), "the others are shared");
        assert!(Keys::default().is_empty() && !after.is_empty());
    }

    #[test]
    fn many_changes_are_put_with_the_others() {
        let changes = u16::try_from(APART).unwrap();
        let keys = (0..changes).fold(Keys::default(), |keys, number| keys.with([key(number, "x")].into_iter()));
        assert_eq!((keys.len(), keys.changed.by_hash.len()), (APART, 0));
        assert_eq!(label(&keys, changes - 1), [Some("x".to_owned()), Some("x".to_owned())]);
    }
}
