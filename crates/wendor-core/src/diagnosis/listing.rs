//! The models that a server lists, with all that it tells of them, and what they are beside an upstream's offers.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::Value;
use wendor_wire::ability::Ability;
use wendor_wire::nearest::nearest;

use super::finding::{Finding, FindingKind};
use super::refusal::quoted;
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::seen::Heard;
use crate::catalog::upstream::Upstream;
use crate::catalog::weights::{OtherWeights, is_same_digest};
use crate::shown::{is_hidden, shown};
use crate::words;

/// Names under which servers tell how many tokens prompt and answer may have together.
const WINDOWS: [&str; 7] = [
    "context_window",
    "context_length",
    "max_context_length",
    "max_model_len",
    "max_input_tokens",
    "inputTokenLimit",
    "input_token_limit",
];

/// Names under which they tell how many tokens an answer may have.
const CAPS: [&str; 4] = ["max_tokens", "max_output_tokens", "outputTokenLimit", "output_token_limit"];

/// A model as its server tells of it.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ModelSeen {
    /// As the server spells it, tag and folder included.
    pub name: String,
    /// The digest of its weights.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub digest: Option<String>,
    /// How large these are.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size_bytes: Option<u64>,
    /// Tokens of prompt and answer together.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub context_window: Option<u32>,
    /// Tokens of an answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub output_cap: Option<u32>,
    /// What it can do; nothing was told when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub abilities: Option<Vec<Ability>>,
    /// What else is told, by the words of [`crate::catalog::weights::ABOUT`].
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub about: BTreeMap<String, String>,
    /// Whether it is loaded, and the memory that it holds then; nothing was told when absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub loaded_bytes: Option<u64>,
}

/// The models of a listing in any dialect.
#[must_use]
pub fn read(body: &Value) -> Vec<ModelSeen> {
    let list = body.get("data").or_else(|| body.get("models")).and_then(Value::as_array);
    list.map_or(&[][..], Vec::as_slice).iter().filter_map(model).collect()
}

fn model(entry: &Value) -> Option<ModelSeen> {
    let text = |name: &str| entry.get(name).and_then(Value::as_str).map(str::to_owned);
    let name = text("id").or_else(|| text("model")).or_else(|| text("name"))?;
    let name = name.strip_prefix("models/").map(str::to_owned).unwrap_or(name);
    // No offer could be made of it, and nothing else of it should be shown.
    if name.contains(|letter: char| letter.is_control() || is_hidden(letter)) {
        return None;
    }
    let number = |names: &[&str]| {
        let value = names.iter().find_map(|name| entry.get(name).and_then(Value::as_u64));
        value.and_then(|number| u32::try_from(number).ok()).filter(|number| *number > 0)
    };
    let detail = |name: &str| entry.pointer(&format!("/details/{name}")).and_then(Value::as_str).map(str::to_owned);
    let about = [
        ("format", detail("format").or_else(|| text("format"))),
        ("family", detail("family").or_else(|| text("family"))),
        ("parameters", detail("parameter_size").or_else(|| text("parameters"))),
        ("precision", detail("quantization_level").or_else(|| text("quantization")).or_else(|| text("precision"))),
    ];
    let known = about.into_iter().filter_map(|(word, value)| Some((word.to_owned(), shown(&value?).into_owned())));
    let methods = entry.get("supportedGenerationMethods").and_then(Value::as_array);
    let embeds = methods.is_some_and(|methods| methods.iter().any(|method| method.as_str() == Some("embedContent")));
    let chats = methods.is_none_or(|methods| methods.iter().any(|method| method.as_str() == Some("generateContent")));
    Some(ModelSeen {
        name,
        digest: text("digest"),
        size_bytes: entry.get("size").and_then(Value::as_u64),
        context_window: number(&WINDOWS),
        output_cap: number(&CAPS),
        abilities: (embeds && !chats).then(|| vec![Ability::Embeddings]),
        about: known.filter(|(_, value)| !value.is_empty()).collect(),
        loaded_bytes: None,
    })
}

