//! How many tokens the bytes of a request are at one offer: learnt from what its upstream reports, since every model cuts text in its
//! own way and four bytes a token is right for none of them.
//!
//! An estimate by bytes and the reported count enter after each answer; a corrected estimate leaves, with how far off the estimates were.

use wendor_wire::estimate::BYTES_PER_TOKEN;

/// Where the sums are halved, so that what was long ago weighs less: some hundred usual requests.
const HALVED_AT: u64 = 200_000;

/// Before so many estimated tokens were compared nothing is corrected.
const LEAST: u64 = 200;

/// Parts of a thousand.
const PERMILLE: u64 = 1_000;

/// The least and the most that a ratio is believed to be: a report beyond is of something else than the text.
const BELIEVED: std::ops::RangeInclusive<u64> = 100..=8_000;

/// What is known of one offer.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Calibration {
    estimated: u64,
    reported: u64,
    /// Sum of how far each corrected estimate was off.
    off: u64,
}

impl Calibration {
    /// Compares an estimate by bytes with what the upstream reported of the same input.
    pub fn learn(&mut self, estimated: u64, reported: u64) {
        if estimated == 0 || !BELIEVED.contains(&(reported.saturating_mul(PERMILLE) / estimated)) {
            return;
        }
        self.off = self.off.saturating_add(self.corrected(estimated).abs_diff(reported));
        self.estimated = self.estimated.saturating_add(estimated);
        self.reported = self.reported.saturating_add(reported);
        if self.estimated > HALVED_AT {
            (self.estimated, self.reported, self.off) = (self.estimated / 2, self.reported / 2, self.off / 2);
        }
    }

    /// Reported tokens for a thousand estimated ones; a thousand before anything is known.
    #[must_use]
    pub fn ratio_permille(&self) -> u64 {
        if self.estimated < LEAST { PERMILLE } else { self.reported.saturating_mul(PERMILLE) / self.estimated }
    }

    /// Bytes of a request that make one token of its input, in hundredths; `None` before anything is known.
    #[must_use]
    pub fn bytes_a_token_hundredths(&self) -> Option<u64> {
        (self.estimated >= LEAST).then(|| BYTES_PER_TOKEN * 100 * PERMILLE / self.ratio_permille().max(1))
    }

    /// How far corrected estimates are off on average, in parts of a thousand of what was reported; `None` before anything is known.
    #[must_use]
    pub fn error_permille(&self) -> Option<u64> {
        (self.estimated >= LEAST).then(|| self.off.saturating_mul(PERMILLE) / self.reported.max(1))
    }

    /// The estimate for an input of `estimated` tokens by bytes.
    ///
    /// ```
    /// use wendor_core::metering::calibration::Calibration;
    /// let mut known = Calibration::default();
    /// assert_eq!(known.corrected(1_000), 1_000);
    /// known.learn(1_000, 1_300);
    /// assert_eq!(known.corrected(100), 130);
    /// ```
    #[must_use]
    pub fn corrected(&self, estimated: u64) -> u64 {
        estimated.saturating_mul(self.ratio_permille()).div_ceil(PERMILLE)
    }

    /// What to reserve for it: the corrected estimate and the usual error.
    #[must_use]
    pub fn reserved(&self, estimated: u64) -> u64 {
        let corrected = self.corrected(estimated);
        let error = corrected.saturating_mul(self.error_permille().unwrap_or(0)).div_ceil(PERMILLE);
        corrected.saturating_add(error)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_report_beyond_belief_teaches_nothing() {
        let mut known = Calibration::default();
        known.learn(1_000, 1_200);
        let before = known;
        assert_eq!(known.bytes_a_token_hundredths(), Some(333));
        known.learn(1_000, u64::MAX);
        known.learn(0, 9);
        known.learn(100_000, 1);
        assert_eq!(known, before);
    }

    #[test]
    fn what_is_long_ago_counts_half() {
        let mut known = Calibration::default();
        known.learn(HALVED_AT, 2 * HALVED_AT);
        assert_eq!(known, Calibration { estimated: HALVED_AT, reported: 2 * HALVED_AT, off: HALVED_AT });
        known.learn(10, 20);
        let (estimated, reported) = ((HALVED_AT + 10) / 2, HALVED_AT + 10);
        assert_eq!(known, Calibration { estimated, reported, off: HALVED_AT / 2 });
        assert_eq!((known.ratio_permille(), known.error_permille()), (2_000, Some(499)));
    }

    proptest! {
        /// An offer whose ratio is always the same is estimated right, whatever the sizes of its requests.
        #[test]
        fn a_steady_ratio_is_learnt(sizes in prop::collection::vec(50u64..5_000, 20..60), ratio in 300u64..3_000) {
            let mut known = Calibration::default();
            for size in &sizes {
                known.learn(*size, size * ratio / 1_000);
            }
            let (expected, found) = (1_000 * ratio / 1_000, known.corrected(1_000));
            prop_assert!(found.abs_diff(expected) <= 1 + expected / 20, "{} for {}", found, expected);
            prop_assert!(known.reserved(1_000) >= found);
        }
    }

    #[test]
    fn it_is_believed_from_the_least_on() {
        let mut known = Calibration::default();
        known.learn(LEAST - 1, 2 * (LEAST - 1));
        assert_eq!((known.ratio_permille(), known.bytes_a_token_hundredths()), (PERMILLE, None));
        known.learn(1, 2);
        assert_eq!((known.ratio_permille(), known.error_permille().is_some()), (2 * PERMILLE, true));
    }
}
