//! The vectors: a request, the reply to it, and what an app then sees.

use std::path::PathBuf;

use serde_json::Value;
use wendor_wire::ability::Controls;
use wendor_wire::codec::{AnswerHead, Outside};
use wendor_wire::conversation::{Conversation, FunctionForm, UsageFrame};
use wendor_wire::dialect::Dialect;
use wendor_wire::dialects;
use wendor_wire::json::Wrong;
use wendor_wire::seal::SealDomain;
use wendor_wire::verdict::Target;

/// A reply as it came.
pub enum Reply {
    /// In one piece.
    Whole(u16, Value),
    /// A stream of status 200.
    Stream(Vec<u8>),
}

/// A file of `vectors/`: what comes in and what must come out.
pub struct Vector {
    pub dialect: Dialect,
    pub name: String,
    pub path: String,
    pub body: Value,
    pub reply: Reply,
    pub expect: Option<Value>,
}

impl Vector {
    /// Whether it is a conversation, and not a listing, a count or a medium.
    pub fn is_chat(&self) -> bool {
        match self.dialect {
            Dialect::ChatCompletions => self.path == "/v1/chat/completions",
            Dialect::Responses => self.path == "/v1/responses",
            Dialect::Messages => self.path == "/v1/messages",
            Dialect::GenerateContent => {
                self.path.ends_with(":generateContent") || self.path.ends_with(":streamGenerateContent")
            }
            Dialect::LocalChat => self.path == "/api/chat",
        }
    }

    /// The request as a neutral conversation.
    pub fn conversation(&self) -> Result<Conversation, Wrong> {
        dialects::of(self.dialect).read_request(&self.body.to_string(), self.outside())
    }

    fn outside(&self) -> Outside<'_> {
        let model = self.path.split_once("/models/").and_then(|(_, rest)| rest.rsplit_once(':'));
        let is_streamed = self.path.ends_with(":streamGenerateContent");
        Outside { model: model.map(|(model, _)| model), is_streamed, ..Outside::default() }
    }
}

/// All vectors of a dialect, by name.
pub fn of(dialect: Dialect) -> Vec<Vector> {
    let folder = PathBuf::from(env!("CARGO_MANIFEST_DIR")).join("vectors").join(dialect.as_str());
    let mut names: Vec<String> = std::fs::read_dir(&folder)
        .unwrap()
        .filter_map(|file| file.unwrap().file_name().to_str()?.strip_suffix(".request.json").map(str::to_owned))
        .collect();
    names.sort();
    let text = |name: &str, ending: &str| std::fs::read(folder.join(format!("{name}.{ending}"))).ok();
    let json = |bytes: Vec<u8>| serde_json::from_slice::<Value>(&bytes).unwrap();
    let one = |name: String| {
        let request = json(text(&name, "request.json").unwrap());
        let stream = text(&name, "reply.sse").or_else(|| text(&name, "reply.ndjson"));
        let reply = match stream {
            Some(stream) => Reply::Stream(stream),
            None => {
                let mut reply = json(text(&name, "reply.json").unwrap());
                Reply::Whole(u16::try_from(reply["status"].as_u64().unwrap()).unwrap(), reply["body"].take())
            }
        };
        Vector {
            dialect,
            path: request["path"].as_str().unwrap().to_owned(),
            body: request["body"].clone(),
            reply,
            expect: text(&name, "expect.json").map(json),
            name,
        }
    };
    names.into_iter().map(one).collect()
}

/// All vectors of all dialects.
pub fn all() -> Vec<Vector> {
    Dialect::ALL.into_iter().flat_map(of).collect()
}

/// An offer that takes all that its dialect has.
pub fn target(dialect: Dialect) -> Target<'static> {
    let pass = wendor_wire::ability::ControlPolicy::Pass;
    let mut controls = Controls::default();
    for (_, control) in wendor_wire::ability::Control::WORDS {
        controls.set(*control, pass);
    }
    Target { dialect, model: "dunlin-7b", marks: &[], controls, seals: SealDomain::named("farlight"), output_cap: None }
}

/// The head of an answer.
pub fn head() -> AnswerHead {
    AnswerHead {
        request: "01JDF3-7QK2M0XZ4T".to_owned(),
        model: "night-sailings".to_owned(),
        at: chrono::DateTime::from_timestamp(1_790_000_000, 0).unwrap(),
        usage_frame: UsageFrame::Asked,
        functions: FunctionForm::Tools,
        input_estimate: 12,
        estimates_usage: false,
        seals: SealDomain::named("farlight"),
    }
}
