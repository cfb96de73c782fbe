//! From rounds to a verdict: the median, how far the rounds lie apart, and whether that allows to say which side of the bar it is.

/// What was found of one measure.
#[derive(Clone, Debug)]
pub struct Found {
    /// What was measured.
    pub name: &'static str,
    /// In which unit the two figures are.
    pub unit: &'static str,
    /// The plain proxy's median; `None` where nothing is compared.
    pub plain: Option<f64>,
    /// Wendor's median.
    pub wendor: f64,
    /// What is held against the bar, one a round.
    pub rounds: Vec<f64>,
    /// What the figure held against the bar is.
    pub against: Against,
    /// At most this.
    pub bar: f64,
}

/// What is held against the bar.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Against {
    /// Wendor's figure over the plain proxy's.
    Ratio,
    /// Wendor's figure itself.
    Value,
}

/// What can be said.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// At or below the bar in every round.
    Within,
    /// Above it in every round.
    Above,
    /// Some rounds here, some there: the spread is too wide to say.
    Unclear,
}

/// The middle one; the mean of the two in the middle of an even number.
#[must_use]
pub fn median(values: &[f64]) -> f64 {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let middle = sorted.len() / 2;
    match (sorted.get(middle), sorted.len() % 2) {
        (Some(upper), 1) => *upper,
        (Some(upper), _) => (sorted.get(middle.wrapping_sub(1)).copied().unwrap_or(*upper) + upper) / 2.0,
        (None, _) => f64::NAN,
    }
}

impl Found {
    /// The median of what is held against the bar.
    #[must_use]
    pub fn held(&self) -> f64 {
        median(&self.rounds)
    }

    /// The least and the most of the rounds.
    #[must_use]
    pub fn spread(&self) -> (f64, f64) {
        self.rounds
            .iter()
            .fold((f64::INFINITY, f64::NEG_INFINITY), |(low, high), value| (low.min(*value), high.max(*value)))
    }

    /// What can be said.
    #[must_use]
    pub fn verdict(&self) -> Verdict {
        let (low, high) = self.spread();
        match (high <= self.bar, low > self.bar) {
            (true, _) => Verdict::Within,
            (false, true) => Verdict::Above,
            (false, false) => Verdict::Unclear,
        }
    }
}

impl Verdict {
    /// The verdict in words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Within => "within the bar",
            Self::Above => "above the bar",
            Self::Unclear => "spread too wide to say",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::odd(&[3.0, 1.0, 2.0], 2.0)]
    #[case::even(&[4.0, 1.0, 2.0, 3.0], 2.5)]
    #[case::one(&[7.0], 7.0)]
    fn the_middle(#[case] values: &[f64], #[case] middle: f64) {
        assert!((median(values) - middle).abs() < 1e-9);
    }

    #[rstest]
    #[case::below(&[1.1, 1.3, 1.9], Verdict::Within)]
    #[case::on_it(&[2.0], Verdict::Within)]
    #[case::above(&[2.1, 2.4], Verdict::Above)]
    #[case::on_both_sides(&[1.9, 2.0, 2.1], Verdict::Unclear)]
    fn a_verdict_needs_all_rounds_on_one_side(#[case] rounds: &[f64], #[case] verdict: Verdict) {
        let measured = Found {
            name: "",
            unit: "",
            plain: None,
            wendor: 0.0,
            rounds: rounds.to_vec(),
            against: Against::Ratio,
            bar: 2.0,
        };
        assert_eq!(measured.verdict(), verdict);
    }
}
