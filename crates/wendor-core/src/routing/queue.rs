//! Who is served next where there is only so much room: streams of an upstream, and tokens under way there (long contexts fill its memory
//! before many short ones do).
//!
//! Whoever finds no room waits in a bounded queue. Teams take turns in it by deficit round robin: each turn
//! gives a team credit by its weight, and a request is served for as much credit as it is estimated to use of tokens, so that neither many
//! requests nor long ones get a team more than its part. Streams are shared by [`crate::quota::share`]; so are the places of the queue.
//!
//! Two lanes: `batch` is served only while nobody waits in `interactive`, and leaves a sixteenth of the streams for those who come.

use std::collections::{BTreeMap, VecDeque};
use std::time::Duration;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use wendor_wire::told_limits::ToldLimit;
use wendor_wire::worded;

use super::pace::{MinuteLimits, Pace};
use crate::quota::share::{Capacity, NoShare, Shares};

/// The credit that a turn gives for each unit of weight, in tokens.
const CREDIT_A_TURN: u64 = 512;

/// What batch leaves of the streams: one in so many, and one at least.
const BATCH_LEAVES: u64 = 16;

worded! {
    /// How urgent a request is.
    #[derive(Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Lane {
        /// Somebody waits for the answer.
        #[default]
        Interactive = "interactive",
        /// It fills what room is idle.
        Batch = "batch",
    }
}

impl Lane {
    /// Whether it is the usual one.
    #[must_use]
    pub fn is_usual(&self) -> bool {
        *self == Self::default()
    }
}

/// How much room there is.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Limits {
    /// Streams at once; `None` without a limit.
    pub streams: Option<u64>,
    /// Tokens under way; `None` without a limit. One request alone may take more.
    pub tokens: Option<u64>,
    /// Requests that may wait in each lane.
    pub queue: u64,
    /// Teams that could come.
    pub teams: usize,
    /// How much may be asked in a minute.
    pub a_minute: MinuteLimits,
}

/// Why there is no room now.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NoRoom {
    /// All streams are taken.
    Full,
    /// Too many tokens are under way.
    Tokens {
        /// Under way.
        under_way: u64,
        /// That may be.
        of: u64,
        /// That this request would bring.
        asked: u64,
    },
    /// What is left is for the interactive lane.
    ForInteractive,
    /// Others wait for what is left.
    ForWaiting,
    /// What is left is for other teams.
    ForOthers,
    /// Of a limit by the minute enough is left in so long.
    Paced(Duration),
}

impl From<NoShare> for NoRoom {
    fn from(none: NoShare) -> Self {
        match none {
            NoShare::Full => Self::Full,
            NoShare::ForOthers => Self::ForOthers,
        }
    }
}

/// Who of those that wait is served.
#[derive(Debug, PartialEq, Eq)]
pub enum Next<Who> {
    /// This one, now: it has its room.
    Served(WaitId, Ask<Who>),
    /// Somebody, in so long, if nothing happens before.
    In(Duration),
    /// Nobody, until somebody leaves or comes.
    Nobody,
}

/// Somebody's wish for room, with what decides its turn.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ask<Who> {
    /// Who asks.
    pub who: Who,
    /// Tokens that it may use.
    pub tokens: u64,
    /// The weight of whoever asks.
    pub weight: u32,
    /// How urgent it is.
    pub lane: Lane,
}

impl<Who> Ask<Who> {
    /// Whether it is a request. What asks for no tokens is a look, which no limit by the minute is about.
    fn is_request(&self) -> bool {
        self.tokens > 0
    }
}

/// A request that waits, by a number of its own.
pub type WaitId = u64;

/// The queue has no place for it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct QueueFull {
    /// So many wait already.
    pub waiting: u64,
}

/// Who waits in a lane.
#[derive(Debug)]
struct Line<Who> {
    /// Teams in the order of their turns.
    turns: VecDeque<Who>,
    teams: BTreeMap<Who, Waiting>,
    places: Shares<Who>,
}

#[derive(Debug)]
struct Waiting {
    requests: VecDeque<(WaitId, u64)>,
    credit: u64,
    weight: u32,
}

impl<Who> Default for Line<Who> {
    fn default() -> Self {
        Self { turns: VecDeque::new(), teams: BTreeMap::new(), places: Shares::default() }
    }
}

/// The room of one upstream: who is served, and who waits.
#[derive(Debug)]
pub struct Room<Who> {
    streams: Shares<Who>,
    tokens: u64,
    lines: [Line<Who>; 2],
    batch_streams: u64,
    last_id: WaitId,
    pace: Pace,
}

impl<Who> Default for Room<Who> {
    fn default() -> Self {
        Self {
            streams: Shares::default(),
            tokens: 0,
            lines: [Line::default(), Line::default()],
            batch_streams: 0,
            last_id: 0,
            pace: Pace::default(),
        }
    }
}

