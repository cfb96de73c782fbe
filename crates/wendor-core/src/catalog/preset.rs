//! What a route adds to requests, as the catalogue has it: with variables that each request may fill.
//!
//! A variable stands in instructions and examples as `{{name}}`. It has a usual value, or a request has to say it. What a request says is put
//! in as it is and not looked through for further variables.

use std::collections::{BTreeMap, BTreeSet};
use std::num::NonZeroU32;

use rust_decimal::Decimal;
use serde::{Deserialize, Serialize};
use wendor_wire::estimate::tokens_of_bytes;
use wendor_wire::json::Number;
use wendor_wire::nearest::nearest;
use wendor_wire::preset::{Addition, ExampleTurn, PresetPart};

/// The longest value of a variable, in characters.
pub const LONGEST_VALUE: usize = 2_000;

/// What a route adds to requests.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Preset {
    /// Standing instructions.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub instructions: Option<String>,
    /// Variables with their usual values.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
    /// Variables that each request has to fill.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub required: BTreeSet<String>,
    /// Questions with the answers that show how to answer.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub examples: Vec<ExampleTurn>,
    /// From 0 to 2.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub temperature: Option<Decimal>,
    /// From 0 to 1.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub top_p: Option<Decimal>,
    /// A whole number.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seed: Option<u32>,
    /// From -2 to 2.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub presence_penalty: Option<Decimal>,
    /// From -2 to 2.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub frequency_penalty: Option<Decimal>,
    /// The most output tokens of one choice.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output_limit: Option<NonZeroU32>,
    /// Texts at which the answer ends.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub stop: Vec<String>,
    /// What requests cannot change.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    pub fixed: BTreeSet<PresetPart>,
}

/// Why what a request says of the variables cannot be taken, as the rest of a sentence that begins with where it says so.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum BadVariables {
    /// There is no such variable.
    #[error("names `{name}`, which is no variable of this route; {}", remedy(nearest.as_ref(), known))]
    Unknown {
        /// As the request has it.
        name: String,
        /// The nearest that there is.
        nearest: Option<String>,
        /// All that there are.
        known: Vec<String>,
    },
    /// One that a request has to say is missing.
    #[error("must give `{0}`, which this route needs: `{0}=VALUE`")]
    Missing(String),
    /// A value is too long.
    #[error("gives `{0}` a value longer than {LONGEST_VALUE} characters")]
    Long(String),
}

fn remedy(nearest: Option<&String>, known: &[String]) -> String {
    match (nearest, known) {
        (Some(nearest), _) => format!("did you mean `{nearest}`?"),
        (None, []) => "it has none".to_owned(),
        (None, known) => format!("known are {}", known.join(", ")),
    }
}

/// A piece of a text with variables.
#[derive(Debug, PartialEq, Eq)]
enum Piece<'t> {
    Text(&'t str),
    Variable(&'t str),
}

/// A text taken apart. What is opened and never closed is text.
fn pieces(text: &str) -> Vec<Piece<'_>> {
    let (mut pieces, mut rest) = (Vec::new(), text);
    while let Some((before, behind)) = rest.split_once("{{")
        && let Some((name, after)) = behind.split_once("}}")
    {
        pieces.push(Piece::Text(before));
        pieces.push(Piece::Variable(name.trim()));
        rest = after;
    }
    pieces.push(Piece::Text(rest));
    pieces
}

/// The variables that a text holds, in order.
pub fn variables_in(text: &str) -> impl Iterator<Item = &str> {
    pieces(text).into_iter().filter_map(|piece| match piece {
        Piece::Variable(name) => Some(name),
        Piece::Text(_) => None,
    })
}

impl Preset {
    /// Whether a variable of that name may be filled.
    #[must_use]
    pub fn knows(&self, name: &str) -> bool {
        self.variables.contains_key(name) || self.required.contains(name)
    }

    /// Every variable, in order of their names.
    #[must_use]
    pub fn names(&self) -> Vec<&str> {
        let names: BTreeSet<&str> = self.variables.keys().chain(&self.required).map(String::as_str).collect();
        names.into_iter().collect()
    }

