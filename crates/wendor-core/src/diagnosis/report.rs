//! What a check says: the steps in order, each with what was tried, what came back and how long it took.

use serde::{Deserialize, Serialize};
use wendor_wire::worded;

use super::finding::{Finding, Weight};
use super::remedy::Remedy;

worded! {
    /// A layer of an upstream.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum Step {
        /// What can be seen without asking.
        Settings = "settings",
        /// The host's name.
        Name = "name",
        /// Each of its addresses.
        Connection = "connection",
        /// TLS.
        Encryption = "encryption",
        /// The first words, without the credential.
        Http = "http",
        /// The path and the dialect.
        Path = "path",
        /// The credential.
        Key = "key",
        /// The listing.
        Models = "models",
        /// A short answer, asked for as a stream.
        StreamedAnswer = "streamed answer",
        /// The same answer, asked for in one piece.
        WholeAnswer = "whole answer",
        /// What the model can do.
        Abilities = "abilities",
    }
}

impl Step {
    /// What it would tell, for those who did not get so far.
    #[must_use]
    pub fn would_tell(self) -> &'static str {
        match self {
            Self::Settings => "what can be seen without a request",
            Self::Name => "the host's addresses",
            Self::Connection => "which of them answer",
            Self::Encryption => "the server's certificate",
            Self::Http => "its answer without the key",
            Self::Path => "where the API stands, in which dialect",
            Self::Key => "accepted, refused or not needed",
            Self::Models => "which are there",
            Self::StreamedAnswer => "first token, usage, proper end",
            Self::WholeAnswer => "usage, proper end",
            Self::Abilities => "tools, images in, structured output, thinking",
        }
    }
}

worded! {
    /// How a step went.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
    #[serde(rename_all = "kebab-case")]
    pub enum StepState {
        /// Tried, and nothing stands against it.
        Well = "well",
        /// It works, and someone should know something.
        Noted = "noted",
        /// It does not.
        Failing = "failing",
        /// An earlier step failed.
        NotReached = "not reached",
        /// It costs something and was not asked for.
        NotAsked = "not asked",
    }
}

/// One step of a check.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct StepReport {
    /// Which.
    pub step: Step,
    /// How it went.
    pub state: StepState,
    /// What was sent or opened, in words.
    pub tried: String,
    /// What the server did, in words.
    pub came_back: String,
    /// How long it took, in microseconds; 0 where nothing was sent.
    pub took_us: u64,
    /// What is the matter.
    pub findings: Vec<Finding>,
}

impl StepReport {
    /// A step that was taken.
    #[must_use]
    pub fn of(step: Step, tried: impl Into<String>, judged: Judged, took_us: u64) -> Self {
        let state = match (judged.is_failing(), judged.findings.is_empty()) {
            (true, _) => StepState::Failing,
            (false, true) => StepState::Well,
            (false, false) => StepState::Noted,
        };
        let came_back = judged.came_back;
        Self { step, state, tried: tried.into(), came_back, took_us, findings: judged.findings }
    }

    /// A step that was not taken, and why.
    #[must_use]
    pub fn untaken(step: Step, state: StepState, why: impl Into<String>) -> Self {
        Self { step, state, tried: String::new(), came_back: why.into(), took_us: 0, findings: Vec::new() }
    }
}

/// What is made of one layer.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Judged {
    /// What came back, in words.
    pub came_back: String,
    /// What is the matter.
    pub findings: Vec<Finding>,
}

impl Judged {
    /// Nothing is the matter.
    #[must_use]
    pub fn well(came_back: impl Into<String>) -> Self {
        Self { came_back: came_back.into(), findings: Vec::new() }
    }

    /// This is.
    #[must_use]
    pub fn found(came_back: impl Into<String>, finding: Finding) -> Self {
        Self { came_back: came_back.into(), findings: vec![finding] }
    }

    /// The same, and this beside what came back, where there is something.
    #[must_use]
    pub fn beside(mut self, more: Option<String>) -> Self {
        if let Some(more) = more {
            let joint = if self.came_back.is_empty() { "" } else { "; " };
            self.came_back = format!("{}{joint}{more}", self.came_back);
        }
        self
    }

    /// Whether the way is barred.
    #[must_use]
    pub fn is_failing(&self) -> bool {
        self.findings.iter().any(|finding| finding.weight == Weight::Failing)
    }
}

/// A whole check.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// Every step, in order.
    pub steps: Vec<StepReport>,
}

