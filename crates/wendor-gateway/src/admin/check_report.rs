//! A check as it is told: every step with its findings, remedies with their numbers, the models that are served.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::upstream::{CredentialSource, Upstream};
use wendor_core::diagnosis::change;
use wendor_core::diagnosis::finding::{Finding, Weight};
use wendor_core::diagnosis::listing::ModelSeen;
use wendor_core::diagnosis::pasted;
use wendor_core::diagnosis::remedy::{Act, Change, Remedy};
use wendor_core::diagnosis::report::{Report, StepReport};

use super::draft::{UpstreamDraft, draft_of};
use crate::app::App;
use crate::checks::{Checked, Subject};

/// Something that can be done.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct RemedyLine {
    /// In words.
    pub says: String,
    /// Who can: `wendor`, `operator` or `owner`.
    pub by: String,
    /// Its number, for those that Wendor applies itself.
    pub number: Option<usize>,
    /// What it changes, to be given back to apply it.
    #[schema(value_type = Option<Object>)]
    pub change: Option<Change>,
    /// Whether a value must be told along.
    pub needs_value: bool,
    /// The draft as it is then, where a draft was checked.
    pub then: Option<UpstreamDraft>,
}

/// Something that is the matter.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct FindingLine {
    /// Its code, as in `docs/diagnosis.md`.
    pub kind: String,
    /// `failing` or `noted`.
    pub weight: String,
    /// In plain words.
    pub says: String,
    /// What can be done.
    pub remedies: Vec<RemedyLine>,
}

/// A step of a check, with what it found.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckStepLine {
    /// Which: settings, name, connection, encryption, http, path, key, models, streamed answer, whole answer, abilities.
    pub step: String,
    /// `well`, `noted`, `failing`, `not reached` or `not asked`.
    pub state: String,
    /// What was sent or opened, in words.
    pub tried: String,
    /// What came back, or why it was not tried.
    pub came_back: String,
    /// Microseconds that it took; 0 where nothing was sent.
    pub took_us: u64,
    /// What is the matter.
    pub findings: Vec<FindingLine>,
}

/// A model that is served.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct ModelLine {
    /// The upstream's name for it.
    pub name: String,
    /// Digest of its weights.
    pub digest: Option<String>,
    /// Of its files, in bytes, where the server tells it.
    pub size_bytes: Option<u64>,
    /// Tokens of prompt and answer together.
    pub context_window: Option<u32>,
    /// Output tokens.
    pub output_cap: Option<u32>,
    /// What it can do, where that was told.
    pub abilities: Option<Vec<String>>,
    /// What else was told of it.
    pub about: BTreeMap<String, String>,
    /// The memory that it holds, where it is loaded; null: not loaded, or not told.
    pub loaded_bytes: Option<u64>,
}

/// What asking on costs at most.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct ProofCost {
    /// The model that would be asked.
    pub model: Option<String>,
    /// Calls at most.
    pub calls: u32,
    /// Input tokens at most.
    pub input_tokens: u64,
    /// Output tokens at most.
    pub output_tokens: u64,
    /// Money at most; null: unpriced.
    pub money: Option<String>,
    /// Code of the currency that the catalogue names.
    pub currency: String,
}

/// What a check of an upstream found, step by step.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
pub struct CheckReport {
    /// A name for it, where it has none yet.
    pub name: String,
    /// Every step, in order.
    pub steps: Vec<CheckStepLine>,
    /// Whether nothing is the matter.
    pub green: bool,
    /// The upstream as it was checked, with what was found out.
    pub settings: UpstreamDraft,
    /// Whether a key stood in what was pasted: then the text is to be sent again (`pasted`) with whatever is done with these settings.
    pub holds_key: bool,
    /// The models that are served, as far as that was told.
    pub models: Vec<ModelLine>,
    /// What asking on would cost at most.
    pub proof_cost: ProofCost,
    /// Microseconds that it took.
    pub took_us: u64,
}

