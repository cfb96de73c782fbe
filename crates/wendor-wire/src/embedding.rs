//! Vectors of texts, between the dialects that have them: chat-completions, generate-content, local-chat (`docs/protocols.md` sections 2.9, 5.6, 6.4).
//!
//! Numbers keep their digits. Base64 is little-endian 32-bit floats, as clients decode it: a number becomes the nearest such float, and
//! a float the shortest digits that read back as it, so that nothing is lost either way.

use std::collections::BTreeMap;

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;

use crate::ability::Mark;
use crate::asked::AppRequest;
use crate::bad_request::BadRequest;
use crate::dialect::Dialect;
use crate::endpoint::EmbedForm;
use crate::failure::{Failure, FailureKind};
use crate::json::{Json, Members, Node, Number, RawJson, Wrong};
use crate::refusal_code::RefusalCode;
use crate::verdict::Note;

/// How an app wants its vectors.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Encoding {
    /// As lists of numbers.
    Numbers,
    /// Little-endian 32-bit floats, encoded.
    Base64,
}

/// What an app asks.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EmbeddingRequest {
    /// The form that it came in.
    pub form: EmbedForm,
    /// Texts, or token ids as they stood there.
    pub inputs: Inputs,
    /// How the vectors are wanted.
    pub encoding: Encoding,
    /// How long they are to be.
    pub dimensions: Option<u64>,
    /// What other dialects have no place for, by path.
    pub left_out: Vec<String>,
}

/// What is to become vectors.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Inputs {
    /// One vector comes back for each.
    Texts(Vec<String>),
    /// Tokens of one model's own cutting.
    TokenIds(RawJson),
}

/// Vectors, and what they took.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Vectors {
    /// One for each input, in the order of the inputs.
    pub vectors: Vec<Vec<Number>>,
    /// Whether they came in that order.
    pub came_in_order: bool,
    /// Input tokens, if they were told.
    pub input_tokens: Option<u64>,
}

/// The form in which an upstream of `dialect` is asked; `None` where it has none.
#[must_use]
pub fn form_of(dialect: Dialect) -> Option<EmbedForm> {
    match dialect {
        Dialect::ChatCompletions => Some(EmbedForm::List),
        Dialect::GenerateContent => Some(EmbedForm::ContentBatch),
        Dialect::LocalChat => Some(EmbedForm::Local),
        Dialect::Responses | Dialect::Messages => None,
    }
}

/// The path of that form.
#[must_use]
pub fn path_of(form: EmbedForm, model: &str) -> String {
    match form {
        EmbedForm::List => "/v1/embeddings".to_owned(),
        EmbedForm::ContentBatch => format!("/v1beta/models/{model}:batchEmbedContents"),
        EmbedForm::Content => format!("/v1beta/models/{model}:embedContent"),
        EmbedForm::Local => "/api/embed".to_owned(),
        EmbedForm::LocalOld => "/api/embeddings".to_owned(),
    }
}

impl EmbeddingRequest {
    /// Reads what `request` asks.
    ///
    /// # Errors
    /// [`BadRequest`] that names what cannot be read.
    pub fn read(form: EmbedForm, body: &[u8]) -> Result<Self, BadRequest> {
        let text = std::str::from_utf8(body)
            .map_err(|_| BadRequest::of_body(RefusalCode::InvalidJson, "the body is not UTF-8".to_owned()))?;
        read(form, text).map_err(|wrong| BadRequest::of_path(&wrong.path, wrong.to_string()))
    }

    /// What stands in the way of an upstream of `dialect` with these marks.
    #[must_use]
    pub fn refused(&self, dialect: Dialect, marks: &[Mark]) -> Option<Note> {
        let note = |what: &str| Some(Note { path: "input".to_owned(), what: what.to_owned() });
        match (&self.inputs, form_of(dialect)) {
            (_, None) => note("this offer's dialect has no embeddings"),
            (Inputs::Texts(_), Some(_)) => None,
            (Inputs::TokenIds(_), Some(EmbedForm::List)) if marks.contains(&Mark::TokenIds) => None,
            // Another model cuts texts otherwise: its vectors would be of other texts.
            (Inputs::TokenIds(_), Some(_)) => {
                note("token ids mean another text at another model; send the texts themselves")
            }
        }
    }

    /// What is left out on the way to another dialect.
    #[must_use]
    pub fn approximated(&self, dialect: Dialect) -> Vec<Note> {
        if form_of(dialect) == Some(self.form) {
            return Vec::new();
        }
        let note = |path: &String| Note {
            path: path.clone(),
            what: "the offer has no such setting, so it is left out".to_owned(),
        };
        self.left_out.iter().map(note).collect()
    }