impl Report {
    /// Adds a step. Says whether the check goes on.
    pub fn take(&mut self, step: StepReport) -> bool {
        let goes_on = step.state != StepState::Failing;
        self.steps.push(step);
        goes_on
    }

    /// Adds what was not reached, so that every step stands in it.
    pub fn close(&mut self) {
        for step in Step::ALL {
            if !self.steps.iter().any(|known| known.step == step) {
                self.steps.push(StepReport::untaken(step, StepState::NotReached, step.would_tell()));
            }
        }
        self.steps.sort_by_key(|report| report.step);
    }

    /// All that is the matter.
    pub fn findings(&self) -> impl Iterator<Item = &Finding> {
        self.steps.iter().flat_map(|step| &step.findings)
    }

    /// The remedies that Wendor can apply itself, in order: what `--mend N` counts, from 1.
    #[must_use]
    pub fn changes(&self) -> Vec<&Remedy> {
        self.findings().flat_map(|finding| &finding.remedies).filter(|remedy| remedy.as_change().is_some()).collect()
    }

    /// Whether the model was asked and answered.
    #[must_use]
    pub fn has_answered(&self) -> bool {
        let is_good = |step: &StepReport| matches!(step.state, StepState::Well | StepState::Noted);
        self.steps.iter().any(|step| step.step == Step::StreamedAnswer && is_good(step))
    }

    /// Whether nothing bars the way and nothing must be known.
    #[must_use]
    pub fn is_green(&self) -> bool {
        self.findings().next().is_none()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::diagnosis::finding::FindingKind;

    #[test]
    fn a_check_stops_at_what_bars_the_way_and_names_what_was_not_reached() {
        let mut report = Report::default();
        let noted = Judged::found("slow", Finding::noted(FindingKind::FamilyDead, "slow", vec![]));
        let failing =
            Judged::found("nobody", Finding::failing(FindingKind::NotHttp, "nobody", vec![Remedy::owner("x")]));
        assert!(report.take(StepReport::of(Step::Connection, "", noted, 1)));
        assert!(!report.take(StepReport::of(Step::Http, "", failing, 1)));
        report.close();
        let states: Vec<_> = report.steps.iter().map(|step| (step.step, step.state)).collect();
        assert_eq!(states.len(), Step::ALL.len());
        assert!(
            states.contains(&(Step::Connection, StepState::Noted))
                && states.contains(&(Step::Http, StepState::Failing))
        );
        assert_eq!(states.last(), Some(&(Step::Abilities, StepState::NotReached)));
        assert!(report.changes().is_empty(), "a sentence for the owner is nothing to apply");
    }

    #[test]
    fn a_report_tells_whether_it_is_green_and_what_can_be_applied() {
        let mut report = Report::default();
        assert!(report.is_green() && !report.has_answered());
        report.take(StepReport::of(
            Step::StreamedAnswer,
            "",
            Judged::well("well").beside(Some("slowly".to_owned())),
            1,
        ));
        assert!(report.is_green() && report.has_answered());
        assert_eq!(report.steps[0].came_back, "well; slowly");
        assert_eq!(Judged::default().beside(Some("slowly".to_owned())).came_back, "slowly");
        let remedy = Remedy::change("x", crate::diagnosis::remedy::Change::PlainHttp);
        let noted = Judged::found("", Finding::noted(FindingKind::NoUsage, "x", vec![Remedy::operator("y"), remedy]));
        report.take(StepReport::of(Step::WholeAnswer, "", noted, 1));
        assert!(!report.is_green() && report.has_answered());
        assert_eq!(report.changes().iter().map(|remedy| remedy.says.as_str()).collect::<Vec<_>>(), ["x"]);
    }

    #[test]
    fn a_failed_or_missing_answer_is_none() {
        let failing = Judged::found("", Finding::failing(FindingKind::NoAnswer, "x", vec![]));
        let mut report = Report::default();
        report.take(StepReport::of(Step::StreamedAnswer, "", failing, 1));
        report.take(StepReport::of(Step::Models, "", Judged::well(""), 1));
        assert!(!report.has_answered());
        assert_eq!(report.findings().count(), 1);
    }

    #[test]
    fn each_step_would_tell_something_of_its_own() {
        let told: std::collections::BTreeSet<&str> = Step::ALL.into_iter().map(Step::would_tell).collect();
        assert!(
            told.len() == Step::ALL.len() && told.contains("the host's addresses") && !told.contains(""),
            "{told:?}"
        );
    }
}
