//! What an app may say of its request in headers of ours: `wendor-run`, `wendor-step` and `wendor-labels` stand on the record and change
//! nothing else; `wendor-lane` says how urgent it is, `wendor-deadlines` how long it waits, `wendor-variables` and `wendor-preset` what the
//! route's preset adds.

use std::collections::BTreeMap;

use actix_web::http::header::{HeaderMap, HeaderValue};
use wendor_core::catalog::route::StageDeadlines;
use wendor_core::routing::queue::Lane;
use wendor_wire::bounded::bounded;
use wendor_wire::percent::unescaped;

use super::refusal::Refusal;

/// Longest value of `wendor-run` and `wendor-step`, and of a label's name or value.
const LABEL_BYTES: usize = 128;

/// Labels that one request may carry.
const LABELS: usize = 16;

/// What the app's own headers say.
#[derive(Clone, Debug, Default)]
pub struct Marks {
    /// `wendor-run`.
    pub run: Option<String>,
    /// `wendor-step`.
    pub step: Option<String>,
    /// `wendor-labels`.
    pub labels: BTreeMap<String, String>,
    /// `wendor-lane`.
    pub lane: Lane,
    /// `wendor-deadlines`: by how much the stages' own are lowered.
    pub deadlines: StageDeadlines,
    /// `wendor-variables`: what the variables of the route's preset are filled with.
    pub variables: BTreeMap<String, String>,
    /// `wendor-preset: none`: nothing is added that the route does not fix.
    pub has_no_preset: bool,
}

impl Marks {
    /// Reads them.
    ///
    /// # Errors
    /// [`Refusal::BadHeader`] for one that cannot be read.
    pub fn read(headers: &HeaderMap) -> Result<Self, Refusal> {
        // Most requests have none, and looking each up costs more than looking them through.
        if !headers.keys().any(|name| name.as_str().starts_with("wendor-")) {
            return Ok(Self::default());
        }
        let mut labels = BTreeMap::new();
        if let Some(value) = headers.get("wendor-labels") {
            let wrong = || {
                Refusal::BadHeader(
                    "wendor-labels",
                    format!(
                        "must look like `feature=search,env=prod`, with at most {LABELS} labels, each name and value at most {LABEL_BYTES} ASCII \
                         characters"
                    ),
                )
            };
            for pair in value.to_str().map_err(|_| wrong())?.split(',').filter(|pair| !pair.trim().is_empty()) {
                let (name, value) = pair.split_once('=').ok_or_else(wrong)?;
                let (name, value) = (name.trim(), value.trim());
                if name.is_empty() || name.len() > LABEL_BYTES || value.len() > LABEL_BYTES || labels.len() == LABELS {
                    return Err(wrong());
                }
                labels.insert(name.to_owned(), value.to_owned());
            }
        }
        let lane = match headers.get("wendor-lane") {
            None => Lane::default(),
            Some(value) => value.to_str().ok().and_then(Lane::parse).ok_or_else(|| {
                let why = format!("must be `interactive` or `batch`, not {}", told(value));
                Refusal::BadHeader("wendor-lane", why)
            })?,
        };
        let deadlines = match headers.get("wendor-deadlines").map(|value| value.to_str().unwrap_or("?")) {
            None => StageDeadlines::default(),
            Some(text) => StageDeadlines::parse(text).map_err(|why| Refusal::BadHeader("wendor-deadlines", why))?,
        };
        let has_no_preset = leaves_preset_out(headers)?;
        let variables = variables(headers)?;
        let (run, step) = (text(headers, "wendor-run")?, text(headers, "wendor-step")?);
        Ok(Self { run, step, labels, lane, deadlines, variables, has_no_preset })
    }
}

/// The text of a header that stands on the record, if it was sent.
fn text(headers: &HeaderMap, name: &'static str) -> Result<Option<String>, Refusal> {
    let Some(value) = headers.get(name) else { return Ok(None) };
    let wrong = |why: String| Refusal::BadHeader(name, format!("must hold 1 to {LABEL_BYTES} ASCII characters; {why}"));
    match value.to_str() {
        Ok("") => Err(wrong("it is empty".to_owned())),
        Ok(text) if text.len() > LABEL_BYTES => Err(wrong(format!("it has {}", text.len()))),
        Ok(text) => Ok(Some(text.to_owned())),
        Err(_) => Err(wrong(format!("it is {}", told(value)))),
    }
}

/// A value as it came, however wrong it is, cut where it is long.
fn told(value: &HeaderValue) -> String {
    format!("`{}`", bounded(&String::from_utf8_lossy(value.as_bytes()), LABEL_BYTES))
}

/// `wendor-preset: none`.
fn leaves_preset_out(headers: &HeaderMap) -> Result<bool, Refusal> {
    match headers.get("wendor-preset").map(|value| value.to_str().unwrap_or("?")) {
        None => Ok(false),
        Some("none") => Ok(true),
        Some(other) => {
            let other = bounded(other, LABEL_BYTES);
            let why = format!("must be `none`, which leaves the route's preset out, not `{other}`");
            Err(Refusal::BadHeader("wendor-preset", why))
        }
    }
}

