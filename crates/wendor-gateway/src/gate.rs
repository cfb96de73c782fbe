//! Room at one upstream in this process: who is served there, and who waits for it. The rule is [`wendor_core::routing::queue`]; here are
//! the guards that give room back, and the waking of who waits.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Duration;

use chrono::{DateTime, Utc};
use tokio::sync::oneshot;
use tokio::time::{Instant, sleep};
use wendor_core::name::Name;
use wendor_core::routing::pace::{MinuteLimits, Standing};
use wendor_core::routing::queue::{Next, Room, WaitId};
use wendor_core::routing::reason::Streams;
use wendor_wire::told_limits::ToldLimit;

pub use wendor_core::routing::queue::{Ask, Lane, Limits, NoRoom, QueueFull};

/// Who is served at an upstream, or at one offer of it, and who waits.
#[derive(Debug)]
pub struct Gate {
    state: Mutex<State>,
    /// Limits by the minute go by a clock that only runs forward.
    since: Instant,
}

impl Default for Gate {
    fn default() -> Self {
        Self { state: Mutex::default(), since: Instant::now() }
    }
}

#[derive(Debug, Default)]
struct State {
    room: Room<Name>,
    /// Those of the last request that came: what the catalogue said then.
    limits: Limits,
    /// Who is to be told when its turn comes.
    waking: HashMap<WaitId, oneshot::Sender<()>>,
    /// Who has room and does not know yet.
    granted: HashMap<WaitId, Ask<Name>>,
}

/// How full it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Fullness {
    /// Streams under way.
    pub streams: u32,
    /// Tokens under way, as they are estimated.
    pub tokens: u64,
    /// Requests that wait.
    pub waiting: u32,
}

/// How a gate stands for a request, at one moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Prospect {
    /// Streams under way, of how many.
    pub streams: Streams,
    /// Whether there is room for the request, and if not, why.
    pub room: Result<(), NoRoom>,
}

/// Room for one stream; dropping it gives it back.
#[derive(Debug)]
pub struct Permit {
    gate: Arc<Gate>,
    ask: Ask<Name>,
    used: u64,
}

/// Room for one attempt: at its upstream, and at its offer where that has limits of its own.
#[derive(Debug)]
pub struct AttemptRoom {
    /// One of the upstream's streams.
    pub upstream: Permit,
    /// One of the offer's own streams, where it has a limit.
    pub offer: Option<Permit>,
}

impl AttemptRoom {
    /// So many tokens were used; without being told it is none.
    pub fn used(&mut self, tokens: u64) {
        self.upstream.used(tokens);
        self.offer.iter_mut().for_each(|permit| permit.used(tokens));
    }
}

impl Permit {
    fn used(&mut self, tokens: u64) {
        self.used = tokens;
    }
}

/// A place in the queue; dropping it leaves the queue.
#[derive(Debug)]
pub struct Waiting {
    gate: Arc<Gate>,
    id: WaitId,
    turn: oneshot::Receiver<()>,
}

impl State {
    /// Serves all that there is room for. Says in how long there is room for the next, where that is known.
    fn admit(&mut self, now: DateTime<Utc>) -> Option<Duration> {
        loop {
            match self.room.admit(self.limits, now) {
                Next::Served(id, ask) => {
                    self.granted.insert(id, ask);
                    if let Some(turn) = self.waking.remove(&id) {
                        // Whoever does not wait any longer gives its room back when it leaves the queue.
                        let _gone = turn.send(());
                    }
                }
                Next::In(wait) => return Some(wait),
                Next::Nobody => return None,
            }
        }
    }
}

