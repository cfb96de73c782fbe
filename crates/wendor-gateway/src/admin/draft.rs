//! An upstream as it is told over the management API: one that is not in the catalogue yet, or what it would be after a remedy.

use std::collections::BTreeMap;
use std::num::NonZeroU32;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::catalog::upstream::{
    Address, Auth, CredentialSource, Fingerprint, Hosting, Offer, Upstream, further_header,
};
use wendor_core::catalog::weights::{OtherWeights, WeightsPin};
use wendor_core::diagnosis::{pasted, settings};
use wendor_core::name::{Name, OfferName};
use wendor_core::secret::Secret;
use wendor_wire::ability::Ability;
use wendor_wire::dialect::Dialect;

use super::problem::{Problem, plain};

/// Where a credential is. At most one of these.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct CredentialDraft {
    /// In this environment variable of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub env: Option<String>,
    /// In this file of the service.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// Kept by Wendor, by its id.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kept: Option<String>,
    /// The credential itself, to be kept encrypted. It is never given back.
    #[serde(default, serialize_with = "never")]
    #[schema(write_only)]
    pub value: Option<String>,
}

/// A secret goes in and is never given back.
fn never<S: serde::Serializer>(_: &Option<String>, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.serialize_none()
}

/// An offer to be made.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct OfferDraft {
    /// The upstream's name for the model.
    pub model: String,
    /// Tokens of prompt and answer together.
    #[serde(default)]
    pub context_window: Option<u32>,
    /// The most output tokens of one choice.
    #[serde(default)]
    pub output_cap: Option<u32>,
    /// What it can do; all that its dialect has when absent.
    #[serde(default)]
    pub abilities: Option<Vec<String>>,
    /// The digest of the weights that it must be served with.
    #[serde(default)]
    pub weights: Option<String>,
    /// `stop` or `warn`, when others are there.
    #[serde(default)]
    pub otherwise: Option<String>,
    /// What is known of the model: family, format, precision, parameters, hardware.
    #[serde(default)]
    pub about: BTreeMap<String, String>,
}

/// An upstream that is not in the catalogue.
#[derive(Clone, Debug, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct UpstreamDraft {
    /// Its address, as people paste it.
    pub address: String,
    /// The text that a key and headers are taken from where none are stated, as it was pasted; the address when absent. It is never given
    /// back.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub pasted: Option<String>,
    /// What it speaks; found out when absent.
    #[serde(default)]
    pub dialect: Option<String>,
    /// `own` or `hosted`; guessed from the address when absent.
    #[serde(default)]
    pub hosting: Option<String>,
    /// A label such as `on-site`.
    #[serde(default)]
    pub place: Option<String>,
    /// Streams that it can carry at once.
    #[serde(default)]
    pub streams: Option<u32>,
    /// Where its credential is; it needs none when absent.
    #[serde(default)]
    pub credential: Option<CredentialDraft>,
    /// How the credential is sent: `bearer`, `header:NAME` or `query:NAME`.
    #[serde(default)]
    pub auth: Option<String>,
    /// Further request headers.
    #[serde(default)]
    pub headers: BTreeMap<String, String>,
    /// The one certificate that is accepted.
    #[serde(default)]
    pub certificate: Option<String>,
    /// Whether the credential may cross a network unencrypted.
    #[serde(default)]
    pub plain_http: bool,
    /// A file of the service's folder of credentials with a certificate and its private key, by which Wendor says who it is.
    #[serde(default)]
    pub client_certificate: Option<String>,
    /// Whether requests go there without ids of Wendor's own.
    #[serde(default)]
    pub no_request_ids: bool,
    /// Whether nothing looks at it by itself.
    #[serde(default)]
    pub no_looks: bool,
    /// The name of the services that accept each other's seals.
    #[serde(default)]
    pub seals: Option<String>,
    /// Models that it shall serve routes with; none are needed for a check.
    #[serde(default)]
    pub offers: Vec<OfferDraft>,
}

/// A draft, checked.
#[derive(Clone, Debug)]
pub struct Drafted {
    /// As it would stand in the catalogue; its dialect is a guess where none is stated.
    pub upstream: Upstream,
    /// The dialect, where it is stated or told by the address.
    pub stated: Option<Dialect>,
    /// A credential that came along, cleaned of what was pasted with it.
    pub value: Option<Secret>,
    /// Whether that stood in what was pasted.
    pub holds_key: bool,
    /// What the settings were taken out of, beside the address.
    pub taken_from: Vec<String>,
}

