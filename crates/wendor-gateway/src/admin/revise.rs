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
use crate::snapshot::Snapshot;
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
fn tell_of_plain_http(before: &Catalogue, after: &Catalogue, by: &str) {
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
    note: &str,
    mode: Mode,
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
    let change = Change { base: snapshot.revision, catalogue: &checked, rates: &added, note, changes };
    make(app, principal, &snapshot, change).await
}

/// A change that was checked and is to be made.
pub(super) struct Change<'a> {
    /// The revision that it was made against.
    pub base: i64,
    /// The catalogue after it.
    pub catalogue: &'a Catalogue,
    /// Rates to append.
    pub rates: &'a [(OfferName, Rate)],
    /// Why.
    pub note: &'a str,
    /// What it changes.
    pub changes: Vec<ChangeLine>,
}

/// Makes a revision: the one place where that is done, after whoever asks was found to be allowed to.
pub(super) async fn make(
    app: &App,
    principal: &Principal,
    before: &Snapshot,
    change: Change<'_>,
) -> Result<CatalogueApplied, Problem> {
    let Change { base, catalogue, rates, note, changes } = change;
    let told = serde_json::to_value(&changes).map_err(|_| Problem::Internal)?;
    let new = NewRevision { base, catalogue, rates, by: &principal.doing(app), note, changes: told };
    let revision = app.store.make_revision(new).await?;
    tell_of_plain_http(&before.catalogue, catalogue, &principal.name);
    revision_watch::look(app).await?;
    Ok(CatalogueApplied { revision, changes })
}