/// Adds what a local server shows of a model when it is asked about it alone.
pub fn add_shown(model: &mut ModelSeen, shown: &Value) {
    let window = shown.get("model_info").and_then(Value::as_object).and_then(|info| {
        let is_window = |(name, _): &(&String, &Value)| name.ends_with(".context_length");
        info.iter().find(is_window).and_then(|(_, value)| value.as_u64())
    });
    model.context_window = window.and_then(|window| u32::try_from(window).ok()).or(model.context_window);
    if let Some(words) = shown.get("capabilities").and_then(Value::as_array) {
        let has = |word: &str| words.iter().any(|known| known.as_str() == Some(word));
        let mut abilities = if has("completion") {
            vec![Ability::Chat, Ability::Streaming, Ability::Whole, Ability::Json]
        } else {
            Vec::new()
        };
        let further = [
            ("tools", Ability::Tools),
            ("vision", Ability::ImagesIn),
            ("thinking", Ability::Reasoning),
            ("embedding", Ability::Embeddings),
        ];
        abilities.extend(further.iter().filter(|(word, _)| has(word)).map(|(_, ability)| *ability));
        model.abilities = Some(abilities);
    }
}

/// Adds which models are loaded, from what a local server has running.
pub fn add_loaded(models: &mut [ModelSeen], running: &Value) {
    let list = running.get("models").and_then(Value::as_array).map_or(&[][..], Vec::as_slice);
    for entry in list {
        let name = entry.get("model").or_else(|| entry.get("name")).and_then(Value::as_str).unwrap_or_default();
        let bytes = ["size_vram", "size"].iter().find_map(|member| entry.get(member).and_then(Value::as_u64));
        if let Some(model) = models.iter_mut().find(|model| is_called(&model.name, name)) {
            model.loaded_bytes = Some(bytes.unwrap_or(0));
        }
    }
}

/// Whether a listed name is what an offer calls its model: a local name may lack its usual tag.
#[must_use]
pub fn is_called(listed: &str, offered: &str) -> bool {
    listed == offered
        || listed.strip_suffix(":latest") == Some(offered)
        || offered.strip_suffix(":latest") == Some(listed)
}

/// A model's weights at another upstream.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct Elsewhere {
    /// The model.
    pub model: String,
    /// Another upstream that serves the same name.
    pub upstream: String,
    /// Digest that the other one lists, as it writes it.
    pub digest: String,
}

/// Judges what is listed beside what is offered.
#[must_use]
pub fn judge(upstream: &Upstream, seen: &[ModelSeen], elsewhere: &[Elsewhere]) -> Judged {
    let names: BTreeSet<&str> = seen.iter().map(|model| model.name.as_str()).collect();
    let came_back = match seen.len() {
        0 => "none are listed".to_owned(),
        1 => format!("one: {}", seen.first().map_or("", |model| &model.name)),
        count => format!(
            "{count}: {}{}",
            names.iter().take(4).copied().collect::<Vec<_>>().join(", "),
            if count > 4 { ", .." } else { "" }
        ),
    };
    if seen.is_empty() {
        let says = "The server lists no models: none is loaded, or the key may use none.";
        let owner = "Your model server lists no models; is one loaded, and may our key use it?";
        return Judged::found(came_back, Finding::failing(FindingKind::NoModels, says, vec![Remedy::owner(owner)]));
    }
    let mut judged = Judged::well(came_back);
    for (model, offer) in &upstream.offers {
        match seen.iter().find(|seen| is_called(&seen.name, model)) {
            None => {
                judged.findings.push(unknown(model, &names));
                return judged;
            }
            Some(seen) => {
                let pin = offer.weights.as_ref().map(|pin| (pin.digest.as_str(), pin.otherwise));
                judged.findings.extend(other_weights(seen, model, pin, elsewhere));
            }
        }
    }
    judged
}

/// The model is listed, and is refused all the same.
#[must_use]
pub fn may_not_be_used(model: &str, heard: &Heard) -> Finding {
    let (status, quoted) = (heard.status, quoted(heard));
    let says = format!(
        "The server lists {model} and refuses to serve it ({status}): the key may not use it, or it is listed and not loaded.{quoted}"
    );
    let owner = format!("You list {model} and answer {status} for it; may our key use it, and is it loaded?");
    Finding::failing(FindingKind::ModelRefused, says, vec![Remedy::owner(owner)])
}

/// The server answers a name that it does not list: it goes by none.
#[must_use]
pub fn any_name(model: &str, names: &BTreeSet<&str>) -> Finding {
    let listed = names.iter().take(4).copied().collect::<Vec<_>>().join(", ");
    let says = format!(
        "The server lists {listed} and answers to {model} as well: it does not look at the name, so both names work, and the server decides which model answers."
    );
    let rename = |to: &str| {
        Remedy::change(format!("Offer it as {to}"), Change::Model { from: model.to_owned(), to: to.to_owned() })
    };
    Finding::noted(FindingKind::AnyName, says, names.first().map(|name| rename(name)).into_iter().collect())
}

