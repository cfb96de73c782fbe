//! Looks harm nobody: on a server that serves one request at a time a look may end an answer that is under way. So a look takes room as
//! requests do, and waits while an answer of Wendor's runs there, unless the server is known to serve several at once.

use std::sync::Arc;
use std::time::Duration;

use tokio::time::{Instant, sleep, timeout_at};
use wendor_core::catalog::upstream::Upstream;
use wendor_core::name::Name;

use crate::app::App;
use crate::data_plane::account::room_limits;
use crate::fleet::UpstreamState;
use crate::fleet::looks::Looking;
use crate::gate::{Ask, Lane, Limits, Permit};

/// How often it is looked whether answers are over.
const AGAIN: Duration = Duration::from_millis(50);

/// Where looks wait.
#[derive(Clone, Debug)]
pub struct Quiet {
    state: Arc<UpstreamState>,
    serves_several: bool,
    limits: Limits,
    who: Name,
}

/// A stream of the upstream for one look; given back when dropped.
#[derive(Debug)]
pub struct LookRoom {
    _permit: Permit,
    _looking: Looking,
}

/// So many answers were under way, to the end of the time; none where other looks were.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Busy(pub u32);

impl Quiet {
    /// At that upstream, for `who` looks.
    #[must_use]
    pub fn at(app: &App, name: &Name, upstream: &Upstream, who: &Name) -> Self {
        let limits = room_limits(upstream, app.now_serving().catalogue.teams.len());
        let serves_several = upstream.serves_several();
        Self { state: app.fleet.upstream(name), serves_several, limits, who: who.clone() }
    }

    /// Waits until a look ends nothing, and takes room for it.
    ///
    /// # Errors
    /// [`Busy`] when that does not come in time.
    pub async fn look(&self, until: Instant) -> Result<LookRoom, Busy> {
        while !self.serves_several && self.state.answers() > 0 {
            if Instant::now() + AGAIN > until {
                return Err(self.busy());
            }
            sleep(AGAIN).await;
        }
        let looking = Looking::begin(&self.state);
        if let Ok(permit) = self.state.gate().take(self.room(0), self.limits) {
            return Ok(LookRoom { _permit: permit, _looking: looking });
        }
        drop(looking);
        let permit = self.wait(self.room(0), until).await?;
        Ok(LookRoom { _permit: permit, _looking: Looking::begin(&self.state) })
    }

    /// Waits for room for a question of so many tokens, which is answered as any request is.
    ///
    /// # Errors
    /// [`Busy`] when there is none in time.
    pub async fn ask(&self, tokens: u64, until: Instant) -> Result<Permit, Busy> {
        self.wait(self.room(tokens), until).await
    }

    async fn wait(&self, ask: Ask<Name>, until: Instant) -> Result<Permit, Busy> {
        let waiting = self.state.gate().wait(&ask, self.limits).map_err(|_| self.busy())?;
        timeout_at(until, waiting.permit()).await.map_err(|_| self.busy())
    }

    /// A look asks for no tokens.
    fn room(&self, tokens: u64) -> Ask<Name> {
        Ask { who: self.who.clone(), tokens, weight: 1, lane: Lane::Interactive }
    }

    fn busy(&self) -> Busy {
        Busy(self.state.answers())
    }
}
