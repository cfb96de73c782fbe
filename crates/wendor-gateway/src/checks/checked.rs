//! What a check came to, step by step, and who watches it.

use std::collections::BTreeMap;

use tokio::sync::mpsc::UnboundedSender;
use wendor_core::diagnosis::answer;
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::proof::{Outcome, Proof};
use wendor_core::diagnosis::report::{Judged, Report, Step, StepReport, StepState};
use wendor_core::diagnosis::speech::Found;

use super::Time;

/// What a watcher is told.
#[derive(Clone, Debug)]
pub enum Progress {
    /// A step begins.
    Begins(Step),
    /// It is over.
    Ended(StepReport),
}

/// Who watches a check. Whether anybody listens any more does not matter to it.
pub type Watcher = UnboundedSender<Progress>;

/// What a check came to.
#[derive(Debug, Default)]
pub struct Checked {
    /// Every step.
    pub report: Report,
    /// Where the API is, and in which dialect.
    pub found: Option<Found>,
    /// What is served there.
    pub inventory: Option<Inventory>,
    /// What came of each proof, with the model.
    pub proofs: BTreeMap<Proof, Outcome>,
    /// The model that was asked.
    pub model: Option<String>,
    watcher: Option<Watcher>,
    running: Option<Step>,
}

impl Checked {
    /// Nothing yet.
    #[must_use]
    pub fn watched_by(watcher: Option<Watcher>) -> Self {
        Self { watcher, ..Self::default() }
    }

    fn tell(&self, told: Progress) {
        if let Some(watcher) = &self.watcher {
            let _nobody_listens = watcher.send(told);
        }
    }

    /// A step begins.
    pub(super) fn begins(&mut self, step: Step) {
        self.running = Some(step);
        self.tell(Progress::Begins(step));
    }

    /// A step is over; `None` where it bars the way. Then its remedies are tried before it is told of.
    pub(super) fn take(&mut self, step: StepReport) -> Option<()> {
        self.running = None;
        if step.state != StepState::Failing {
            self.tell(Progress::Ended(step.clone()));
        }
        self.report.take(step).then_some(())
    }

    /// Steps that cost something and were not asked for.
    pub(super) fn not_asked(&mut self, steps: &[Step], why: &str) {
        self.running = None;
        for step in steps {
            let step = StepReport::untaken(*step, StepState::NotAsked, why);
            self.tell(Progress::Ended(step.clone()));
            self.report.take(step);
        }
    }

    /// The time of the check is over in the middle of a step.
    pub(super) fn time_is_up(&mut self, time: Time) {
        let Some(step) = self.running.take() else { return };
        let finding = answer::time_up(&format!("The step `{}`", step.as_str()), time.given.as_secs());
        let took_us = u64::try_from(time.given.as_micros()).unwrap_or(u64::MAX);
        self.report.take(StepReport::of(step, "", Judged::found("not over yet", finding), took_us));
    }

    /// The check is over: what bars the way is told of, and what was not reached.
    pub(super) fn close(&mut self) {
        let failing = self.report.steps.iter().find(|step| step.state == StepState::Failing).cloned();
        failing.into_iter().for_each(|step| self.tell(Progress::Ended(step)));
        self.report.close();
        self.watcher = None;
    }
}
