//! What the preset of its route added to a request, as its record has it. The texts themselves stand in the catalogue's revision.

use serde::{Deserialize, Serialize};
use wendor_wire::preset::{PresetFate, PresetLine, PresetPart};

use crate::catalog::preset::Preset;

/// A part of a preset with what became of it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct PresetPartDone {
    /// Which.
    pub part: PresetPart,
    /// What became of it.
    pub fate: PresetFate,
    /// Its value, or how much of it there is.
    pub value: String,
}

/// How much of a request's input its preset is, by their lengths: no service counts it apart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct PresetShare {
    added: u64,
    of: u64,
}

impl PresetShare {
    /// Of a request that has been estimated without and with it, in input tokens.
    #[must_use]
    pub fn of(without: u64, with: u64) -> Self {
        Self { added: with.saturating_sub(without), of: with }
    }

    /// The part of so many input tokens.
    ///
    /// ```
    /// use wendor_core::metering::preset::PresetShare;
    /// assert_eq!(PresetShare::of(10, 40).part_of(100), 75);
    /// assert_eq!(PresetShare::of(0, 0).part_of(100), 0);
    /// ```
    #[must_use]
    pub fn part_of(self, all_input: u64) -> u64 {
        let part = u128::from(self.added) * u128::from(all_input);
        let part = part.checked_div(u128::from(self.of)).unwrap_or_default();
        u64::try_from(part).unwrap_or(u64::MAX).min(all_input)
    }
}

/// What became of a preset.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct PresetOnRecord {
    /// Its parts.
    pub parts: Vec<PresetPartDone>,
    /// The variables that the request filled; their values are its own and not kept.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub variables: Vec<String>,
}

impl PresetOnRecord {
    /// The parts of `preset`, with what became of each by `lines`.
    #[must_use]
    pub fn of(preset: &Preset, lines: &[PresetLine], variables: Vec<String>) -> Self {
        let values = preset.parts();
        let done = |line: &PresetLine| {
            let (_, value) = values.iter().find(|(part, _)| *part == line.part)?;
            Some(PresetPartDone { part: line.part, fate: line.fate, value: value.clone() })
        };
        Self { parts: lines.iter().filter_map(done).collect(), variables }
    }

    fn named(&self, fate: PresetFate) -> Vec<String> {
        let parts = self.parts.iter().filter(|done| done.fate == fate);
        parts.map(|done| named(done.part, &done.value)).collect()
    }

    /// In sentences. `tokens` of `all_input` tokens of input are its part.
    #[must_use]
    pub fn words(&self, tokens: u64, all_input: u64) -> String {
        let sentence = |fate, before: &str, after: &str| {
            let parts = self.named(fate);
            (!parts.is_empty()).then(|| format!("{before}{}{after}.", joined(&parts)))
        };
        let share = if tokens > 0 { format!(": about {tokens} of {all_input} input tokens") } else { String::new() };
        let sentences = [
            sentence(PresetFate::Added, "The route's preset added ", &share),
            sentence(PresetFate::OwnReplaced, "The route fixes ", ", which took the place of what the request said"),
            sentence(PresetFate::OwnKept, "The request said its own instead of ", ""),
            sentence(
                PresetFate::Unsaid,
                "The app's dialect has no member for ",
                ", which offers of other dialects get",
            ),
            sentence(PresetFate::LeftOut, "Such a request has no place for ", ""),
        ];
        sentences.into_iter().flatten().collect::<Vec<_>>().join(" ")
    }

    /// What the app is told of what it said and does not count.
    pub fn notes(&self) -> impl Iterator<Item = String> {
        let replaced = self.parts.iter().filter(|done| done.fate == PresetFate::OwnReplaced);
        replaced.map(|done| format!("{}: {}, fixed by the route", done.part, done.value))
    }
}

/// What a preset adds, within a sentence.
#[must_use]
pub fn words_of(preset: &Preset) -> String {
    let parts: Vec<String> = preset.parts().iter().map(|(part, value)| named(*part, value)).collect();
    joined(&parts)
}

/// A part with its value, within a sentence.
fn named(part: PresetPart, value: &str) -> String {
    match part {
        PresetPart::Instructions => format!("instructions ({value})"),
        PresetPart::Examples => value.to_owned(),
        PresetPart::Stop => format!("stop text {value}"),
        PresetPart::OutputLimit => format!("a limit of {value}"),
        PresetPart::Temperature
        | PresetPart::TopP
        | PresetPart::Seed
        | PresetPart::PresencePenalty
        | PresetPart::FrequencyPenalty => format!("{} {value}", part.as_str().replace('_', " ")),
    }
}

fn joined(parts: &[String]) -> String {
    match parts {
        [] => String::new(),
        [one] => one.clone(),
        [all @ .., last] => format!("{} and {last}", all.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::num::NonZeroU32;

    #[test]
    fn what_became_of_it_is_told_in_sentences() {
        let preset = Preset {
            instructions: Some("Answer passengers.".to_owned()),
            temperature: Some(rust_decimal::Decimal::new(2, 1)),
            output_limit: NonZeroU32::new(60),
            stop: vec!["END".to_owned()],
            ..Preset::default()
        };
        let line = |part, fate| PresetLine { part, fate };
        let lines = [
            line(PresetPart::Instructions, PresetFate::Added),
            line(PresetPart::OutputLimit, PresetFate::Added),
            line(PresetPart::Temperature, PresetFate::OwnReplaced),
            line(PresetPart::Stop, PresetFate::Unsaid),
        ];
        let record = PresetOnRecord::of(&preset, &lines, vec!["ferry".to_owned()]);
        assert_eq!(
            record.words(30, 90),
            "The route's preset added instructions (18 characters) and a limit of 60 tokens: about 30 of 90 input tokens. The route \
             fixes temperature 0.2, which took the place of what the request said. The app's dialect has no member for stop text END, \
             which offers of other dialects get."
        );
        assert_eq!(record.notes().collect::<Vec<_>>(), ["temperature: 0.2, fixed by the route"]);
        let again: PresetOnRecord = serde_json::from_str(&serde_json::to_string(&record).unwrap()).unwrap();
        assert_eq!(again, record);
    }
}
