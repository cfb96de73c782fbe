//! Every finding that a check can make. Each has a code, which programs and `docs/diagnosis.md` name it by.

use serde::{Deserialize, Serialize};

use super::remedy::Remedy;

macro_rules! findings {
    ($($(#[doc = $doc:literal])+ $variant:ident => $code:literal, $about:literal;)+) => {
        /// What is the matter.
        #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
        pub enum FindingKind {
            $($(#[doc = $doc])+ #[serde(rename = $code)] $variant,)+
        }

        impl FindingKind {
            /// Every finding, in the order in which a check comes upon them.
            pub const ALL: &'static [Self] = &[$(Self::$variant),+];

            /// Its code.
            #[must_use]
            pub fn code(self) -> &'static str {
                match self {
                    $(Self::$variant => $code,)+
                }
            }

            /// What it means, in a line.
            #[must_use]
            pub fn about(self) -> &'static str {
                match self {
                    $(Self::$variant => $about,)+
                }
            }
        }
    };
}

findings! {
    /// Without asking.
    EndpointPasted => "endpoint-pasted", "the address is that of an endpoint, not the server's base address";
    /// Without asking.
    CredentialMissing => "credential-missing", "the credential is not where the configuration says";
    /// Without asking.
    KeyWrapped => "key-wrapped", "something was pasted along with the key: `Bearer`, quotes, a line break";
    /// Without asking.
    KeyPlaceholder => "key-placeholder", "the key is an example that was never replaced";
    /// Without asking.
    KeyExposed => "key-exposed", "the key would cross a network unencrypted";
    /// Name.
    HostUnknown => "host-unknown", "the host name does not resolve";
    /// An address that nothing is sent to.
    AddressRefused => "address-refused", "the host leads to an address that nothing is sent to";
    /// Connection.
    OtherPort => "other-port", "nothing listens on the port, but on another usual one";
    /// Connection.
    LoopbackOnly => "loopback-only", "the server listens only to its own machine";
    /// Connection.
    NothingListens => "nothing-listens", "the machine is there, but nothing listens on the port";
    /// Connection.
    BlackHole => "black-hole", "the machine does not respond: what is sent is dropped on the way";
    /// Connection.
    NoWay => "no-way", "there is no network route to the machine from here";
    /// Connection.
    FamilyDead => "family-dead", "one of the host's addresses does not answer, so that connections begin late";
    /// Connection, or any step after it.
    TimeUp => "time-up", "the check's own time limit ended before the server's answer";
    /// Encryption.
    PortEncrypted => "port-encrypted", "the port speaks TLS, the address says http";
    /// Encryption.
    PortPlain => "port-plain", "the port speaks plain HTTP, the address says https";
    /// Encryption.
    SelfSigned => "self-signed", "the certificate is self-signed, so no authority confirms it";
    /// Encryption.
    ChainIncomplete => "chain-incomplete", "the server does not send its intermediate certificates";
    /// Encryption.
    UnknownAuthority => "unknown-authority", "the certificate is from an unknown authority";
    /// Encryption.
    OtherHost => "other-host", "the certificate is for another host";
    /// Encryption.
    Expired => "expired", "the certificate has expired";
    /// Encryption.
    OldCertificate => "old-certificate", "the certificate has a form that is no longer accepted";
    /// Encryption.
    OldEncryption => "old-encryption", "the server speaks only obsolete versions or ciphers of TLS";
    /// Encryption, or HTTP.
    ClientCertificate => "client-certificate", "the server requires a client certificate";
    /// Encryption.
    ClockOff => "clock-off", "the certificate is good by the server's clock but not by ours";
    /// Encryption.
    HandshakeFailed => "handshake-failed", "the TLS handshake fails";
    /// Encryption.
    ExpiresSoon => "expires-soon", "the certificate expires within two weeks";
    /// HTTP.
    NotHttp => "not-http", "what listens there does not speak HTTP";
    /// HTTP.
    Http2Only => "http2-only", "the port speaks only HTTP/2, without TLS";
    /// HTTP.
    ClosedUnanswered => "closed-unanswered", "connections are accepted and closed without an answer";
    /// HTTP.
    Silent => "silent", "connections are accepted and nothing is answered";
    /// HTTP.
    Busy => "busy", "the server is busy with other answers";
    /// HTTP.
    SignInPage => "sign-in-page", "requests are redirected to a sign-in page for people";
    /// HTTP.
    Moved => "moved", "the server redirects to another address";
    /// HTTP.
    WebPage => "web-page", "the server answers with web pages";
    /// HTTP.
    NotReady => "not-ready", "the server is there and not ready yet";
    /// HTTP, or answers.
    BadGateway => "bad-gateway", "a proxy answers, and the server behind it does not";
    /// HTTP, or answers.
    GivesUp => "gives-up", "a proxy on the way times out before the answer";
    /// HTTP, or answers.
    ServerError => "server-error", "the server itself fails";
    /// HTTP, or key.
    HeaderLimit => "header-limit", "the headers are larger than the server or a proxy before it takes";
    /// Path.
    PrefixMissing => "prefix-missing", "the API is below a path that the address lacks";
    /// Path.
    PrefixDoubled => "prefix-doubled", "the address has an extra path";
    /// Path.
    OtherDialect => "other-dialect", "the server speaks another dialect than the upstream says";
    /// Path.
    PathUnknown => "path-unknown", "no dialect's endpoints are at this address";
    /// Key.
    KeyMissing => "key-missing", "the server requires a key, and none is set";
    /// Key.
    KeyElsewhere => "key-elsewhere", "the server expects the key in another place";
    /// Key.
    KeyRefused => "key-refused", "the server refuses the key";
    /// Key.
    ProxySignIn => "proxy-sign-in", "a proxy on the way requires signing in";
    /// Key, or answers.
    IdsRefused => "ids-refused", "the server refuses requests for the ids that Wendor sends with them";
    /// Key.
    HeaderMissing => "header-missing", "the server requires a request header that is not set";
    /// Key.
    TermsNotAccepted => "terms-not-accepted", "terms must be accepted or a form filled in before the model may be used";
    /// Key.
    OutOfCredit => "out-of-credit", "the account at the service has no credit left";
    /// Key.
    RateLimited => "rate-limited", "the server rate-limits requests";
    /// Key.
    Refused => "refused", "the server refuses for a reason of its own";
    /// Models.
    NoModels => "no-models", "the server lists no models";
    /// Models.
    TagMissing => "tag-missing", "the model is there under its name with a tag";
    /// Models.
    ModelUnknown => "model-unknown", "the server has no model of that name";
    /// Models.
    ModelRefused => "model-refused", "the model is listed and may not be used";
    /// Models.
    AnyName => "any-name", "the server answers whatever model is named";
    /// Models.
    OtherWeights => "other-weights", "the same name stands for other weights elsewhere, or than the offer is pinned to";
    /// Answers.
    NoAnswer => "no-answer", "the server takes the question and does not answer";
    /// Answers.
    BrokenOff => "broken-off", "the answer breaks off";
    /// Answers.
    NeverEnds => "never-ends", "a stream is complete, and neither ended nor closed";
    /// Answers.
    NotAStream => "not-a-stream", "a stream is asked for, and something else is sent";
    /// Answers.
    Compressed => "compressed", "answers are compressed although not asked for";
    /// Answers.
    ErrorInAnswer => "error-in-answer", "an error stands where the answer should be";
    /// Answers.
    BodyLimit => "body-limit", "requests of a size that apps send are refused on the way";
    /// Answers.
    RoleUnknown => "role-unknown", "the role `developer` is refused";
    /// Answers.
    NotTheDialect => "not-the-dialect", "the answer is not what the dialect promises";
    /// Answers.
    SlowLoad => "slow-load", "the first answer waits for the model to be loaded";
    /// Answers.
    Buffered => "buffered", "a stream arrives in one piece, or in a few lumps";
    /// Answers.
    NoUsage => "no-usage", "the stream does not report usage";
    /// Answers.
    NoTerminator => "no-terminator", "the stream ends without its terminator";
    /// Answers.
    ThinkingAtCap => "thinking-at-cap", "the model thinks until the offer's output cap and gives no answer";
    /// Answers.
    LimitIgnored => "limit-ignored", "the server does not keep to the limit on output";
    /// Answers.
    AnswerEmpty => "answer-empty", "the answer is empty";
    /// Abilities.
    ToolsIgnored => "tools-ignored", "functions are not called, or not with what they were asked for";
    /// Abilities.
    ImagesIgnored => "images-ignored", "images are not looked at";
    /// Abilities.
    SchemaIgnored => "schema-ignored", "answers do not keep to the schema asked for";
    /// Abilities.
    ReasoningAbsent => "reasoning-absent", "no thinking is returned when it is asked for";
    /// Abilities.
    EmbeddingsWrong => "embeddings-wrong", "vectors are missing, or do not tell texts apart";
    /// Abilities.
    ContextCut => "context-cut", "long prompts are cut silently";
}

/// Whether the way is barred.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Weight {
    /// Nothing goes on from here.
    Failing,
    /// It works, but someone should know.
    Noted,
}

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Finding {
    /// What is the matter.
    pub kind: FindingKind,
    /// Whether the way is barred.
    pub weight: Weight,
    /// The same in plain words, with the values that it is about.
    pub says: String,
    /// What can be done.
    pub remedies: Vec<Remedy>,
}

impl Finding {
    /// One that bars the way.
    #[must_use]
    pub fn failing(kind: FindingKind, says: impl Into<String>, remedies: Vec<Remedy>) -> Self {
        Self { kind, weight: Weight::Failing, says: says.into(), remedies }
    }

    /// One that only must be known.
    #[must_use]
    pub fn noted(kind: FindingKind, says: impl Into<String>, remedies: Vec<Remedy>) -> Self {
        Self { kind, weight: Weight::Noted, says: says.into(), remedies }
    }
}