fn bad(field: &'static str, message: impl Into<String>) -> Problem {
    Problem::BadValue { field, message: message.into() }
}

fn word<T: Copy>(field: &'static str, text: &str, words: &[(&str, T)]) -> Result<T, Problem> {
    let known = words.iter().find(|(word, _)| *word == text).map(|(_, value)| *value);
    known.ok_or_else(|| {
        let list: Vec<&str> = words.iter().map(|(word, _)| *word).collect();
        bad(field, format!("`{text}` is not one of {}", list.join(", ")))
    })
}

fn positive(field: &'static str, number: Option<u32>) -> Result<Option<NonZeroU32>, Problem> {
    number
        .map(|number| NonZeroU32::new(number).ok_or_else(|| bad(field, "0 is invalid; omit it for no limit")))
        .transpose()
}

const HOSTINGS: [(&str, Hosting); 2] = [("own", Hosting::Own), ("hosted", Hosting::Hosted)];

/// Checks the form of a draft; whether it can be reached is another question.
///
/// # Errors
/// The field and what is wrong with it.
pub fn check(draft: &UpstreamDraft) -> Result<Drafted, Problem> {
    let pasted = pasted::read(&draft.address).map_err(|why| bad("address", why))?;
    let dialects = Dialect::ALL.map(|dialect| (dialect.as_str(), dialect));
    let stated = draft.dialect.as_deref().map(|text| word("dialect", text, &dialects)).transpose()?.or(pasted.dialect);
    let hosting = match &draft.hosting {
        Some(text) => word("hosting", text, &HOSTINGS)?,
        None => guessed(&pasted.address),
    };
    let mut upstream = Upstream::at(pasted.address.clone(), stated.unwrap_or(Dialect::ChatCompletions), hosting);
    upstream.place = plain("place", draft.place.as_ref())?.filter(|place| !place.is_empty());
    upstream.streams = positive("streams", draft.streams)?;
    let around = match &draft.pasted {
        Some(text) => pasted::read(text).map_err(|why| bad("pasted", why))?,
        None => pasted.clone(),
    };
    upstream.headers = around.headers;
    let auth = draft.auth.clone().map(|text| Auth::try_from(text).map_err(|why| bad("auth", why))).transpose()?;
    upstream.auth = auth.unwrap_or_default();
    for (name, value) in &draft.headers {
        let (name, value) = further_header(name, value).map_err(|why| bad("headers", why))?;
        upstream.headers.insert(name, value);
    }
    let certificate =
        draft.certificate.as_deref().map(|text| Fingerprint::parse(text).map_err(|why| bad("certificate", why)));
    upstream.certificate = certificate.transpose()?;
    upstream.allows_plain_http = draft.plain_http;
    let file = draft.client_certificate.as_deref().map(|path| CredentialSource::file(path).map(|_| path.to_owned()));
    upstream.client_certificate = file.transpose().map_err(|why| bad("client_certificate", why))?;
    upstream.is_without_ids = draft.no_request_ids;
    upstream.is_not_looked_at = draft.no_looks;
    upstream.seals = plain("seals", draft.seals.as_ref())?;
    upstream.offers = offers_of(draft)?;
    let mut holds_key = false;
    let value = match &draft.credential {
        None => around.key.map(|(secret, auth)| {
            holds_key = true;
            // What is stated goes before what was pasted.
            if draft.auth.is_none() {
                upstream.auth = auth;
            }
            secret
        }),
        Some(credential) => {
            let (source, value) = credential_of(credential)?;
            upstream.credential = source;
            value
        }
    };
    Ok(Drafted { upstream, stated, value, holds_key, taken_from: around.taken_from })
}

fn offers_of(draft: &UpstreamDraft) -> Result<BTreeMap<String, Offer>, Problem> {
    let mut offers = BTreeMap::new();
    for offer in &draft.offers {
        OfferName::new(draft_name()?, &offer.model).map_err(|why| bad("offers", why.to_string()))?;
        for text in offer.about.iter().flat_map(|(name, value)| [name, value]) {
            plain("offers", Some(text))?;
        }
        if offers.insert(offer.model.clone(), offer_of(offer)?).is_some() {
            return Err(bad("offers", format!("`{}` is offered twice", offer.model)));
        }
    }
    Ok(offers)
}