impl Gate {
    fn state(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn now(&self) -> DateTime<Utc> {
        DateTime::UNIX_EPOCH + self.since.elapsed()
    }

    /// The service has told of its limits.
    pub fn told(&self, told: &[ToldLimit]) {
        let (now, mut state) = (self.now(), self.state());
        told.iter().for_each(|told| state.room.told(*told, now));
        state.admit(now);
    }

    /// How limits by the minute stand.
    #[must_use]
    pub fn standings(&self, declared: MinuteLimits) -> Vec<Standing> {
        self.state().room.pace().standings(declared, self.now())
    }

    /// How full it is.
    #[must_use]
    pub fn fullness(&self) -> Fullness {
        let state = self.state();
        Fullness {
            streams: count(state.room.streams()),
            tokens: state.room.tokens(),
            waiting: count(state.room.waiting()),
        }
    }

    /// How it stands for a request: its streams and whether there is room, both of one moment, so that one explains the other.
    pub fn look(&self, ask: &Ask<Name>, limits: Limits) -> Prospect {
        let (now, state) = (self.now(), self.state());
        let streams = Streams { open: count(state.room.streams()), of: limits.streams.map(count) };
        Prospect { streams, room: state.room.look(ask, limits, now) }
    }

    /// Takes room that there is now.
    ///
    /// # Errors
    /// [`NoRoom`], why there is none.
    pub fn take(self: &Arc<Self>, ask: Ask<Name>, limits: Limits) -> Result<Permit, NoRoom> {
        let (now, mut state) = (self.now(), self.state());
        state.limits = limits;
        state.room.look(&ask, limits, now)?;
        state.room.take_anyway(&ask, limits, now);
        Ok(Permit { gate: self.clone(), ask, used: 0 })
    }

    /// Enters the queue.
    ///
    /// # Errors
    /// [`QueueFull`] when there is no place in it.
    pub fn wait(self: &Arc<Self>, ask: &Ask<Name>, limits: Limits) -> Result<Waiting, QueueFull> {
        let (now, mut state) = (self.now(), self.state());
        state.limits = limits;
        let id = state.room.enter(ask, limits)?;
        let (tell, turn) = oneshot::channel();
        state.waking.insert(id, tell);
        state.admit(now);
        Ok(Waiting { gate: self.clone(), id, turn })
    }
}

fn count(number: u64) -> u32 {
    u32::try_from(number).unwrap_or(u32::MAX)
}

/// Where one stands in the queue, for whoever looks.
#[derive(Clone, Debug)]
pub struct Place {
    gate: Arc<Gate>,
    id: WaitId,
}

impl Place {
    /// Its place in the queue, from 1; `None` once its turn has come.
    #[must_use]
    pub fn number(&self) -> Option<usize> {
        self.gate.state().room.place(self.id)
    }
}

impl Waiting {
    /// Where it stands.
    #[must_use]
    pub fn place(&self) -> Place {
        Place { gate: self.gate.clone(), id: self.id }
    }