/// The model that an offer names is not there.
#[must_use]
pub fn unknown(model: &str, names: &BTreeSet<&str>) -> Finding {
    let rename = |to: &str| {
        Remedy::change(format!("Offer {to} instead"), Change::Model { from: model.to_owned(), to: to.to_owned() })
    };
    let tagged: Vec<&str> =
        names.iter().copied().filter(|name| name.split_once(':').is_some_and(|(family, _)| family == model)).collect();
    if !tagged.is_empty() {
        let says = format!("There is no {model} without a tag; the server has {}.", tagged.join(" and "));
        return Finding::failing(FindingKind::TagMissing, says, tagged.into_iter().map(rename).collect());
    }
    let stem = |name: &str| name.split(':').next().unwrap_or_default().to_owned();
    let stems: Vec<String> = names.iter().map(|name| stem(name)).collect();
    let by_stem = || {
        let near = nearest(&stem(model), stems.iter().map(String::as_str))?.to_owned();
        names.iter().copied().find(|name| stem(name) == near)
    };
    // Where there is one alone, it is that which is meant, whatever it is called.
    let only = || names.first().copied().filter(|_| names.len() == 1);
    let near = nearest(model, names.iter().copied()).or_else(by_stem);
    let mut remedies: Vec<Remedy> = near.or_else(only).into_iter().map(rename).collect();
    let near = match (near, only()) {
        (Some(near), _) => format!(" Nearest: {near}."),
        (None, Some(only)) => format!(" The one that it has is {only}."),
        (None, None) => String::new(),
    };
    if remedies.is_empty() {
        remedies.push(Remedy::owner(format!(
            "We expect the model {model} on your server, and it does not have it; could you load it?"
        )));
    }
    Finding::failing(FindingKind::ModelUnknown, format!("The server has no model called {model}.{near}"), remedies)
}

