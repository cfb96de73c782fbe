//! Every single change to the catalogue takes this way: the state in force is changed in memory, written as a file and read again, so that
//! every rule of files holds, and becomes a revision whose difference is told.

use wendor_core::catalog::{Catalogue, difference, file};
use wendor_core::metering::rate::{Rate, RateCard};
use wendor_core::name::{Name, OfferName};
use wendor_store::revisions::NewRevision;

use super::catalogue::{CatalogueApplied, ChangeLine, fresh};
use super::principal::Principal;
use super::problem::Problem;
use crate::app::App;
use crate::tasks::revision_watch;

/// Whether a change is only looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mode {
    /// Its difference is told, nothing is written.
    Look,
    /// It becomes a revision.
    Apply,
}

/// A credential that may cross a network unencrypted from now on is never a quiet change, whatever way it took.
pub(super) fn tell_of_plain_http(before: &Catalogue, after: &Catalogue, by: &str) {
    let allows = |catalogue: &Catalogue, name: &Name| {
        catalogue.upstreams.get(name).is_some_and(|upstream| upstream.allows_plain_http)
    };
    for name in after.upstreams.keys().filter(|name| allows(after, name) && !allows(before, name)) {
        tracing::warn!(upstream = %name, by, "the credential may cross a network unencrypted from now on");
    }
}

/// Applies `edit`, which gives the rates to be added.
///
/// # Errors
/// What stands in the way, by name; nothing is changed then.
pub async fn revise(
    app: &App,
    principal: &Principal,
    (note, mode): (&str, Mode),
    edit: impl FnOnce(&mut Catalogue, &RateCard) -> Result<Vec<(OfferName, Rate)>, Problem>,
) -> Result<CatalogueApplied, Problem> {
    principal.must(principal.standing.can_change_catalogue(), "change the catalogue")?;
    let snapshot = fresh(app).await?;
    let mut catalogue = snapshot.catalogue.clone();
    let added = edit(&mut catalogue, &snapshot.rates)?;
    let mut rates = snapshot.rates.clone();
    added.iter().for_each(|(offer, rate)| rates.add(offer.clone(), rate.clone()));
    let checked = file::read(&file::write(&catalogue, &rates)).map_err(Problem::BadCatalogue)?.catalogue;
    let mut changes = difference::between(&snapshot.catalogue, &checked);
    changes.extend(difference::new_rates(&snapshot.rates, &rates).0);
    let changes: Vec<ChangeLine> = changes.into_iter().map(ChangeLine::from).collect();
    if changes.is_empty() || mode == Mode::Look {
        return Ok(CatalogueApplied { revision: snapshot.revision, changes });
    }
    let new = NewRevision {
        base: snapshot.revision,
        catalogue: &checked,
        rates: &added,
        made_by: &principal.name,
        note,
        made_at: app.clock.now(),
    };
    let revision = app.store.make_revision(new).await?;
    tracing::info!(revision, by = principal.name, "revision made");
    tell_of_plain_http(&snapshot.catalogue, &checked, &principal.name);
    revision_watch::look(app).await?;
    Ok(CatalogueApplied { revision, changes })
}