    /// Waits for its turn.
    pub async fn permit(mut self) -> Permit {
        loop {
            let next = {
                let mut state = self.gate.state();
                let next = state.admit(self.gate.now());
                if let Some(ask) = state.granted.remove(&self.id) {
                    return Permit { gate: self.gate.clone(), ask, used: 0 };
                }
                next
            };
            // ToldLimit or not: whether it has room is what counts, and that is looked at again.
            tokio::select! {
                _told = &mut self.turn => {}
                () = sleep(next.unwrap_or_default()), if next.is_some() => {}
            }
        }
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        let (now, mut state) = (self.gate.now(), self.gate.state());
        state.waking.remove(&self.id);
        if let Some(ask) = state.granted.remove(&self.id) {
            state.room.leave(&ask, 0, now);
        } else if !state.room.give_up(self.id) {
            // It had its turn and took it.
            return;
        }
        state.admit(now);
    }
}

impl Drop for Permit {
    fn drop(&mut self) {
        let (now, mut state) = (self.gate.now(), self.gate.state());
        state.room.leave(&self.ask, self.used, now);
        state.admit(now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ask(team: &str) -> Ask<Name> {
        Ask { who: Name::parse(team).unwrap(), tokens: 100, weight: 1, lane: Lane::Interactive }
    }

    const NO_PACE: MinuteLimits = MinuteLimits { requests: None, tokens: None };
    const LIMITS: Limits = Limits { streams: Some(2), tokens: None, queue: 10, teams: 0, a_minute: NO_PACE };

    #[tokio::test]
    async fn who_waits_gets_the_room_of_who_leaves() {
        let gate = Arc::new(Gate::default());
        let first = gate.take(ask("timetables"), LIMITS).unwrap();
        let second = gate.take(ask("timetables"), LIMITS).unwrap();
        assert_eq!(gate.take(ask("timetables"), LIMITS).err(), Some(NoRoom::Full));
        let waiting: Vec<Waiting> = (0..3).map(|_| gate.wait(&ask("freight-desk"), LIMITS).unwrap()).collect();
        let places: Vec<_> = waiting.iter().map(|waiting| waiting.place().number()).collect();
        assert_eq!(places, [Some(1), Some(2), Some(3)]);
        let mut waiting = waiting.into_iter();
        let (one, two, three) = (waiting.next().unwrap(), waiting.next().unwrap(), waiting.next().unwrap());
        drop(one);
        drop(first);
        let permit = two.permit().await;
        assert_eq!(gate.fullness(), Fullness { streams: 2, tokens: 200, waiting: 1 });
        drop(second);
        // Its turn has come, and it is gone before it knows: the room is not lost.
        drop(three);
        assert_eq!(gate.fullness(), Fullness { streams: 1, tokens: 100, waiting: 0 });
        drop(permit);
        assert_eq!(gate.fullness().streams, 0);
        let state = gate.state();
        assert!(state.waking.is_empty() && state.granted.is_empty(), "{state:?}");
    }

    #[test]
    fn streams_and_whether_there_is_room_are_of_one_moment() {
        let gate = Arc::new(Gate::default());
        std::thread::scope(|scope| {
            let taker = scope.spawn(|| {
                for _ in 0..20_000 {
                    let _one = gate.take(ask("timetables"), LIMITS).unwrap();
                    let _two = gate.take(ask("timetables"), LIMITS).unwrap();
                }
            });
            while !taker.is_finished() {
                let seen = gate.look(&ask("freight-desk"), LIMITS);
                let room = if seen.streams.open == 2 { Err(NoRoom::Full) } else { Ok(()) };
                assert_eq!(seen, Prospect { streams: Streams { open: seen.streams.open, of: Some(2) }, room });
            }
        });
    }

    #[tokio::test]
    async fn where_there_is_room_nobody_waits() {
        let gate = Arc::new(Gate::default());
        let waiting = gate.wait(&ask("timetables"), LIMITS).unwrap();
        let _permit = waiting.permit().await;
        assert_eq!(gate.fullness().streams, 1);
    }

    #[tokio::test]
    async fn a_limit_by_the_minute_lets_wait_until_there_is_more_of_it() {
        let gate = Arc::new(Gate::default());
        let a_minute = MinuteLimits { requests: Some(600), tokens: None };
        let limits = Limits { streams: None, a_minute, ..LIMITS };
        let began = Instant::now();
        let full = loop {
            match gate.take(ask("timetables"), limits) {
                Ok(permit) => drop(permit),
                Err(full) => break full,
            }
        };
        assert!(matches!(full, NoRoom::Paced(_)), "{full:?}");
        let at_once = gate.standings(a_minute)[0].used;
        let waiting: Vec<Waiting> = (0..2).map(|_| gate.wait(&ask("timetables"), limits).unwrap()).collect();
        for waiting in waiting {
            drop(waiting.permit().await);
        }
        assert!(began.elapsed() >= Duration::from_millis(200), "two more than {at_once} came at once");
        gate.told(&[ToldLimit { paced: wendor_wire::told_limits::Paced::Requests, limit: 9, left: 0, whole_in: None }]);
        assert_eq!(gate.standings(a_minute).len(), 2);
    }
}