    /// The parts that it has, with the value of each in words.
    #[must_use]
    pub fn parts(&self) -> Vec<(PresetPart, String)> {
        let count = |count: usize, one: &str| format!("{count} {one}{}", if count == 1 { "" } else { "s" });
        let number = |value: Option<Decimal>| value.map(|value| value.to_string());
        let all = [
            (PresetPart::Instructions, self.instructions.as_ref().map(|text| count(text.chars().count(), "character"))),
            (PresetPart::Examples, (!self.examples.is_empty()).then(|| count(self.examples.len(), "example"))),
            (PresetPart::Temperature, number(self.temperature)),
            (PresetPart::TopP, number(self.top_p)),
            (PresetPart::Seed, self.seed.map(|seed| seed.to_string())),
            (PresetPart::PresencePenalty, number(self.presence_penalty)),
            (PresetPart::FrequencyPenalty, number(self.frequency_penalty)),
            (PresetPart::OutputLimit, self.output_limit.map(|limit| format!("{limit} tokens"))),
            (PresetPart::Stop, (!self.stop.is_empty()).then(|| self.stop.join(", "))),
        ];
        all.into_iter().filter_map(|(part, value)| Some((part, value?))).collect()
    }

    /// Input tokens that it adds to a request with the usual values, by its length: four bytes a token.
    #[must_use]
    pub fn estimated_tokens(&self) -> u64 {
        let Ok(addition) = self.filled(&self.stand_ins(), false) else { return 0 };
        let examples = addition.examples.iter().map(|example| example.user.len() + example.assistant.len());
        let bytes = addition.instructions.as_ref().map_or(0, String::len) + examples.sum::<usize>();
        tokens_of_bytes(u64::try_from(bytes).unwrap_or(u64::MAX))
    }

    /// Values for the variables that have no usual one: their names, where it is only asked what would be added.
    #[must_use]
    pub fn stand_ins(&self) -> BTreeMap<String, String> {
        self.required.iter().map(|name| (name.clone(), name.clone())).collect()
    }