/// A name for what has none yet, so that names of models can be checked.
fn draft_name() -> Result<Name, Problem> {
    Name::parse("draft").map_err(|_| Problem::Internal)
}

/// A server in a private network is taken for our own.
fn guessed(address: &Address) -> Hosting {
    let host = address.host();
    let is_near = match host.parse::<std::net::IpAddr>() {
        Ok(std::net::IpAddr::V4(address)) => address.is_private() || address.is_loopback() || address.is_link_local(),
        Ok(std::net::IpAddr::V6(address)) => address.is_loopback() || address.is_unique_local(),
        Err(_) => !host.contains('.') || !address.is_encrypted(),
    };
    if is_near { Hosting::Own } else { Hosting::Hosted }
}

fn credential_of(draft: &CredentialDraft) -> Result<(Option<CredentialSource>, Option<Secret>), Problem> {
    let named = [&draft.env, &draft.file, &draft.kept, &draft.value].into_iter().flatten().count();
    if named > 1 {
        return Err(bad("credential", "say one of `env`, `file`, `kept` and `value`"));
    }
    if let Some(value) = &draft.value {
        return Ok((None, Some(cleaned(value)?)));
    }
    let named = [
        draft.env.as_deref().map(CredentialSource::env),
        draft.file.as_deref().map(CredentialSource::file),
        draft.kept.as_deref().map(CredentialSource::kept),
    ];
    let source = named.into_iter().flatten().next().transpose().map_err(|why| bad("credential", why))?;
    Ok((source, None))
}

/// A credential without what was pasted along with it.
///
/// # Errors
/// When there is none, or it is an example.
pub fn cleaned(value: &str) -> Result<Secret, Problem> {
    let text = settings::cleaned(value);
    if text.is_empty() {
        return Err(bad("credential", "it is empty"));
    }
    match settings::oddity(&text) {
        None => Ok(Secret::new(text)),
        Some(wendor_core::diagnosis::seen::Oddity::Placeholder) => {
            Err(bad("credential", "it is an example that was never replaced; paste the key that the service issued"))
        }
        Some(_) => Err(bad("credential", "it has a character that no key has; copy it again from where it was issued")),
    }
}

fn offer_of(draft: &OfferDraft) -> Result<Offer, Problem> {
    let abilities = draft.abilities.as_ref().map(|words| {
        words.iter().map(|text| word("abilities", text, Ability::WORDS)).collect::<Result<Vec<Ability>, Problem>>()
    });
    let otherwise = draft.otherwise.as_deref().map(|text| word("otherwise", text, &OtherWeights::WORDS)).transpose()?;
    Ok(Offer {
        context_window: positive("context_window", draft.context_window)?,
        output_cap: positive("output_cap", draft.output_cap)?,
        abilities: abilities.transpose()?,
        weights: draft.weights.clone().map(|digest| WeightsPin { digest, otherwise: otherwise.unwrap_or_default() }),
        about: draft.about.clone(),
        ..Offer::default()
    })
}

/// An upstream as a draft. A credential's value is never in it.
#[must_use]
pub fn draft_of(upstream: &Upstream) -> UpstreamDraft {
    let credential = upstream.credential.clone().map(|source| match source {
        CredentialSource::Env(name) => CredentialDraft { env: Some(name), ..CredentialDraft::default() },
        CredentialSource::File(path) => CredentialDraft { file: Some(path), ..CredentialDraft::default() },
        CredentialSource::Kept(id) => CredentialDraft { kept: Some(id), ..CredentialDraft::default() },
    });
    let hosting = HOSTINGS.iter().find(|(_, hosting)| *hosting == upstream.hosting).map(|(word, _)| (*word).to_owned());
    UpstreamDraft {
        address: upstream.address.as_str().to_owned(),
        pasted: None,
        dialect: Some(upstream.dialect.as_str().to_owned()),
        hosting,
        place: upstream.place.clone(),
        streams: upstream.streams.map(NonZeroU32::get),
        credential,
        auth: Some(String::from(upstream.auth.clone())),
        headers: upstream.headers.clone(),
        certificate: upstream.certificate.clone().map(String::from),
        plain_http: upstream.allows_plain_http,
        client_certificate: upstream.client_certificate.clone(),
        no_request_ids: upstream.is_without_ids,
        no_looks: upstream.is_not_looked_at,
        seals: upstream.seals.clone(),
        offers: upstream.offers.iter().map(|(model, offer)| offer_draft(model, offer)).collect(),
    }
}