/// `wendor-variables`: values are percent-encoded where they hold a comma or more than visible ASCII.
fn variables(headers: &HeaderMap) -> Result<BTreeMap<String, String>, Refusal> {
    let mut variables = BTreeMap::new();
    let wrong = || {
        let why = "must look like `ferry=Storm%20Petrel,harbour=North%20Pier`, values percent-encoded";
        Refusal::BadHeader("wendor-variables", why.to_owned())
    };
    for value in headers.get_all("wendor-variables") {
        for pair in value.to_str().map_err(|_| wrong())?.split(',').filter(|pair| !pair.trim().is_empty()) {
            let (name, value) = pair.split_once('=').ok_or_else(wrong)?;
            variables.insert(name.trim().to_owned(), unescaped(value.trim()).into_owned());
        }
    }
    Ok(variables)
}

#[cfg(test)]
mod tests {
    use super::*;
    use actix_web::test::TestRequest;
    use rstest::rstest;

    fn labels(value: &str) -> Result<Vec<(String, String)>, Refusal> {
        let request = TestRequest::default().insert_header(("wendor-labels", value)).to_http_request();
        Marks::read(request.headers()).map(|marks| marks.labels.into_iter().collect())
    }

    #[rstest]
    #[case::one("env=prod", &[("env", "prod")])]
    #[case::some_with_spaces(" feature = search , env=prod ", &[("env", "prod"), ("feature", "search")])]
    #[case::empty_value("env=", &[("env", "")])]
    #[case::value_with_equals("query=a=b", &[("query", "a=b")])]
    #[case::nothing(" , ", &[])]
    #[case::the_last_one_counts("env=test,env=prod", &[("env", "prod")])]
    fn labels_are_pairs(#[case] value: &str, #[case] expected: &[(&str, &str)]) {
        let expected: Vec<_> = expected.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        assert_eq!(labels(value).unwrap(), expected);
    }

    #[rstest]
    #[case::no_value("env")]
    #[case::no_name("=prod")]
    #[case::long_name(format!("{}=1", "n".repeat(129)))]
    fn what_is_no_label_is_told(#[case] value: impl Into<String>) {
        assert!(matches!(labels(&value.into()), Err(Refusal::BadHeader("wendor-labels", _))));
    }

    #[rstest]
    #[case::empty("wendor-run", Vec::new(), "it is empty")]
    #[case::long("wendor-step", vec![b's'; 129], "it has 129")]
    #[case::of_other_letters("wendor-run", "Überfahrt 7".into(), "it is `Überfahrt 7`")]
    #[case::of_no_letters("wendor-run", vec![b'r', 0xff], "it is `r\u{fffd}`")]
    #[case::no_lane("wendor-lane", b"fast".to_vec(), "not `fast`")]
    #[case::long_and_no_lane("wendor-lane", vec![b'f'; 900], "fff (cut)`")]
    fn what_is_wrong_is_told(#[case] name: &'static str, #[case] value: Vec<u8>, #[case] told: &str) {
        let value = HeaderValue::from_bytes(&value).unwrap();
        let request = TestRequest::default().insert_header((name, value)).to_http_request();
        let Err(Refusal::BadHeader(which, why)) = Marks::read(request.headers()) else { panic!("{name} was taken") };
        assert!(which == name && why.ends_with(told), "{which} {why}");
    }

    #[test]
    fn without_headers_there_are_no_marks() {
        let marks = Marks::read(TestRequest::default().to_http_request().headers()).unwrap();
        assert!(marks.run.is_none() && marks.step.is_none() && marks.labels.is_empty());
    }

    #[rstest]
    #[case::two("ferry=Storm%20Petrel, harbour=North+Pier", &[("ferry", "Storm Petrel"), ("harbour", "North+Pier")])]
    #[case::empty("ferry=", &[("ferry", "")])]
    #[case::a_comma("ferry=a%2Cb", &[("ferry", "a,b")])]
    #[case::equals("ferry=a=b", &[("ferry", "a=b")])]
    fn variables_are_pairs(#[case] value: &str, #[case] expected: &[(&str, &str)]) {
        let request = TestRequest::default().insert_header(("wendor-variables", value)).to_http_request();
        let read = Marks::read(request.headers()).unwrap().variables;
        let expected: Vec<_> = expected.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect();
        assert_eq!(read.into_iter().collect::<Vec<_>>(), expected);
    }

    #[rstest]
    #[case::variables("wendor-variables", "ferry")]
    #[case::preset("wendor-preset", "off")]
    fn what_is_said_of_a_preset_and_cannot_be_read_is_told(#[case] name: &'static str, #[case] value: &str) {
        let request = TestRequest::default().insert_header((name, value)).to_http_request();
        assert!(matches!(Marks::read(request.headers()), Err(Refusal::BadHeader(told, _)) if told == name));
    }
}
