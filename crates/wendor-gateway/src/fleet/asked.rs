//! An offer that is asked: whether its health and its upstream's allow it, and what they hear of how it ends.

use chrono::{DateTime, Utc};
use wendor_core::name::OfferName;
use wendor_core::routing::health::{Asking, Change, Health};
use wendor_core::routing::reason::Reason;
use wendor_wire::failure::{Failure, FailureKind};

use super::{Known, OfferChange};

/// An offer that is asked. Its outcome is told to the health of offer and upstream; without one they are as before.
#[derive(Debug)]
pub struct Asked {
    offer: OfferName,
    known: Known,
    tries_upstream: bool,
    tries_offer: bool,
    is_trial: bool,
    /// Whether its slowness was told already.
    is_slow: bool,
    /// In which rounds of the upstream's and the offer's health it began.
    rounds: (u64, u64),
}

impl Asked {
    /// An offer is asked, if its health allows it, or `anyway`.
    ///
    /// # Errors
    /// Why it is not.
    pub fn begin(known: Known, offer: &OfferName, now: DateTime<Utc>, anyway: bool) -> Result<Self, Reason> {
        let mut asked = Self {
            offer: offer.clone(),
            known,
            tries_upstream: false,
            tries_offer: false,
            is_trial: false,
            is_slow: false,
            rounds: (0, 0),
        };
        // One after the other, never both locks at once; what was begun is taken back by dropping.
        {
            let mut connections = asked.known.upstream.connections_kept();
            asked.tries_upstream = may(connections.begin(now), anyway)?;
            asked.rounds.0 = connections.round();
        }
        {
            let mut health = asked.known.offer.health_kept();
            asked.tries_offer = may(health.begin(now), anyway)?;
            asked.rounds.1 = health.round();
        }
        asked.is_trial = asked.tries_upstream || asked.tries_offer;
        Ok(asked)
    }

    /// What is known of it.
    #[must_use]
    pub fn known(&self) -> &Known {
        &self.known
    }

    /// Whether it tries what has rested.
    #[must_use]
    pub fn is_trial(&self) -> bool {
        self.is_trial
    }

    /// How it failed. Tells what has changed.
    pub fn failed(&mut self, at: DateTime<Utc>, failure: &Failure) -> Vec<OfferChange> {
        let model = self.offer.model().to_owned();
        let tell = |health: &mut Health, round: u64| {
            if health.round() == round {
                return health.failed(at, &model, failure);
            }
            health.failed_late(at, &model, failure);
            None
        };
        if failure.kind == FailureKind::Unreachable {
            self.tries_upstream = false;
            let change = tell(&mut self.known.upstream.connections_kept(), self.rounds.0);
            return self.told(change, None);
        }
        let connected = self.connected(at);
        self.tries_offer = false;
        let change = tell(&mut self.known.offer.health_kept(), self.rounds.1);
        self.told(connected, change)
    }

    /// It answered, its first token after `first_token_ms`. Tells what has changed.
    pub fn succeeded(&mut self, at: DateTime<Utc>, first_token_ms: Option<u64>) -> Vec<OfferChange> {
        let connected = self.connected(at);
        self.tries_offer = false;
        let change = {
            let mut health = self.known.offer.health_kept();
            // That it was slow has counted already.
            if self.is_slow || health.round() != self.rounds.1 {
                health.succeeded_late(at, first_token_ms);
                None
            } else {
                health.succeeded(at, first_token_ms)
            }
        };
        self.told(connected, change)
    }

    /// Its first token lets wait for longer than is usual. Tells what has changed.
    pub fn is_slow(&mut self, at: DateTime<Utc>, why: &str) -> Vec<OfferChange> {
        (self.tries_offer, self.is_slow) = (false, true);
        let change = {
            let mut health = self.known.offer.health_kept();
            if health.round() == self.rounds.1 { health.was_slow(at, why) } else { None }
        };
        self.told(None, change)
    }

