//! Remedies tried before they are offered: where the way is barred, each change that would open it is made to a copy, and that is looked at
//! again, without asking for anything that costs. One with which the check comes no further than before is offered last.

use tokio::time::timeout_at;
use wendor_core::diagnosis::change;
use wendor_core::diagnosis::finding::FindingKind;
use wendor_core::diagnosis::remedy::Change;
use wendor_core::diagnosis::report::{Report, Step, StepState};
use wendor_core::diagnosis::seen::CredentialSeen;

use super::calls::{Asking, Extent};
use super::{Checked, Subject, steps};
use crate::app::App;

/// So many are tried at most.
const MOST: usize = 4;

/// Findings whose remedies are places that the server itself names: nothing goes there before somebody says so.
const LEADING: [FindingKind; 2] = [FindingKind::Moved, FindingKind::OtherHost];

/// How far a check came: the step that barred its way, or none.
fn reach_of(report: &Report) -> Option<Step> {
    report.steps.iter().find(|step| step.state == StepState::Failing).map(|step| step.step)
}

/// Tries the changes of what bars the way, and puts those that do not help behind the other remedies.
pub(super) async fn order_remedies(app: &App, subject: &Subject, extent: &Extent<'_>, checked: &mut Checked) {
    let Some(barred) = reach_of(&checked.report).filter(|step| *step <= Step::Models) else { return };
    let Some(step) = checked.report.steps.iter_mut().find(|step| step.state == StepState::Failing) else { return };
    let mut tried = 0;
    for finding in &mut step.findings {
        if LEADING.contains(&finding.kind) {
            continue;
        }
        let mut useless = Vec::new();
        for (index, remedy) in finding.remedies.iter().enumerate() {
            let Some(other) = remedy.as_change().and_then(|change| with(subject, change)) else { continue };
            if tried == MOST {
                break;
            }
            tried += 1;
            if !comes_further(app, &other, extent, barred).await {
                useless.push(index);
            }
        }
        let (last, first): (Vec<_>, Vec<_>) = std::mem::take(&mut finding.remedies)
            .into_iter()
            .enumerate()
            .partition(|(index, _)| useless.contains(index));
        finding.remedies = first.into_iter().chain(last).map(|(_, remedy)| remedy).collect();
    }
}

async fn comes_further(app: &App, subject: &Subject, extent: &Extent<'_>, barred: Step) -> bool {
    let mut checked = Checked::default();
    let looked = Extent { asking: Asking::NotYet, ..extent.clone() };
    let ended = timeout_at(extent.time.until, steps(app, subject, &looked, &mut checked)).await;
    // What there was no time for is not held against it.
    ended.is_err() || reach_of(&checked.report).is_none_or(|step| step > barred)
}

/// The subject with a change; `None` where it needs something that is not there. Nothing goes to another host before somebody says so, and where
/// it is the change that would let the credential go to somebody, it is tried without.
fn with(subject: &Subject, change: &Change) -> Option<Subject> {
    let mut other = subject.clone();
    if let Change::Address { to } = change
        && !to.host().eq_ignore_ascii_case(subject.upstream.address.host())
    {
        return None;
    }
    change::to_upstream(&mut other.upstream, change, None).ok()?;
    if let Change::Address { .. } | Change::Certificate { .. } | Change::PlainHttp = change {
        (other.credential, other.upstream.credential, other.seen) = (None, None, CredentialSeen::None);
    }
    if let Change::Dialect { to } = change {
        other.stated = Some(*to);
    }
    Some(other)
}