/// What a form or a file would show of an offer in force.
#[must_use]
pub fn offer_draft(model: &str, offer: &Offer) -> OfferDraft {
    OfferDraft {
        model: model.to_owned(),
        context_window: offer.context_window.map(NonZeroU32::get),
        output_cap: offer.output_cap.map(NonZeroU32::get),
        abilities: offer
            .abilities
            .as_ref()
            .map(|able| able.iter().map(|ability| ability.as_str().to_owned()).collect()),
        weights: offer.weights.as_ref().map(|pin| pin.digest.clone()),
        otherwise: offer.weights.as_ref().map(|pin| pin.otherwise.as_str().to_owned()),
        about: offer.about.clone(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::loopback("http://127.0.0.1:7501", "own")]
    #[case::private("http://10.20.4.13:8000", "own")]
    #[case::bare_name("quayside-a:8000", "own")]
    #[case::public("https://quarry.example", "hosted")]
    fn hosting_is_guessed_from_the_address(#[case] address: &str, #[case] hosting: &str) {
        let drafted = check(&UpstreamDraft { address: address.to_owned(), ..UpstreamDraft::default() }).unwrap();
        assert_eq!(draft_of(&drafted.upstream).hosting.as_deref(), Some(hosting));
    }

    #[rstest]
    #[case::address(UpstreamDraft { address: "ftp://a".into(), ..UpstreamDraft::default() }, "address")]
    #[case::dialect(UpstreamDraft { address: "a".into(), dialect: Some("morse".into()), ..UpstreamDraft::default() }, "dialect")]
    #[case::header(
        UpstreamDraft { address: "a".into(), headers: [("x y".to_owned(), "1".to_owned())].into(), ..UpstreamDraft::default() },
        "headers"
    )]
    #[case::own_header(
        UpstreamDraft { address: "a".into(), headers: [("Host".to_owned(), "gulls.example".to_owned())].into(), ..UpstreamDraft::default() },
        "headers"
    )]
    #[case::control_character(UpstreamDraft { address: "a".into(), place: Some("on\u{1b}[31m".into()), ..UpstreamDraft::default() }, "place")]
    #[case::model(
        UpstreamDraft { address: "a".into(), offers: vec![OfferDraft { model: "dunlin\u{7}".into(), ..OfferDraft::default() }], ..UpstreamDraft::default() },
        "offers"
    )]
    #[case::any_variable(
        UpstreamDraft {
            address: "a".into(),
            credential: Some(CredentialDraft { env: Some("WENDOR_SECRET".into()), ..CredentialDraft::default() }),
            ..UpstreamDraft::default()
        },
        "credential"
    )]
    #[case::a_file_above(
        UpstreamDraft {
            address: "a".into(),
            credential: Some(CredentialDraft { file: Some("../shadow".into()), ..CredentialDraft::default() }),
            ..UpstreamDraft::default()
        },
        "credential"
    )]
    #[case::streams(UpstreamDraft { address: "a".into(), streams: Some(0), ..UpstreamDraft::default() }, "streams")]
    #[case::two_sources(
        UpstreamDraft {
            address: "a".into(),
            credential: Some(CredentialDraft { env: Some("A".into()), value: Some("b".into()), ..CredentialDraft::default() }),
            ..UpstreamDraft::default()
        },
        "credential"
    )]
    #[case::example(
        UpstreamDraft {
            address: "a".into(),
            credential: Some(CredentialDraft { value: Some("your-key-here".into()), ..CredentialDraft::default() }),
            ..UpstreamDraft::default()
        },
        "credential"
    )]
    fn what_cannot_be_taken_names_its_field(#[case] draft: UpstreamDraft, #[case] named: &str) {
        let problem = check(&draft).unwrap_err();
        assert!(matches!(&problem, Problem::BadValue { field, .. } if *field == named), "{problem}");
    }

    #[test]
    fn a_value_never_comes_back() {
        let credential = CredentialDraft { value: Some("Bearer qry-2f9k\n".into()), ..CredentialDraft::default() };
        assert!(!serde_json::to_string(&credential).unwrap().contains("2f9k"));
        let draft = UpstreamDraft { address: "a".into(), credential: Some(credential), ..UpstreamDraft::default() };
        assert_eq!(check(&draft).unwrap().value.unwrap().expose(), "qry-2f9k");
    }
}