    /// What it adds to a request that says `given` of the variables. With `is_left_out` only what is fixed is added.
    ///
    /// # Errors
    /// [`BadVariables`] for one that is unknown, missing or too long.
    pub fn filled(&self, given: &BTreeMap<String, String>, is_left_out: bool) -> Result<Addition, BadVariables> {
        for (name, value) in given {
            if !self.knows(name) {
                let known: Vec<String> = self.names().into_iter().map(str::to_owned).collect();
                let nearest = nearest(name, known.iter().map(String::as_str)).map(str::to_owned);
                return Err(BadVariables::Unknown { name: name.clone(), nearest, known });
            }
            if value.chars().count() > LONGEST_VALUE {
                return Err(BadVariables::Long(name.clone()));
            }
        }
        let is_in = |part| !is_left_out || self.fixed.contains(&part);
        let fill = |text: &str| {
            let piece = |piece| match piece {
                Piece::Text(text) => Ok(text),
                Piece::Variable(name) => {
                    let value =
                        given.get(name).or_else(|| self.variables.get(name).filter(|_| !self.required.contains(name)));
                    value.map(String::as_str).ok_or_else(|| BadVariables::Missing(name.to_owned()))
                }
            };
            pieces(text).into_iter().map(piece).collect::<Result<String, BadVariables>>()
        };
        let example = |example: &ExampleTurn| {
            Ok(ExampleTurn { user: fill(&example.user)?, assistant: fill(&example.assistant)? })
        };
        let instructions = self.instructions.as_ref().filter(|_| is_in(PresetPart::Instructions));
        let examples = if is_in(PresetPart::Examples) { self.examples.as_slice() } else { &[] };
        let decimal = |value: Option<Decimal>| value.and_then(|value| Number::parse(&value.to_string()));
        let numbers = [
            (PresetPart::Temperature, decimal(self.temperature)),
            (PresetPart::TopP, decimal(self.top_p)),
            (PresetPart::Seed, self.seed.map(|seed| Number::from(u64::from(seed)))),
            (PresetPart::PresencePenalty, decimal(self.presence_penalty)),
            (PresetPart::FrequencyPenalty, decimal(self.frequency_penalty)),
        ];
        Ok(Addition {
            instructions: instructions.map(|text| fill(text)).transpose()?,
            examples: examples.iter().map(example).collect::<Result<_, BadVariables>>()?,
            numbers: numbers
                .into_iter()
                .filter(|(part, _)| is_in(*part))
                .filter_map(|(part, number)| Some((part, number?)))
                .collect(),
            output_limit: self.output_limit.filter(|_| is_in(PresetPart::OutputLimit)).map(|limit| limit.get().into()),
            stop: if is_in(PresetPart::Stop) { self.stop.clone() } else { Vec::new() },
            fixed: self.fixed.iter().copied().collect(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn preset() -> Preset {
        Preset {
            instructions: Some("You answer for {{ ferry }} at {{harbour}}.".to_owned()),
            variables: [("ferry".to_owned(), "Storm Petrel".to_owned())].into(),
            required: ["harbour".to_owned()].into(),
            examples: vec![ExampleTurn { user: "{{harbour}}?".to_owned(), assistant: "Yes.".to_owned() }],
            temperature: Some(Decimal::new(20, 2)),
            stop: vec!["END".to_owned()],
            output_limit: NonZeroU32::new(60),
            fixed: [PresetPart::Stop].into(),
            ..Preset::default()
        }
    }

    fn given(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[rstest]
    #[case::the_usual(&[("harbour", "North Pier")], "You answer for Storm Petrel at North Pier.")]
    #[case::its_own(&[("harbour", "Pier 2"), ("ferry", "Skua")], "You answer for Skua at Pier 2.")]
    #[case::no_variable_in_a_value(&[("harbour", "{{ferry}}")], "You answer for Storm Petrel at {{ferry}}.")]
    #[case::empty(&[("harbour", "")], "You answer for Storm Petrel at .")]
    fn variables_are_filled(#[case] pairs: &[(&str, &str)], #[case] expected: &str) {
        let addition = preset().filled(&given(pairs), false).unwrap();
        assert_eq!(addition.instructions.as_deref(), Some(expected));
        assert_eq!(addition.examples[0].user, format!("{}?", given(pairs)["harbour"]));
        assert_eq!((addition.numbers[0].1.as_str(), addition.output_limit), ("0.20", Some(60)));
    }

    #[rstest]
    #[case::missing(&[], "must give `harbour`, which this route needs: `harbour=VALUE`")]
    #[case::unknown(&[("harbor", "x")], "names `harbor`, which is no variable of this route; did you mean `harbour`?")]
    #[case::far(&[("q", "x")], "names `q`, which is no variable of this route; known are ferry, harbour")]
    fn what_cannot_be_filled_is_told(#[case] pairs: &[(&str, &str)], #[case] says: &str) {
        assert_eq!(preset().filled(&given(pairs), false).unwrap_err().to_string(), says);
    }

    #[test]
    fn a_value_has_an_end() {
        let long = given(&[("harbour", &"x".repeat(LONGEST_VALUE + 1))]);
        assert_eq!(preset().filled(&long, false), Err(BadVariables::Long("harbour".to_owned())));
        let most = given(&[("harbour", &"ø".repeat(LONGEST_VALUE))]);
        assert!(preset().filled(&most, false).is_ok());
    }

    #[test]
    fn left_out_it_adds_what_is_fixed() {
        let addition = preset().filled(&given(&[]), true).unwrap();
        let only = Addition { stop: vec!["END".to_owned()], fixed: vec![PresetPart::Stop], ..Addition::default() };
        assert_eq!(addition, only);
    }

    #[rstest]
    #[case::none("no variables", &[])]
    #[case::two("{{a}} {{ b }}{{a}}", &["a", "b", "a"])]
    #[case::never_closed("{{a}} {{b", &["a"])]
    #[case::braces("{a} }}", &[])]
    fn where_variables_stand(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(variables_in(text).collect::<Vec<_>>(), expected);
    }
}