    /// The body for an upstream in `form`.
    #[must_use]
    pub fn write(&self, form: EmbedForm, model: &str) -> String {
        let input: Json = match &self.inputs {
            Inputs::Texts(texts) => texts.iter().map(Json::from).collect::<Vec<Json>>().into(),
            Inputs::TokenIds(raw) => raw.into(),
        };
        match form {
            EmbedForm::List => Members::new()
                .put("model", model)
                .put("input", input)
                .put("encoding_format", if self.encoding == Encoding::Base64 { "base64" } else { "float" })
                .some("dimensions", self.dimensions)
                .to_line(),
            EmbedForm::ContentBatch | EmbedForm::Content => {
                let texts: &[String] = if let Inputs::Texts(texts) = &self.inputs { texts } else { &[] };
                let one = |text: &String| -> Json {
                    let parts = vec![Members::new().put("text", text).into()];
                    Members::new()
                        .put("model", format!("models/{model}"))
                        .put("content", Members::new().put("parts", parts))
                        .some("outputDimensionality", self.dimensions)
                        .into()
                };
                Members::new().put("requests", texts.iter().map(one).collect::<Vec<Json>>()).to_line()
            }
            EmbedForm::Local | EmbedForm::LocalOld => {
                Members::new().put("model", model).put("input", input).some("dimensions", self.dimensions).to_line()
            }
        }
    }

    /// The reply for the app.
    #[must_use]
    pub fn reply(&self, found: &Vectors, request: &AppRequest) -> String {
        let numbers = |vector: &Vec<Number>| vector.iter().map(Json::from).collect::<Vec<Json>>();
        match self.form {
            EmbedForm::List => {
                let one = |(index, vector): (usize, &Vec<Number>)| -> Json {
                    let members = Members::new().put("object", "embedding").put("index", index);
                    match self.encoding {
                        Encoding::Numbers => members.put("embedding", numbers(vector)).into(),
                        Encoding::Base64 => members.put("embedding", to_base64(vector)).into(),
                    }
                };
                let data: Vec<Json> = found.vectors.iter().enumerate().map(one).collect();
                let tokens = found.input_tokens.unwrap_or(request.input_tokens);
                let usage = Members::new().put("prompt_tokens", tokens).put("total_tokens", tokens);
                Members::new()
                    .put("object", "list")
                    .put("data", data)
                    .put("model", &request.route)
                    .put("usage", usage)
                    .to_line()
            }
            EmbedForm::ContentBatch => {
                let one = |vector: &Vec<Number>| Members::new().put("values", numbers(vector)).into();
                Members::new().put("embeddings", found.vectors.iter().map(one).collect::<Vec<Json>>()).to_line()
            }
            EmbedForm::Content => {
                let first = found.vectors.first().map(numbers).unwrap_or_default();
                Members::new().put("embedding", Members::new().put("values", first)).to_line()
            }
            EmbedForm::Local => {
                let vectors: Vec<Json> = found.vectors.iter().map(|vector| numbers(vector).into()).collect();
                Members::new()
                    .put("model", &request.route)
                    .put("embeddings", vectors)
                    .some("prompt_eval_count", found.input_tokens)
                    .to_line()
            }
            EmbedForm::LocalOld => {
                Members::new().put("embedding", found.vectors.first().map(numbers).unwrap_or_default()).to_line()
            }
        }
    }
}

fn read(form: EmbedForm, body: &str) -> Result<EmbeddingRequest, Wrong> {
    let mut request = EmbeddingRequest {
        form,
        inputs: Inputs::Texts(Vec::new()),
        encoding: Encoding::Numbers,
        dimensions: None,
        left_out: Vec::new(),
    };
    let root = Node::of_request(body);
    let mut object = root.object()?;
    match form {
        EmbedForm::List | EmbedForm::Local => {
            request.inputs = inputs(&object.required("input", "a text or a list of texts")?)?;
            request.dimensions = object.count("dimensions")?;
            if let Some(format) = object.take("encoding_format") {
                request.encoding = match format.text()?.as_str() {
                    "float" => Encoding::Numbers,
                    "base64" => Encoding::Base64,
                    _ => return Err(format.wrong("float or base64")),
                };
            }
        }
        EmbedForm::LocalOld => {
            request.inputs = Inputs::Texts(vec![object.required_text("prompt", "the text")?]);
        }
        EmbedForm::ContentBatch => {
            let mut texts = Vec::new();
            for node in root.camel_object()?.list("requests")? {
                texts.push(content(&node, &mut request)?);
            }
            object.take("requests");
            request.inputs = Inputs::Texts(texts);
        }
        EmbedForm::Content => {
            let text = content(&root, &mut request)?;
            request.inputs = Inputs::Texts(vec![text]);
            return Ok(request);
        }
    }
    object.take("model");
    request.left_out.extend(object.rest().iter().map(|node| node.path().to_owned()));
    Ok(request)
}

