//! Changes of health, told to whoever watches: as events, counts and lines of the log.

use wendor_core::name::Name;
use wendor_core::routing::health::{Change, HealthState};
use wendor_core::watch::event::Event;

use crate::app::App;

/// Tells whoever watches what has changed of the health of upstreams and offers.
pub fn tell<'a>(app: &App, changes: impl IntoIterator<Item = (&'a Name, Option<Box<str>>, Change)>) {
    for (upstream, model, change) in changes {
        let what = model.as_deref().map_or_else(|| upstream.to_string(), |model| format!("{upstream}/{model}"));
        // Whoever was told that it rests need not be told at each trial that it still does.
        if !change.is_again {
            app.events.happened(Event::of_health(&app.ids.instance(), &what, &change));
        }
        app.metrics.health_changes.with_label_values(&[upstream.as_str(), change.state.as_str()]).inc();
        match change.state {
            HealthState::Failing => tracing::warn!(offer = what, why = change.why, "it rests after failures"),
            HealthState::Well | HealthState::NotAsked | HealthState::Degraded | HealthState::OnTrial => {
                tracing::info!(offer = what, why = change.why, "it is well again");
            }
        }
    }
}