    /// It was given up after so long without a first token, since another answered.
    pub fn waited_in_vain(&self, millis: u64) {
        self.known.offer.health_kept().waited_in_vain(millis);
    }

    fn connected(&mut self, at: DateTime<Utc>) -> Option<Change> {
        self.tries_upstream = false;
        let mut connections = self.known.upstream.connections_kept();
        if connections.round() == self.rounds.0 {
            return connections.succeeded(at, None);
        }
        connections.succeeded_late(at, None);
        None
    }

    fn told(&self, of_upstream: Option<Change>, of_offer: Option<Change>) -> Vec<OfferChange> {
        let of_offer = of_offer.map(|change| (Some(self.offer.model().into()), change));
        of_upstream.map(|change| (None, change)).into_iter().chain(of_offer).collect()
    }
}

/// Whether it is a trial.
fn may(asking: Asking, anyway: bool) -> Result<bool, Reason> {
    match asking {
        Asking::Freely => Ok(false),
        Asking::OnTrial => Ok(true),
        Asking::IsTried(_) | Asking::Rests(_) if anyway => Ok(false),
        Asking::IsTried(_) => Err(Reason::IsTried),
        Asking::Rests(until) => Err(Reason::Rests { until }),
        Asking::LeftAlone(until) => Err(Reason::LeftAlone { until }),
    }
}

impl Drop for Asked {
    fn drop(&mut self) {
        if self.tries_upstream {
            self.known.upstream.connections_kept().given_up();
        }
        if self.tries_offer {
            self.known.offer.health_kept().given_up();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::Fleet;
    use super::*;
    use chrono::TimeDelta;

    fn offer(text: &str) -> OfferName {
        OfferName::parse(text).unwrap()
    }

    fn fail(fleet: &Fleet, name: &str, failure: &Failure, now: DateTime<Utc>) {
        for _ in 0..3 {
            Asked::begin(fleet.known(&offer(name)), &offer(name), now, false).unwrap().failed(now, failure);
        }
    }

    #[test]
    fn what_fails_at_one_offer_leaves_its_neighbours_asked() {
        let (fleet, now) = (Fleet::default(), Utc::now());
        fail(&fleet, "quayside/dunlin-70b", &Failure::of_status(500, None), now);
        assert!(matches!(fleet.asking(&offer("quayside/dunlin-70b"), now), Asking::Rests(_)));
        assert_eq!(fleet.asking(&offer("quayside/dunlin-7b"), now), Asking::Freely);
        let limited = Failure::of_status(429, Some(std::time::Duration::from_secs(30)));
        Asked::begin(fleet.known(&offer("quarry/fulmar-large")), &offer("quarry/fulmar-large"), now, false)
            .unwrap()
            .failed(now, &limited);
        assert!(matches!(fleet.asking(&offer("quarry/fulmar-large"), now), Asking::LeftAlone(_)));
        assert_eq!(fleet.asking(&offer("quarry/fulmar-mini"), now), Asking::Freely);
    }

    #[test]
    fn without_a_connection_all_of_its_offers_rest() {
        let (fleet, now) = (Fleet::default(), Utc::now());
        let refused = Failure::new(FailureKind::Unreachable, "connection refused");
        fail(&fleet, "quayside/dunlin-70b", &refused, now);
        assert!(matches!(fleet.asking(&offer("quayside/dunlin-7b"), now), Asking::Rests(_)));
        let anyway = Asked::begin(fleet.known(&offer("quayside/dunlin-7b")), &offer("quayside/dunlin-7b"), now, true);
        assert!(anyway.is_ok(), "where nothing else is left");
        let later = now + TimeDelta::seconds(2);
        let tried = Asked::begin(fleet.known(&offer("quayside/dunlin-7b")), &offer("quayside/dunlin-7b"), later, false)
            .unwrap();
        assert!(matches!(fleet.asking(&offer("quayside/dunlin-70b"), later), Asking::IsTried(_)));
        drop(tried);
        assert_eq!(fleet.asking(&offer("quayside/dunlin-70b"), later), Asking::OnTrial, "its app has gone");
    }
}