fn inputs(node: &Node<'_>) -> Result<Inputs, Wrong> {
    if node.is_text() {
        return Ok(Inputs::Texts(vec![node.text()?]));
    }
    let list = node.list()?;
    match list.first() {
        Some(first) if !first.is_text() => Ok(Inputs::TokenIds(node.raw())),
        Some(_) | None => Ok(Inputs::Texts(node.texts()?)),
    }
}

/// The texts of one request of generate-content, joined; what else it says is left out elsewhere.
fn content(node: &Node<'_>, request: &mut EmbeddingRequest) -> Result<String, Wrong> {
    let mut object = node.camel_object()?;
    object.take("model");
    request.dimensions = object.count("outputDimensionality")?.or(request.dimensions);
    let mut text = Vec::new();
    for part in object.required("content", "an object with `parts`")?.camel_object()?.list("parts")? {
        text.extend(part.object()?.text("text")?);
    }
    request.left_out.extend(object.rest().iter().map(|left| left.path().to_owned()));
    Ok(text.join("\n"))
}

/// Reads an upstream's vectors, in whatever form they come.
///
/// # Errors
/// When there are none.
pub fn read_vectors(body: &[u8]) -> Result<Vectors, Failure> {
    let malformed = |why: String| Failure::new(FailureKind::Malformed, why);
    let text = std::str::from_utf8(body).map_err(|_| malformed("its answer is not UTF-8".to_owned()))?;
    let read = vectors(text).map_err(|wrong| malformed(format!("in its answer {wrong}")))?;
    if read.vectors.is_empty() {
        return Err(malformed("its answer holds no vectors".to_owned()));
    }
    Ok(read)
}

/// The same for `request`: one vector for each of its texts.
///
/// # Errors
/// When there are others.
pub fn read_vectors_for(request: &EmbeddingRequest, body: &[u8]) -> Result<Vectors, Failure> {
    let read = read_vectors(body)?;
    // How many texts token ids are is between the app and the one model that they mean something to.
    let Inputs::Texts(texts) = &request.inputs else { return Ok(read) };
    let (came, wanted) = (read.vectors.len(), texts.len());
    if came == wanted {
        return Ok(read);
    }
    Err(Failure::new(FailureKind::Malformed, format!("its answer holds {came} vectors for {wanted} texts")))
}

fn vectors(text: &str) -> Result<Vectors, Wrong> {
    let mut reply = Node::new(text.trim(), "").object()?;
    let numbers = |node: &Node<'_>| node.list()?.iter().map(Node::number).collect::<Result<Vec<Number>, Wrong>>();
    let mut usage = reply.object("usage")?;
    let prompt_tokens = usage.as_mut().map(|usage| usage.count("prompt_tokens")).transpose()?.flatten();
    let input_tokens = prompt_tokens.or(reply.count("prompt_eval_count")?);
    let mut listed: BTreeMap<u64, Vec<Number>> = BTreeMap::new();
    let mut came_in_order = true;
    for (place, node) in reply.list("data")?.iter().enumerate() {
        let mut item = node.object()?;
        let place = u64::try_from(place).unwrap_or(u64::MAX);
        // Servers that gather their answers from several workers send them as they come.
        let index = item.count("index")?.unwrap_or(place);
        came_in_order &= index == place;
        let vector = item.required("embedding", "a vector")?;
        let vector = if vector.is_text() { of_base64(&vector)? } else { numbers(&vector)? };
        if listed.insert(index, vector).is_some() {
            return Err(node.wrong("a vector with an index of its own"));
        }
    }
    let mut in_order: Vec<Vec<Number>> = listed.into_values().collect();
    for node in reply.list("embeddings")? {
        in_order.push(if node.is_list() {
            numbers(&node)?
        } else {
            numbers(&node.object()?.required("values", "a vector")?)?
        });
    }
    if let Some(node) = reply.take("embedding") {
        in_order.push(if node.is_list() {
            numbers(&node)?
        } else {
            numbers(&node.object()?.required("values", "a vector")?)?
        });
    }
    Ok(Vectors { vectors: in_order, came_in_order, input_tokens })
}

fn of_base64(node: &Node<'_>) -> Result<Vec<Number>, Wrong> {
    let bytes = BASE64.decode(node.text()?).map_err(|_| node.wrong("base64"))?;
    let (floats, rest) = bytes.as_chunks::<4>();
    if !rest.is_empty() {
        return Err(node.wrong("whole 32-bit floats"));
    }
    let one = |four: &[u8; 4]| {
        let float = f32::from_le_bytes(*four);
        Number::of_f32(float).ok_or_else(|| node.wrong("finite numbers"))
    };
    floats.iter().map(one).collect()
}

