//! Requests that were refused before admission: the ledger does not hold them, and the latest are remembered.

use wendor_core::request_id::RequestId;
use wendor_core::words;

use super::principal::PersonOrApp;
use super::problem::Problem;
use crate::app::App;

/// Why a request is in no record, where it was refused before admission: to whoever may see its team, and to the key that asked it.
pub(super) fn before_admission(app: &App, caller: &PersonOrApp, wanted: &RequestId) -> Option<Problem> {
    let seen = app.recent.refusal(wanted)?;
    let snapshot = app.now_serving();
    let key = seen.key.as_ref().and_then(|id| snapshot.keys.by_id(id));
    let may_see = match caller {
        PersonOrApp::Person(principal) => match key {
            Some(key) => principal.standing.can_see(key.team.as_str()),
            None => principal.standing.only_team().is_none(),
        },
        PersonOrApp::App(own) => seen.key.as_deref() == Some(own.id.as_str()),
    };
    if !may_see {
        return None;
    }
    let about = seen.param.map_or_else(String::new, |member| format!(", about `{member}`"));
    let who = key.map_or_else(String::new, |key| format!(" It came with the key {} of {}.", key.id, key.team));
    let route = seen.route.or(seen.wanted).map_or_else(String::new, |route| format!(" It asked for {route}."));
    let (reason, meaning) = (seen.reason.as_str(), seen.reason.meaning());
    let ago = words::ago(app.clock.now() - seen.at);
    Some(Problem::RefusedBefore(format!(
        "request {wanted} was refused before admission {ago}, so it is not in the ledger and cost nothing: {reason}{about}. {meaning}{who}{route}"
    )))
}