fn other_weights(
    seen: &ModelSeen,
    model: &str,
    pin: Option<(&str, OtherWeights)>,
    elsewhere: &[Elsewhere],
) -> Option<Finding> {
    let digest = seen.digest.as_deref()?;
    let accept =
        |says: String| Remedy::change(says, Change::Weights { model: model.to_owned(), to: digest.to_owned() });
    if let Some((pinned, otherwise)) = pin {
        if is_same_digest(pinned, digest) {
            return None;
        }
        let says = format!(
            "{model} is pinned to the weights {}, and the server has {} under that name.",
            words::digest(pinned),
            words::digest(digest)
        );
        let remedies = vec![accept(format!("Pin it to {} instead", words::digest(digest)))];
        return Some(match otherwise {
            OtherWeights::Stop => Finding::failing(FindingKind::OtherWeights, says, remedies),
            OtherWeights::Warn => Finding::noted(FindingKind::OtherWeights, says, remedies),
        });
    }
    let differs = |other: &&Elsewhere| is_called(&other.model, model) && !is_same_digest(&other.digest, digest);
    let other = elsewhere.iter().find(differs)?;
    let says = format!(
        "{model} stands for the weights {} here and for {} at {}: answers differ by upstream.",
        words::digest(digest),
        words::digest(&other.digest),
        other.upstream
    );
    let remedies = vec![accept(format!("Confirmant so: pin this offer to {}", words::digest(digest)))];
    Some(Finding::noted(FindingKind::OtherWeights, says, remedies))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::upstream::{Address, Hosting, Offer};
    use crate::catalog::weights::WeightsPin;
    use rstest::rstest;
    use serde_json::json;
    use wendor_wire::dialect::Dialect;

    #[rstest]
    #[case::list(json!({"object":"list","data":[{"id":"dunlin-7b","object":"model","max_model_len":8192}]}), Some(8_192), None)]
    #[case::messages(json!({"data":[{"type":"model","id":"dunlin-7b","max_input_tokens":9000,"max_tokens":800}],"has_more":false}), Some(9_000), Some(800))]
    #[case::generate(json!({"models":[{"name":"models/dunlin-7b","inputTokenLimit":5,"outputTokenLimit":6}]}), Some(5), Some(6))]
    #[case::local(json!({"models":[{"name":"dunlin-7b:latest","model":"dunlin-7b:latest","digest":"ab","details":{"parameter_size":"7B"}}]}), None, None)]
    fn listings_of_every_dialect(#[case] body: Value, #[case] window: Option<u32>, #[case] cap: Option<u32>) {
        let seen = read(&body);
        assert!(is_called(&seen[0].name, "dunlin-7b"), "{seen:?}");
        assert_eq!((seen[0].context_window, seen[0].output_cap), (window, cap));
    }

    #[test]
    fn what_a_local_server_shows_of_a_model_is_added() {
        let mut seen = read(&json!({"models":[{"name":"dunlin-7b:q4"}]}));
        add_shown(
            &mut seen[0],
            &json!({"model_info":{"dunlin.context_length":4096},"capabilities":["completion","vision"]}),
        );
        add_loaded(&mut seen, &json!({"models":[{"name":"dunlin-7b:q4","size_vram":5}]}));
        assert_eq!((seen[0].context_window, seen[0].loaded_bytes), (Some(4_096), Some(5)));
        assert!(
            seen[0]
                .abilities
                .as_ref()
                .is_some_and(|able| able.contains(&Ability::ImagesIn) && !able.contains(&Ability::Tools))
        );
    }

    fn offering(model: &str, pin: Option<&str>) -> Upstream {
        let mut upstream = Upstream::at(Address::parse("http://chartroom").unwrap(), Dialect::LocalChat, Hosting::Own);
        let weights = pin.map(|digest| WeightsPin { digest: digest.to_owned(), otherwise: OtherWeights::Stop });
        upstream.offers.insert(model.to_owned(), Offer { weights, ..Offer::default() });
        upstream
    }

    #[rstest]
    #[case::there("dunlin-7b", None, None, None)]
    #[case::letter_off("dunlim-7b", None, Some(FindingKind::ModelUnknown), Some("dunlin-7b:latest"))]
    #[case::tag("knot", None, Some(FindingKind::TagMissing), Some("knot:13b"))]
    #[case::another("kittiwake", None, Some(FindingKind::ModelUnknown), None)]
    #[case::pinned_right("dunlin-7b", Some("sha256:aaaabbbbccccdddd"), None, None)]
    #[case::pinned_wrong(
        "dunlin-7b",
        Some("ffffbbbbccccdddd"),
        Some(FindingKind::OtherWeights),
        Some("aaaabbbbccccdddd")
    )]
    #[case::other_elsewhere("shared", None, Some(FindingKind::OtherWeights), Some("1111222233334444"))]
    fn offers_beside_the_listing(
        #[case] offered: &str,
        #[case] pin: Option<&str>,
        #[case] expected: Option<FindingKind>,
        #[case] to: Option<&str>,
    ) {
        let seen = read(&json!({"models":[
            {"name":"dunlin-7b:latest","digest":"aaaabbbbccccdddd"},{"name":"knot:13b"},{"name":"shared","digest":"1111222233334444"},
        ]}));
        let elsewhere =
            [Elsewhere { model: "shared".into(), upstream: "quayside".into(), digest: "9999222233334444".into() }];
        let judged = judge(&offering(offered, pin), &seen, &elsewhere);
        assert_eq!(judged.findings.first().map(|finding| finding.kind), expected, "{judged:?}");
        let change = judged.findings.first().and_then(|finding| finding.remedies.first()?.as_change().cloned());
        let proposed = change.map(|change| serde_json::to_value(change).unwrap()["to"].as_str().unwrap().to_owned());
        assert_eq!(proposed.as_deref(), to);
    }

    #[rstest]
    #[case::a_name(json!({"id":"dunlin-7b"}), true)]
    #[case::a_control_character(json!({"id":"dunlin\u{7}"}), false)]
    #[case::a_letter_that_nobody_sees(json!({"id":"dunlin\u{202e}"}), false)]
    #[case::nameless(json!({"object":"model"}), false)]
    fn only_names_that_can_be_shown_are_listed(#[case] entry: Value, #[case] is_listed: bool) {
        assert_eq!(model(&entry).is_some(), is_listed);
    }

    #[test]
    fn a_window_of_nothing_is_not_told() {
        assert_eq!(model(&json!({"id":"dunlin-7b","max_model_len":0})).unwrap().context_window, None);
    }

    #[rstest]
    #[case::answers(json!(["generateContent"]), None)]
    #[case::both(json!(["embedContent", "generateContent"]), None)]
    #[case::embeds(json!(["embedContent", "countTokens"]), Some(vec![Ability::Embeddings]))]
    #[case::neither(json!(["countTokens"]), None)]
    fn one_that_only_embeds_is_told_by_its_methods(#[case] methods: Value, #[case] expected: Option<Vec<Ability>>) {
        let seen = model(&json!({"name":"models/dunlin-7b","supportedGenerationMethods":methods})).unwrap();
        assert_eq!(seen.abilities, expected);
    }

    #[test]
    fn what_is_told_as_an_empty_word_is_not_told() {
        let seen = model(&json!({"name":"dunlin-7b","details":{"format":"","family":"dunlin"}})).unwrap();
        assert_eq!(seen.about.keys().collect::<Vec<_>>(), ["family"]);
    }
}
