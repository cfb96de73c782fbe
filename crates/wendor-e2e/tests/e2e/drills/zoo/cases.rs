//! Everything in the zoo: what stands there, what the check has to call it, and the remedy that it applies itself.

use wendor_core::diagnosis::finding::FindingKind as Is;
use wendor_standins::server::Profile;

use super::programs::Socket;
use super::{Certificate, MODEL};

/// What stands before the stand-in, or in its place.
#[derive(Clone, Copy, Debug)]
pub enum Front {
    /// Nothing.
    None,
    /// A web server or a proxy, by its configuration.
    Web(&'static str),
    /// A tool that puts TLS before a server.
    Tls(&'static str),
    /// Spreads connections over servers behind it; by its name.
    Balancer(&'static str),
    /// A remote shell.
    Shell,
    /// Speaks its own protocol on the port.
    Database,
    /// A bare socket.
    Socket(Socket),
}

/// What is started, and what must be said of it.
#[derive(Clone, Copy)]
pub struct Case {
    /// What it is, as practitioners say it.
    pub name: &'static str,
    /// Whether it is part of the quick half.
    pub is_quick: bool,
    /// What stands there.
    pub front: Front,
    /// What it shows for itself, where it speaks TLS.
    pub certificate: Certificate,
    /// The stand-in behind it.
    pub behind: fn(Profile) -> Profile,
    /// The address, with `PORT` for its port.
    pub address: &'static str,
    /// Further lines of the upstream's table.
    pub lines: &'static str,
    /// The model that is offered.
    pub model: &'static str,
    /// What the check has to call it; `None` where nothing is the matter.
    pub finding: Option<Is>,
    /// The setting of the remedy that mends it.
    pub mend: Option<&'static str>,
}

const PLAIN: &str = "http://127.0.0.1:PORT";
const NAMED: &str = "http://pier.tern.example:PORT";
const TLS: &str = "https://pier.tern.example:PORT";
const KEYED: &str = "credential = { env = \"WENDOR_UPSTREAM_PIER\" }\nplain_http = \"allowed\"";

const fn case(name: &'static str, front: Front, finding: Option<Is>) -> Case {
    Case {
        name,
        is_quick: false,
        front,
        certificate: Certificate::Good,
        behind: plain,
        address: PLAIN,
        lines: "",
        model: MODEL,
        finding,
        mend: None,
    }
}

impl Case {
    const fn quick(self) -> Self {
        Self { is_quick: true, ..self }
    }

    const fn showing(self, certificate: Certificate) -> Self {
        Self { certificate, ..self }
    }

    const fn before(self, behind: fn(Profile) -> Profile) -> Self {
        Self { behind, ..self }
    }

    const fn at(self, address: &'static str) -> Self {
        Self { address, ..self }
    }

    const fn with(self, lines: &'static str) -> Self {
        Self { lines, ..self }
    }

    const fn offering(self, model: &'static str) -> Self {
        Self { model, ..self }
    }

    const fn mended_by(self, setting: &'static str) -> Self {
        Self { mend: Some(setting), ..self }
    }
}

fn plain(profile: Profile) -> Profile {
    profile
}

/// One that answers at the pace of a model.
fn paced(profile: Profile) -> Profile {
    Profile { tokens_per_second: 50, answer_tokens: (40, 40), ..profile }
}

/// One that does not stop by itself for long.
fn endless(profile: Profile) -> Profile {
    Profile { tokens_per_second: 800, answer_tokens: (1_600, 1_600), ..profile }
}

macro_rules! manners {
    ($($name:ident: $($field:ident = $value:expr),+;)+) => {
        $(fn $name(mut profile: Profile) -> Profile {
            $(profile.manners.$field = $value;)+
            profile
        })+
    };
}

manners! {
    any_name: any_name = true;
    refuses_ids: refuses_header = Some("x-request-id".to_owned());
    json_streams: stream_type = Some("application/json".to_owned());
    compresses: compresses = true;
    never_closes: never_closes = true, no_terminator = true;
    closes_never_but_ends: never_closes = true;
    says_error: says_error = Some("the card is out of memory".to_owned());
    no_developer: no_developer = true;
    refuses_model: refuses_models = vec![MODEL.to_owned()];
    one_at_a_time: one_at_a_time = true, listing_ends_streams = true;
    loading: says_loading_ms = 60_000;
    pausing: pauses_ms = 2_500;
    other_model: any_name = false;
}

fn pauses(profile: Profile) -> Profile {
    paced(pausing(profile))
}

fn slow_to_begin(profile: Profile) -> Profile {
    Profile { first_token_ms: (2_500, 2_500), ..profile }
}

fn limitless(profile: Profile) -> Profile {
    let mut profile = endless(profile);
    profile.manners.ignores_limit = Some("any".to_owned());
    profile
}

fn old_limit(profile: Profile) -> Profile {
    let mut profile = endless(profile);
    profile.manners.ignores_limit = Some("max_completion_tokens".to_owned());
    profile
}

fn renamed(profile: Profile) -> Profile {
    Profile { models: vec!["knot-13b".to_owned()], ..other_model(profile) }
}

fn keyed(profile: Profile) -> Profile {
    Profile { credential: Some(super::KEY.to_owned()), ..profile }
}

fn renamed_and_any(profile: Profile) -> Profile {
    any_name(renamed(profile))
}

/// Web servers and proxies.
const WEB: &[Case] = &[
    case("a proxy", Front::Web("proxy"), None).before(paced).quick(),
    case("a proxy with its usual buffering", Front::Web("usual-buffering"), None).before(paced),
    case("a proxy that gives up between two tokens", Front::Web("impatient"), Some(Is::GivesUp)).before(pauses),
    case("a proxy that gives up before the first", Front::Web("impatient"), Some(Is::GivesUp))
        .before(slow_to_begin)
        .quick(),
    case("a proxy with a limit on bodies", Front::Web("small-bodies"), Some(Is::BodyLimit)).quick(),
    case("a proxy with a limit on headers", Front::Web("small-headers"), Some(Is::HeaderLimit))
        .at(NAMED)
        .with("credential = { env = \"WENDOR_UPSTREAM_LONG\" }\nplain_http = \"allowed\""),
    case("a proxy that fails", Front::Web("broken"), Some(Is::ServerError)).quick(),
    case("a proxy that is not available", Front::Web("not-available"), Some(Is::NotReady)),
    case("a web server with pages", Front::Web("pages"), Some(Is::WebPage)).quick(),
    case("a web server with nothing", Front::Web("nothing"), Some(Is::PathUnknown)),
    case("a proxy that wants a user", Front::Web("signed-in"), Some(Is::KeyMissing)).quick(),
    case("a proxy that gets its user", Front::Web("signed-in"), None)
        .at(NAMED)
        .with("credential = { env = \"WENDOR_UPSTREAM_BASIC\" }\nplain_http = \"allowed\"")
        .quick(),
    case("a web server that forbids", Front::Web("forbidden"), Some(Is::KeyMissing)),
    case("a proxy that leads to a sign-in", Front::Web("to-a-sign-in"), Some(Is::SignInPage)).quick(),
    case("a proxy that leads to a sign-in whoever has no key", Front::Web("to-a-sign-in-without-a-key"), None)
        .at(NAMED)
        .with(KEYED),
    case("a proxy that hides everything from whoever has no key", Front::Web("hidden-without-a-key"), None)
        .at(NAMED)
        .with(KEYED)
        .quick(),
    case(
        "a proxy that wants the key in a header of its own",
        Front::Web("key-in-a-header-of-its-own"),
        Some(Is::KeyElsewhere),
    )
    .at(NAMED)
    .with(KEYED)
    .mended_by("auth")
    .quick(),
    case("a web server that adds a slash", Front::Web("with-a-slash"), Some(Is::Moved)),
    case("a proxy that leads to another host", Front::Web("to-another-host"), Some(Is::Moved))
        .at(NAMED)
        .with(KEYED)
        .mended_by("address")
        .quick(),
    case("a proxy that leads to TLS", Front::Web("to-tls"), Some(Is::Moved)).at(NAMED).mended_by("address"),
    case("a proxy below a path", Front::Web("below-a-path"), Some(Is::PrefixMissing)).mended_by("address"),
    case("a proxy with nothing behind", Front::Balancer("nobody-available"), Some(Is::NotReady)),
    case("a proxy that speaks TLS", Front::Web("tls"), None).at(TLS),
    case("a proxy that speaks TLS, asked in plain", Front::Web("tls"), Some(Is::PortEncrypted))
        .at(NAMED)
        .mended_by("address")
        .quick(),
    case("a proxy in plain, asked in TLS", Front::Web("proxy"), Some(Is::PortPlain)).at(TLS).mended_by("address"),
    case("a proxy that wants a certificate", Front::Web("who-asks"), Some(Is::ClientCertificate)).at(TLS).quick(),
    case("a proxy that gets a certificate", Front::Web("who-asks"), None)
        .at(TLS)
        .with("client_certificate = \"wendor.pem\"")
        .quick(),
    case("a proxy of the second version alone", Front::Web("second-version"), Some(Is::Http2Only)).quick(),
    case("a proxy that takes one request a minute", Front::Web("once-a-minute"), Some(Is::RateLimited)),
    // It joins what comes within a fifth of a second, unless it is told not to.
    case("a balancer", Front::Balancer("plain"), Some(Is::Buffered)).before(paced).quick(),
    case("a balancer that does not collect", Front::Balancer("without-delay"), None).before(paced),
    case("a balancer that gives up", Front::Balancer("impatient"), Some(Is::GivesUp)).before(slow_to_begin),
    case("a balancer that gives up between two tokens", Front::Balancer("impatient"), Some(Is::GivesUp)).before(pauses),
    case("a balancer with nothing behind", Front::Balancer("nobody-behind"), Some(Is::ClosedUnanswered)).quick(),
];

/// TLS.
const ENCRYPTED: &[Case] = &[
    case("TLS", Front::Tls("plain"), None).at(TLS).quick(),
    case("TLS in capitals", Front::Tls("plain"), None).at("HTTPS://pier.tern.example:PORT"),
    case("TLS without the chain", Front::Tls("plain"), Some(Is::ChainIncomplete))
        .at(TLS)
        .showing(Certificate::Alone)
        .mended_by("certificate")
        .quick(),
    case("TLS signed by itself", Front::Tls("plain"), Some(Is::SelfSigned))
        .at(TLS)
        .showing(Certificate::SelfSigned)
        .mended_by("certificate"),
    case("TLS of an unknown authority", Front::Tls("plain"), Some(Is::UnknownAuthority))
        .at(TLS)
        .showing(Certificate::Unknown)
        .mended_by("certificate"),
    case("TLS of an unknown authority for another host", Front::Tls("plain"), Some(Is::UnknownAuthority))
        .at(TLS)
        .showing(Certificate::UnknownForAnother),
    case("TLS for another host", Front::Tls("plain"), Some(Is::OtherHost)).at(TLS).showing(Certificate::ForAnother),
    case("TLS whose time is over", Front::Tls("plain"), Some(Is::Expired)).at(TLS).showing(Certificate::Over),
    case("TLS with a certificate of the first version", Front::Tls("plain"), Some(Is::OldCertificate))
        .at(TLS)
        .showing(Certificate::Old)
        .quick(),
    case("TLS of an old version", Front::Tls("versions-of-old"), Some(Is::OldEncryption)).at(TLS).quick(),
    case("TLS with an old cipher", Front::Tls("ciphers-of-old"), Some(Is::OldEncryption))
        .at(TLS)
        .showing(Certificate::Old)
        .quick(),
    case("TLS that wants a certificate", Front::Tls("who-asks"), Some(Is::ClientCertificate)).at(TLS).quick(),
    case("TLS 1.2 that wants a certificate", Front::Tls("who-asks-in-the-older-version"), Some(Is::ClientCertificate))
        .at(TLS),
    case("TLS that gets a certificate", Front::Tls("who-asks"), None)
        .at(TLS)
        .with("client_certificate = \"wendor.pem\""),
    case("TLS asked in plain", Front::Tls("plain"), Some(Is::PortEncrypted)).at(NAMED).mended_by("address"),
];

/// What is no model server at all.
const OTHERS: &[Case] = &[
    case("a remote shell", Front::Shell, Some(Is::NotHttp)).quick(),
    case("a remote shell, asked in TLS", Front::Shell, Some(Is::NotHttp)).at(TLS),
    case("a database", Front::Database, Some(Is::ClosedUnanswered)).quick(),
    case("a database, asked in TLS", Front::Database, Some(Is::HandshakeFailed)).at(TLS),
    case("a socket that stalls", Front::Socket(Socket::Stalls), Some(Is::Silent)).quick(),
    case("a socket that closes", Front::Socket(Socket::Closes), Some(Is::ClosedUnanswered)).quick(),
    case("a socket that resets", Front::Socket(Socket::Resets), Some(Is::ClosedUnanswered)).quick(),
    case("a socket that trickles", Front::Socket(Socket::Trickles), Some(Is::Silent)),
    case("a socket with a banner", Front::Socket(Socket::Mumbles), Some(Is::NotHttp)).quick(),
];

/// Stand-ins with the manners of real servers.
const SERVERS: &[Case] = &[
    case("a server that answers to any name", Front::None, Some(Is::AnyName))
        .before(renamed_and_any)
        .mended_by("model")
        .quick(),
    case("a server with one model, and another wanted", Front::None, Some(Is::ModelUnknown))
        .before(renamed)
        .mended_by("model")
        .quick(),
    case("a server that lists a model and refuses it", Front::None, Some(Is::ModelRefused))
        .before(refuses_model)
        .quick(),
    case("a server that refuses ids", Front::None, Some(Is::IdsRefused))
        .before(refuses_ids)
        .mended_by("no-request-ids")
        .quick(),
    case("a server whose streams are of another type", Front::None, Some(Is::NotAStream)).before(json_streams).quick(),
    case("a server that compresses", Front::None, Some(Is::Compressed)).before(compresses).quick(),
    case("a server whose streams never end", Front::None, Some(Is::NeverEnds)).before(never_closes).quick(),
    case("a server whose streams end and stay open", Front::None, None).before(closes_never_but_ends),
    case("a server with an error in its answers", Front::None, Some(Is::ErrorInAnswer)).before(says_error).quick(),
    case("a server without the role of the developer", Front::None, Some(Is::RoleUnknown))
        .before(no_developer)
        .mended_by("mark")
        .quick(),
    case("a server that serves one at a time", Front::None, None).before(one_at_a_time).with("streams = 1").quick(),
    case("a server without a limit", Front::None, Some(Is::LimitIgnored)).before(limitless),
    case("a server that knows the old limit", Front::None, Some(Is::LimitIgnored)).before(old_limit).mended_by("mark"),
    case("a server that loads", Front::None, Some(Is::NotReady)).before(loading),
    case("a server with a key", Front::None, None).before(keyed).with(KEYED),
    case("a model that nobody has", Front::None, Some(Is::ModelUnknown)).offering("kittiwake-1b").mended_by("model"),
];

/// All of it.
pub const ALL: &[&[Case]] = &[WEB, ENCRYPTED, OTHERS, SERVERS];
