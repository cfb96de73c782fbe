//! How far an attempt has come, as seen from outside: what is counted where it ends without an answer of its own.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use wendor_wire::conversation::facts::Facts;
use wendor_wire::estimate::tokens_of_bytes;
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};

/// Whether an answer came to its end.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Reach {
    /// It did.
    Whole,
    /// It broke, or its app went away.
    Part,
}

/// How far an answer came.
#[derive(Clone, Copy, Debug, Default)]
pub struct Progress {
    /// Usage, if the upstream reported it.
    pub usage: Option<TokenCounts>,
    /// Bytes of answer so far, for an estimate.
    pub output_bytes: u64,
    /// Images so far.
    pub images: Images,
    /// Whether the model was at its end.
    pub is_finished: bool,
}

/// What an answer used, before it is priced.
#[derive(Clone, Copy, Debug)]
pub struct Counts {
    /// Counted of the text so far, until the upstream tells its own.
    pub tokens: TokenCounts,
    /// Images that came so far.
    pub images: Images,
    /// Where both come from.
    pub counted: Counted,
}

impl Progress {
    /// What is known of an answer.
    #[must_use]
    pub fn of(facts: Facts) -> Self {
        let Facts { counts, output_bytes, images, is_finished, usage: _, is_at_cap: _, left_out: _ } = facts;
        Self { usage: counts, output_bytes, images, is_finished }
    }

    /// The upstream has refused the request: it used nothing.
    #[must_use]
    pub fn nothing() -> Self {
        Self { usage: Some(TokenCounts::default()), is_finished: true, ..Self::default() }
    }

    /// What it used, having come so far.
    #[must_use]
    pub fn used(&self, reach: Reach, input_estimate: u64) -> Counts {
        match reach {
            Reach::Whole => self.answered(input_estimate),
            Reach::Part => self.unfinished(input_estimate),
        }
    }

    /// What an answer that came to its end used: as reported, or as estimated by what came.
    fn answered(&self, input_estimate: u64) -> Counts {
        match self.usage {
            Some(usage) => self.counts(usage, Counted::Reported),
            None => self.counts(self.estimate(input_estimate), Counted::Estimated),
        }
    }

    /// What an answer that did not come to its end used, as far as can be told.
    #[must_use]
    pub fn unfinished(&self, input_estimate: u64) -> Counts {
        match self.usage {
            // The model was done: what it reported then is all of it, whatever became of the rest of the way.
            Some(usage) if self.is_finished => self.counts(usage, Counted::Reported),
            usage => {
                let tokens = TokenCounts::unfinished(usage, self.estimate(input_estimate));
                self.counts(tokens, Counted::Estimated)
            }
        }
    }

    fn counts(&self, tokens: TokenCounts, counted: Counted) -> Counts {
        Counts { tokens, images: self.images, counted }
    }

    fn estimate(&self, input: u64) -> TokenCounts {
        TokenCounts { input, output: tokens_of_bytes(self.output_bytes), ..TokenCounts::default() }
    }
}

/// What the try tells of its progress while it is under way, shared with whoever settles it should it never return.
#[derive(Debug, Default)]
pub struct Seen {
    /// Whether the upstream's connection has taken the request. Relaxed: it is read once all is over.
    was_sent: AtomicBool,
    has_begun: AtomicBool,
    /// Whether the connection was one that was kept, and closed before a byte of an answer.
    was_closed_before: AtomicBool,
    progress: Mutex<Progress>,
}

impl Seen {
    /// The upstream takes the request's body.
    pub fn sent(&self) {
        self.was_sent.store(true, Ordering::Relaxed);
    }

    /// The upstream answers, with a status of success.
    pub fn begun(&self) {
        self.has_begun.store(true, Ordering::Relaxed);
    }

    /// A connection that was kept turned out closed.
    pub fn closed_before(&self) {
        self.was_closed_before.store(true, Ordering::Relaxed);
    }

    /// Whether a connection that was kept turned out closed.
    #[must_use]
    pub fn was_closed_before(&self) -> bool {
        self.was_closed_before.load(Ordering::Relaxed)
    }

    /// It has come so far.
    pub fn note(&self, facts: Facts) {
        *self.progress.lock().unwrap_or_else(PoisonError::into_inner) = Progress::of(facts);
    }

    /// Whether the request was sent, and whether an answer had begun.
    #[must_use]
    pub fn marks(&self) -> (bool, bool) {
        (self.was_sent.load(Ordering::Relaxed), self.has_begun.load(Ordering::Relaxed))
    }

    /// How far it has come.
    #[must_use]
    pub fn progress(&self) -> Progress {
        *self.progress.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const OPENING: TokenCounts =
        TokenCounts { input: 30, input_cached: 0, cache_written: 0, output: 1, reasoning: 0, preset: 0 };

    #[rstest]
    #[case::opening_usage_alone(Some(OPENING), 1_676, false, (30, 419), Counted::Estimated)]
    #[case::nothing_reported(None, 400, false, (12, 100), Counted::Estimated)]
    #[case::the_model_was_done(Some(OPENING), 1_676, true, (30, 1), Counted::Reported)]
    #[case::done_without_usage(None, 400, true, (12, 100), Counted::Estimated)]
    fn what_an_unfinished_answer_used(
        #[case] usage: Option<TokenCounts>,
        #[case] output_bytes: u64,
        #[case] is_finished: bool,
        #[case] tokens: (u64, u64),
        #[case] counted: Counted,
    ) {
        let progress = Progress { usage, output_bytes, is_finished, ..Progress::default() };
        let counts = progress.unfinished(12);
        assert_eq!(((counts.tokens.input, counts.tokens.output), counts.counted), (tokens, counted));
    }
}