impl<Who: Ord + Clone> Room<Who> {
    /// Streams under way.
    #[must_use]
    pub fn streams(&self) -> u64 {
        self.streams.total()
    }

    /// Of them those of the batch lane.
    #[must_use]
    pub fn batch_streams(&self) -> u64 {
        self.batch_streams
    }

    /// Tokens under way.
    #[must_use]
    pub fn tokens(&self) -> u64 {
        self.tokens
    }

    /// Requests that wait.
    #[must_use]
    pub fn waiting(&self) -> u64 {
        self.lines.iter().map(|line| line.places.total()).sum()
    }

    /// Whether a request of `who` would be served at once.
    ///
    /// # Errors
    /// [`NoRoom`], why not.
    pub fn look(&self, ask: &Ask<Who>, limits: Limits, now: DateTime<Utc>) -> Result<(), NoRoom> {
        self.fits(ask, limits, now)?;
        let is_waited_for = self.lines.iter().take(lane_index(ask.lane) + 1).any(|line| line.places.total() > 0);
        if is_waited_for { Err(NoRoom::ForWaiting) } else { Ok(()) }
    }

    fn fits(&self, ask: &Ask<Who>, limits: Limits, now: DateTime<Utc>) -> Result<(), NoRoom> {
        if ask.is_request() {
            let wait = self.pace.wait(ask.tokens, limits.a_minute, ask.lane == Lane::Batch, now);
            if !wait.is_zero() {
                return Err(NoRoom::Paced(wait));
            }
        }
        let is_over = |all: &u64| self.tokens > 0 && self.tokens.saturating_add(ask.tokens) > *all;
        if let Some(of) = limits.tokens.filter(is_over) {
            return Err(NoRoom::Tokens { under_way: self.tokens, of, asked: ask.tokens });
        }
        let Some(streams) = limits.streams else { return Ok(()) };
        if ask.lane == Lane::Batch {
            let left = (streams / BATCH_LEAVES).max(1).min(streams - 1);
            return match self.streams.total() {
                open if open >= streams => Err(NoRoom::Full),
                open if open + 1 > streams - left => Err(NoRoom::ForInteractive),
                _ => Ok(()),
            };
        }
        Ok(self.streams.look(&ask.who, 1, Capacity { whole: streams, teams: limits.teams })?)
    }

    /// Takes room, whether there is any or not.
    pub fn take_anyway(&mut self, ask: &Ask<Who>, limits: Limits, now: DateTime<Utc>) {
        if ask.is_request() {
            self.pace.take(ask.tokens, limits.a_minute, now);
        }
        self.streams.take_anyway(&ask.who, 1);
        self.tokens = self.tokens.saturating_add(ask.tokens);
        self.batch_streams += u64::from(ask.lane == Lane::Batch);
    }

    /// How fast it may be asked.
    #[must_use]
    pub fn pace(&self) -> &Pace {
        &self.pace
    }

    /// The service has told of a limit.
    pub fn told(&mut self, told: ToldLimit, now: DateTime<Utc>) {
        self.pace.told(told, now);
    }

    /// Gives room back after so many tokens were used.
    pub fn leave(&mut self, ask: &Ask<Who>, used: u64, now: DateTime<Utc>) {
        if ask.is_request() {
            self.pace.ended(ask.tokens, used, now);
        }
        self.streams.give_back(&ask.who, 1);
        self.tokens = self.tokens.saturating_sub(ask.tokens);
        self.batch_streams = self.batch_streams.saturating_sub(u64::from(ask.lane == Lane::Batch));
    }

    /// Enters the queue; [`Self::admit`] says who is served next.
    ///
    /// # Errors
    /// [`QueueFull`] when there is no place in it.
    pub fn enter(&mut self, ask: &Ask<Who>, limits: Limits) -> Result<WaitId, QueueFull> {
        let id = self.last_id + 1;
        let [interactive, batch] = &mut self.lines;
        let line = if ask.lane == Lane::Batch { batch } else { interactive };
        let capacity = Capacity { whole: limits.queue, teams: limits.teams };
        // Whoever finds the line empty only passes through it.
        if line.places.total() > 0 && line.places.take(&ask.who, 1, capacity).is_err() {
            return Err(QueueFull { waiting: line.places.total() });
        } else if line.places.total() == 0 {
            line.places.take_anyway(&ask.who, 1);
        }
        self.last_id = id;
        let waiting = line.teams.entry(ask.who.clone()).or_insert_with(|| {
            line.turns.push_back(ask.who.clone());
            Waiting { requests: VecDeque::new(), credit: 0, weight: ask.weight.max(1) }
        });
        waiting.weight = ask.weight.max(1);
        waiting.requests.push_back((id, ask.tokens));
        Ok(id)
    }