fn to_base64(vector: &[Number]) -> String {
    let bytes: Vec<u8> = vector.iter().flat_map(|number| number.as_f32().to_le_bytes()).collect();
    BASE64.encode(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    proptest! {
        /// Whatever floats an upstream sends, as digits or as base64, the app's come out as the same bits.
        #[test]
        fn vectors_are_the_same_bits(bits in proptest::collection::vec(any::<u32>(), 1..40)) {
            let floats: Vec<f32> = bits.iter().map(|bits| f32::from_bits(*bits)).filter(|float| float.is_finite()).collect();
            prop_assume!(!floats.is_empty());
            let digits: Vec<String> = floats.iter().map(|float| format!("{float:?}")).collect();
            let bytes: Vec<u8> = floats.iter().flat_map(|float| float.to_le_bytes()).collect();
            let base64 = BASE64.encode(&bytes);
            let as_digits = read_vectors(format!(r#"{{"embeddings":[[{}]]}}"#, digits.join(",")).as_bytes()).unwrap();
            let as_base64 = read_vectors(format!(r#"{{"data":[{{"embedding":"{base64}"}}]}}"#).as_bytes()).unwrap();
            prop_assert_eq!(to_base64(&as_digits.vectors[0]), base64.clone());
            prop_assert_eq!(to_base64(&as_base64.vectors[0]), base64);
        }
    }

    #[rstest]
    #[case::text(EmbedForm::List, r#"{"model":"m","input":"a"}"#, &["a"], Encoding::Numbers)]
    #[case::texts(EmbedForm::List, r#"{"model":"m","input":["a","b"],"encoding_format":"base64"}"#, &["a", "b"], Encoding::Base64)]
    #[case::batch(EmbedForm::ContentBatch, r#"{"requests":[{"model":"models/m","content":{"parts":[{"text":"a"}]}}]}"#, &["a"], Encoding::Numbers)]
    #[case::old(EmbedForm::LocalOld, r#"{"model":"m","prompt":"a"}"#, &["a"], Encoding::Numbers)]
    fn what_is_asked(#[case] form: EmbedForm, #[case] body: &str, #[case] texts: &[&str], #[case] encoding: Encoding) {
        let request = EmbeddingRequest::read(form, body.as_bytes()).unwrap();
        let expected = texts.iter().map(|text| (*text).to_owned()).collect();
        assert_eq!((request.inputs, request.encoding), (Inputs::Texts(expected), encoding));
    }

    #[rstest]
    #[case::by_index(r#"{"data":[{"index":1,"embedding":[2]},{"index":0,"embedding":[1]}]}"#, Ok(vec!["1", "2"]), false)]
    #[case::without_index(r#"{"data":[{"embedding":[1]},{"embedding":[2]}]}"#, Ok(vec!["1", "2"]), true)]
    #[case::one_twice(
        r#"{"data":[{"index":0,"embedding":[1]},{"index":0,"embedding":[2]}]}"#,
        Err("an index of its own"),
        true
    )]
    #[case::too_few(r#"{"data":[{"index":0,"embedding":[1]}]}"#, Err("1 vectors for 2 texts"), true)]
    #[case::too_many(r#"{"embeddings":[[1],[2],[3]]}"#, Err("3 vectors for 2 texts"), true)]
    fn each_text_gets_its_vector(
        #[case] body: &str,
        #[case] expected: Result<Vec<&str>, &str>,
        #[case] in_order: bool,
    ) {
        let request = EmbeddingRequest::read(EmbedForm::List, br#"{"model":"m","input":["a","b"]}"#).unwrap();
        match (read_vectors_for(&request, body.as_bytes()), expected) {
            (Ok(found), Ok(expected)) => {
                let firsts: Vec<&str> = found.vectors.iter().map(|vector| vector[0].as_str()).collect();
                assert_eq!((firsts, found.came_in_order), (expected, in_order));
            }
            (Err(failure), Err(why)) => assert!(failure.detail.contains(why), "{failure:?}"),
            (found, expected) => panic!("{found:?} instead of {expected:?}"),
        }
    }

    #[test]
    fn token_ids_go_only_where_they_mean_the_same() {
        let request = EmbeddingRequest::read(EmbedForm::List, br#"{"model":"m","input":[1,2]}"#).unwrap();
        assert!(request.refused(Dialect::ChatCompletions, &[]).is_some());
        assert!(request.refused(Dialect::ChatCompletions, &[Mark::TokenIds]).is_none());
        assert!(request.refused(Dialect::LocalChat, &[Mark::TokenIds]).is_some());
    }
}
