//! What there is only so much of in this process, shared among teams ([`wendor_core::quota::share`]): the memory of bodies, connections;
//! and how much of it each request holds, as a guard that gives it back.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};

use wendor_core::name::Name;
use wendor_core::quota::share::{Capacity, NoShare, Shares};

use crate::settings::Settings;

/// Whose part it is: a team's, or of those who are not known yet.
pub type Who = Option<Name>;

/// What there is only so much of in this process.
#[derive(Debug)]
pub struct Crowd {
    /// Memory of request bodies under way, in bytes.
    pub bodies: Arc<Sharing>,
    /// Open connections.
    pub connections: Arc<Sharing>,
    /// Requests under way where there is a limit to them.
    pub under_way: Arc<UnderWay>,
}

impl Crowd {
    /// As much as the settings say.
    #[must_use]
    pub fn of(settings: &Settings) -> Self {
        Self {
            bodies: Sharing::of(settings.bodies.together as u64),
            connections: Sharing::of(settings.connections as u64),
            under_way: Arc::default(),
        }
    }
}

/// Something of which there is only so much.
#[derive(Debug)]
pub struct Sharing {
    whole: u64,
    shares: Mutex<Shares<Who>>,
}

/// What one holds of it; dropping it gives it back.
#[derive(Debug)]
pub struct Part {
    of: Arc<Sharing>,
    who: Who,
    amount: u64,
}

impl Sharing {
    /// So much of it.
    #[must_use]
    pub fn of(whole: u64) -> Arc<Self> {
        Arc::new(Self { whole, shares: Mutex::default() })
    }

    /// A part without anything in it yet.
    #[must_use]
    pub fn part(self: &Arc<Self>, who: Who) -> Part {
        Part { of: self.clone(), who, amount: 0 }
    }

    fn shares(&self) -> MutexGuard<'_, Shares<Who>> {
        self.shares.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Part {
    /// Takes more into it. `teams` is how many there are in the catalogue; those who are not known are one more.
    ///
    /// # Errors
    /// [`NoShare`]; what it holds stays.
    pub fn grow(&mut self, amount: u64, teams: usize) -> Result<(), NoShare> {
        let capacity = Capacity { whole: self.of.whole, teams: teams + 1 };
        self.of.shares().take(&self.who, amount, capacity)?;
        self.amount += amount;
        Ok(())
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        self.of.shares().give_back(&self.who, self.amount);
    }
}

/// An open connection. It counts for the team that first asked on it.
#[derive(Debug)]
pub struct Connection {
    open: prometheus::IntGauge,
    is_encrypted: bool,
    part: OnceLock<Part>,
}

impl Connection {
    /// Counts as open until it is dropped.
    #[must_use]
    pub fn accepted(open: prometheus::IntGauge, is_encrypted: bool) -> Arc<Self> {
        open.inc();
        Arc::new(Self { open, is_encrypted, part: OnceLock::new() })
    }

    /// Whether it is encrypted as far as here.
    #[must_use]
    pub fn is_encrypted(&self) -> bool {
        self.is_encrypted
    }

    /// A key of that team asks on it. Whoever asked first has it.
    ///
    /// # Errors
    /// [`NoShare`] when the team has too many of them.
    pub fn asked_by(&self, team: &Name, connections: &Arc<Sharing>, teams: usize) -> Result<(), NoShare> {
        if self.part.get().is_some() {
            return Ok(());
        }
        let mut part = connections.part(Some(team.clone()));
        part.grow(1, teams)?;
        // Of two requests that ask at once on one connection the later one's part is given back.
        let _counted_already = self.part.set(part);
        Ok(())
    }
}

impl Drop for Connection {
    fn drop(&mut self) {
        self.open.dec();
    }
}

/// Whose requests under way are counted.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
enum Holder {
    Team(Name),
    Key(Box<str>),
}

/// Requests under way, of teams and keys.
#[derive(Debug, Default)]
pub struct UnderWay(Mutex<HashMap<Holder, u32>>);

/// A request under way, of its team or of its key; dropping it ends it.
#[derive(Debug)]
pub struct Place {
    of: Arc<UnderWay>,
    holder: Holder,
}

impl UnderWay {
    fn counts(&self) -> MutexGuard<'_, HashMap<Holder, u32>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn enter(self: &Arc<Self>, holder: Holder, limit: u32) -> Option<Place> {
        let mut counts = self.counts();
        let count = counts.entry(holder.clone()).or_insert(0);
        if *count >= limit {
            return None;
        }
        *count += 1;
        Some(Place { of: self.clone(), holder })
    }

    /// One more of a team, unless `limit` are under way.
    #[must_use]
    pub fn of_team(self: &Arc<Self>, team: &Name, limit: u32) -> Option<Place> {
        self.enter(Holder::Team(team.clone()), limit)
    }

    /// One more of a key, unless `limit` are under way.
    #[must_use]
    pub fn of_key(self: &Arc<Self>, key: &str, limit: u32) -> Option<Place> {
        self.enter(Holder::Key(key.into()), limit)
    }

    /// How many of a team are under way, as far as they are counted.
    #[must_use]
    pub fn count_of(&self, team: &Name) -> u32 {
        self.counts().get(&Holder::Team(team.clone())).copied().unwrap_or(0)
    }
}

impl Drop for Place {
    fn drop(&mut self) {
        let mut counts = self.of.counts();
        if let Some(count) = counts.get_mut(&self.holder) {
            *count = count.saturating_sub(1);
            if *count == 0 {
                counts.remove(&self.holder);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn name(text: &str) -> Name {
        Name::parse(text).unwrap()
    }

    #[test]
    fn parts_share_a_bound_and_are_given_back() {
        let sharing = Sharing::of(100);
        let mut first = sharing.part(None);
        assert!(first.grow(60, 0).is_ok() && first.grow(40, 0).is_ok());
        let mut second = sharing.part(Some(name("timetables")));
        assert_eq!(second.grow(1, 1), Err(NoShare::Full));
        drop(second);
        drop(first);
        assert!(sharing.part(None).grow(100, 0).is_ok());
    }

    #[test]
    fn requests_under_way_are_counted_while_they_are() {
        let under_way = Arc::new(UnderWay::default());
        let places: Vec<Place> = (0..3).filter_map(|_| under_way.of_team(&name("timetables"), 2)).collect();
        assert_eq!((places.len(), under_way.count_of(&name("timetables"))), (2, 2));
        assert!(under_way.of_key("k1", 1).is_some(), "a key is counted by itself");
        drop(places);
        assert_eq!(under_way.count_of(&name("timetables")), 0);
        assert!(under_way.counts().is_empty(), "what is over is not kept");
    }

    #[test]
    fn a_connection_is_of_whoever_asked_first() {
        let (sharing, gauge) = (Sharing::of(2), prometheus::IntGauge::new("open", "open").unwrap());
        let connections: Vec<_> = (0..3).map(|_| Connection::accepted(gauge.clone(), false)).collect();
        assert_eq!(gauge.get(), 3);
        let asked: Vec<bool> =
            connections.iter().map(|one| one.asked_by(&name("timetables"), &sharing, 0).is_ok()).collect();
        assert_eq!(asked, [true, true, false]);
        assert!(connections[0].asked_by(&name("freight-desk"), &sharing, 2).is_ok(), "it is open already");
        drop(connections);
        assert_eq!(gauge.get(), 0);
        assert_eq!(sharing.shares().total(), 0);
    }
}