    /// The place in its lane of a request that waits, from 1; `None` when it does not. Requests of other teams may be served between.
    #[must_use]
    pub fn place(&self, id: WaitId) -> Option<usize> {
        let in_line = |line: &Line<Who>| {
            let mut of_team = line.teams.values().map(|team| team.requests.iter().position(|(other, _)| *other == id));
            let own = of_team.find_map(|place| place)?;
            // Each other team is served about as often until then.
            let before = line.teams.values().filter(|team| team.requests.iter().all(|(other, _)| *other != id));
            Some(own + 1 + before.map(|team| team.requests.len().min(own + 1)).sum::<usize>())
        };
        self.lines.iter().find_map(in_line)
    }

    /// A request waits no longer. Says whether it did.
    pub fn give_up(&mut self, id: WaitId) -> bool {
        for line in &mut self.lines {
            let holds = |team: &Waiting| team.requests.iter().any(|(other, _)| *other == id);
            let who = line.teams.iter().find(|(_, team)| holds(team)).map(|(who, _)| who.clone());
            let Some(who) = who else { continue };
            if let Some(team) = line.teams.get_mut(&who) {
                team.requests.retain(|(other, _)| *other != id);
            }
            line.left(&who);
            return true;
        }
        false
    }

    /// Serves the next that waits, if there is room for it: it has its room from now on.
    pub fn admit(&mut self, limits: Limits, now: DateTime<Utc>) -> Next<Who> {
        let is_waited = |lane: &Lane| self.lines.get(lane_index(*lane)).is_some_and(|line| line.places.total() > 0);
        let Some(lane) = [Lane::Interactive, Lane::Batch].into_iter().find(is_waited) else { return Next::Nobody };
        match self.first_of(lane, limits, now) {
            Some((_, _, Err(NoRoom::Paced(wait)))) => Next::In(wait),
            Some((turns, ask, Ok(()))) => match self.serve(turns, &ask) {
                Some(id) => {
                    self.take_anyway(&ask, limits, now);
                    Next::Served(id, ask)
                }
                None => Next::Nobody,
            },
            Some((_, _, Err(_))) | None => Next::Nobody,
        }
    }

    /// Whose turn it is in a lane, after how many turns, and whether there is room for it.
    fn first_of(&self, lane: Lane, limits: Limits, now: DateTime<Utc>) -> Option<(u64, Ask<Who>, Result<(), NoRoom>)> {
        let line = self.lines.get(lane_index(lane))?;
        // The fewest turns until somebody's credit is enough; of equals the one whose turn comes first.
        let mut best: Option<(u64, Ask<Who>, Result<(), NoRoom>)> = None;
        for who in &line.turns {
            let Some(team) = line.teams.get(who) else { continue };
            let Some((_, tokens)) = team.requests.front() else { continue };
            let ask = Ask { who: who.clone(), tokens: *tokens, weight: team.weight, lane };
            // One whose part of the streams is taken is passed over; the others are not held up by it.
            let fits = self.fits(&ask, limits, now);
            if fits == Err(NoRoom::ForOthers) {
                continue;
            }
            let turns = tokens.saturating_sub(team.credit).div_ceil(CREDIT_A_TURN * u64::from(team.weight));
            if best.as_ref().is_none_or(|(fewest, ..)| turns < *fewest) {
                best = Some((turns, ask, fits));
            }
        }
        // Whoever's turn it is waits until there is room for it: otherwise short requests would keep a long one out for ever.
        best
    }

    /// Gives all the credit of so many turns, and takes the one whose turn it is out of the line.
    fn serve(&mut self, turns: u64, ask: &Ask<Who>) -> Option<WaitId> {
        let line = self.lines.get_mut(lane_index(ask.lane))?;
        for team in line.teams.values_mut() {
            team.credit = team.credit.saturating_add(turns * CREDIT_A_TURN * u64::from(team.weight));
        }
        let team = line.teams.get_mut(&ask.who)?;
        team.credit = team.credit.saturating_sub(ask.tokens);
        let (id, _) = team.requests.pop_front()?;
        line.turns.retain(|who| *who != ask.who);
        line.turns.push_back(ask.who.clone());
        line.left(&ask.who);
        Some(id)
    }
}

impl<Who: Ord + Clone> Line<Who> {
    /// One of them waits no longer.
    fn left(&mut self, who: &Who) {
        self.places.give_back(who, 1);
        if self.teams.get(who).is_some_and(|team| team.requests.is_empty()) {
            // Credit is not saved up while nothing is wanted.
            self.teams.remove(who);
            self.turns.retain(|other| other != who);
        }
    }
}

fn lane_index(lane: Lane) -> usize {
    match lane {
        Lane::Interactive => 0,
        Lane::Batch => 1,
    }
}

#[cfg(test)]
mod tests;