/// A model as it is told.
#[must_use]
pub fn model_line(model: &ModelSeen) -> ModelLine {
    ModelLine {
        name: model.name.clone(),
        digest: model.digest.clone(),
        size_bytes: model.size_bytes,
        context_window: model.context_window,
        output_cap: model.output_cap,
        abilities: model
            .abilities
            .as_ref()
            .map(|able| able.iter().map(|ability| ability.as_str().to_owned()).collect()),
        about: model.about.clone(),
        loaded_bytes: model.loaded_bytes,
    }
}

/// A check of `subject`, with what asking on costs and how long it took.
pub(super) fn report_line(
    app: &App,
    subject: &Subject,
    checked: &Checked,
    cost: ProofCost,
    took_us: u64,
) -> CheckReport {
    let snapshot = app.now_serving();
    let mut upstream = subject.upstream.clone();
    if let Some(found) = &checked.found {
        upstream.dialect = found.dialect;
        upstream.address = found.address.clone();
    }
    let taken = |name: &str| snapshot.catalogue.upstreams.keys().any(|known| known.as_str() == name);
    let name = subject.name.as_ref().map_or_else(|| pasted::name_for(&upstream.address, &taken), ToString::to_string);
    let mut number = 0;
    let steps = checked.report.steps.iter().map(|step| step_line(subject, step, &mut number)).collect();
    CheckReport {
        name,
        steps,
        green: Report::is_green(&checked.report),
        settings: draft_of(&upstream),
        holds_key: subject.pasted.holds_key,
        models: checked.inventory.iter().flat_map(|inventory| &inventory.models).map(model_line).collect(),
        proof_cost: cost,
        took_us,
    }
}

/// Steps as they are told, their remedies numbered one after the other.
pub(super) struct Numbered {
    subject: Subject,
    number: usize,
}

impl Numbered {
    /// Of a check of that subject.
    pub(super) fn of(subject: Subject) -> Self {
        Self { subject, number: 0 }
    }

    /// The next step.
    pub(super) fn line(&mut self, step: &StepReport) -> CheckStepLine {
        step_line(&self.subject, step, &mut self.number)
    }
}

fn step_line(subject: &Subject, step: &StepReport, number: &mut usize) -> CheckStepLine {
    CheckStepLine {
        step: step.step.as_str().to_owned(),
        state: step.state.as_str().to_owned(),
        tried: step.tried.clone(),
        came_back: step.came_back.clone(),
        took_us: step.took_us,
        findings: step.findings.iter().map(|finding| finding_line(subject, finding, number)).collect(),
    }
}

fn finding_line(subject: &Subject, finding: &Finding, number: &mut usize) -> FindingLine {
    let weight = match finding.weight {
        Weight::Failing => "failing",
        Weight::Noted => "noted",
    };
    FindingLine {
        kind: finding.kind.code().to_owned(),
        weight: weight.to_owned(),
        says: finding.says.clone(),
        remedies: finding.remedies.iter().map(|remedy| remedy_line(subject, remedy, number)).collect(),
    }
}

fn remedy_line(subject: &Subject, remedy: &Remedy, number: &mut usize) -> RemedyLine {
    let by = match &remedy.act {
        Act::Wendor { .. } => "wendor",
        Act::Operator => "operator",
        Act::Owner => "owner",
    };
    let change = remedy.as_change().cloned();
    if change.is_some() {
        *number += 1;
    }
    let then = change.as_ref().filter(|_| subject.name.is_none()).and_then(|change| {
        let mut upstream: Upstream = subject.upstream.clone();
        if matches!(&upstream.credential, Some(CredentialSource::Kept(id)) if id == "new") {
            upstream.credential = None;
        }
        change::to_upstream(&mut upstream, change, None).ok()?;
        let mut draft = draft_of(&upstream);
        // What was not stated and is not changed stays to be found out.
        if subject.stated.is_none() && !matches!(change, Change::Dialect { .. }) {
            draft.dialect = None;
        }
        Some(draft)
    });
    RemedyLine {
        says: remedy.says.clone(),
        by: by.to_owned(),
        number: change.is_some().then_some(*number),
        needs_value: matches!(change, Some(Change::Header { .. })),
        change,
        then,
    }
}
