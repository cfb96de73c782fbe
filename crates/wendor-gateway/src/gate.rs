//! Room at one upstream in this process: who is served there, and who waits for it. The rule is [`wendor_core::routing::queue`]; here are
//! the guards that give room back, and the waking of who waits.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use tokio::sync::oneshot;
use wendor_core::name::Name;
use wendor_core::quota::share::NoShare;
pub use wendor_core::routing::queue::{Ask, Lane, Limits, QueueFull};
use wendor_core::routing::queue::{Room, WaitId};

/// Who is served at an upstream, and who waits.
#[derive(Debug, Default)]
pub struct Gate(Mutex<State>);

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

/// Room for one stream; dropping it gives it back.
#[derive(Debug)]
pub struct Permit {
    gate: Arc<Gate>,
    ask: Ask<Name>,
}

/// A place in the queue; dropping it leaves the queue.
#[derive(Debug)]
pub struct Waiting {
    gate: Arc<Gate>,
    id: WaitId,
    turn: oneshot::Receiver<()>,
}

impl State {
    /// Serves all that there is room for.
    fn admit(&mut self) {
        while let Some((id, ask)) = self.room.admit(self.limits) {
            self.granted.insert(id, ask);
            if let Some(turn) = self.waking.remove(&id) {
                // Whoever does not wait any longer gives its room back when it leaves the queue.
                let _gone = turn.send(());
            }
        }
    }
}

impl Gate {
    fn state(&self) -> MutexGuard<'_, State> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// How full it is.
    #[must_use]
    pub fn fullness(&self) -> Fullness {
        let state = self.state();
        let count = |number: u64| u32::try_from(number).unwrap_or(u32::MAX);
        Fullness {
            streams: count(state.room.streams()),
            tokens: state.room.tokens(),
            waiting: count(state.room.waiting()),
        }
    }

    /// Whether there is room now.
    ///
    /// # Errors
    /// [`NoShare`], why not.
    pub fn look(&self, ask: &Ask<Name>, limits: Limits) -> Result<(), NoShare> {
        self.state().room.look(ask, limits)
    }

    /// Takes room that there is now.
    ///
    /// # Errors
    /// [`NoShare`], why there is none.
    pub fn take(self: &Arc<Self>, ask: Ask<Name>, limits: Limits) -> Result<Permit, NoShare> {
        let mut state = self.state();
        state.limits = limits;
        state.room.look(&ask, limits)?;
        state.room.take_anyway(&ask);
        Ok(Permit { gate: self.clone(), ask })
    }

    /// Enters the queue.
    ///
    /// # Errors
    /// [`QueueFull`] when there is no place in it.
    pub fn wait(self: &Arc<Self>, ask: &Ask<Name>, limits: Limits) -> Result<Waiting, QueueFull> {
        let mut state = self.state();
        state.limits = limits;
        let id = state.room.enter(ask, limits)?;
        let (tell, turn) = oneshot::channel();
        state.waking.insert(id, tell);
        state.admit();
        Ok(Waiting { gate: self.clone(), id, turn })
    }
}

impl Waiting {
    /// Its place in the queue, from 1; `None` once its turn has come.
    #[must_use]
    pub fn place(&self) -> Option<usize> {
        self.gate.state().room.place(self.id)
    }

    /// Waits for its turn.
    pub async fn permit(mut self) -> Permit {
        loop {
            if let Some(ask) = self.gate.state().granted.remove(&self.id) {
                return Permit { gate: self.gate.clone(), ask };
            }
            // Told or not: whether it has room is what counts, and that is looked at again.
            let _told = (&mut self.turn).await;
        }
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        let mut state = self.gate.state();
        state.waking.remove(&self.id);
        if let Some(ask) = state.granted.remove(&self.id) {
            state.room.leave(&ask);
        } else if !state.room.give_up(self.id) {
            // It had its turn and took it.
            return;
        }
        state.admit();
    }
}

impl Drop for Permit {
    fn drop(&mut self) {
        let mut state = self.gate.state();
        state.room.leave(&self.ask);
        state.admit();
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn ask(team: &str) -> Ask<Name> {
        Ask { who: Name::parse(team).unwrap(), tokens: 100, weight: 1, lane: Lane::Interactive }
    }

    const LIMITS: Limits = Limits { streams: Some(2), tokens: None, queue: 10, teams: 0 };

    #[tokio::test]
    async fn who_waits_gets_the_room_of_who_leaves() {
        let gate = Arc::new(Gate::default());
        let first = gate.take(ask("timetables"), LIMITS).unwrap();
        let second = gate.take(ask("timetables"), LIMITS).unwrap();
        assert_eq!(gate.take(ask("timetables"), LIMITS).err(), Some(NoShare::Full));
        let waiting: Vec<Waiting> = (0..3).map(|_| gate.wait(&ask("freight-desk"), LIMITS).unwrap()).collect();
        let places: Vec<_> = waiting.iter().map(Waiting::place).collect();
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

    #[tokio::test]
    async fn where_there_is_room_nobody_waits() {
        let gate = Arc::new(Gate::default());
        let waiting = gate.wait(&ask("timetables"), LIMITS).unwrap();
        let _permit = waiting.permit().await;
        assert_eq!(gate.fullness().streams, 1);
    }
}
