//! The mistakes that practitioners lose their time with, each as a server, an upstream and what the check has to call it.

use wendor_core::diagnosis::finding::FindingKind as Is;
use wendor_standins::server::Profile;
use wendor_wire::dialect::Dialect;

use super::certificates::Mistake as Certificate;
use super::setup::{EVERY, KEY, LOCAL, MODEL, Mistake, Plans, SHARED, Setup, TWO};

const THREE: &[Dialect] = &[Dialect::ChatCompletions, Dialect::Messages, Dialect::GenerateContent];
const TALKERS: &[Dialect] = &[Dialect::ChatCompletions, Dialect::LocalChat];
const NO_TERMINATOR: &[Dialect] = &[Dialect::ChatCompletions, Dialect::Messages];
const WEIGHTS: &[Dialect] = &[Dialect::LocalChat];
const TAGGED: &[Dialect] = &[Dialect::LocalChat, Dialect::ChatCompletions];

const OLD_LIMIT: &[Dialect] = &[Dialect::ChatCompletions];

/// One whose answers come at a pace and do not end by themselves for long.
fn endless(profile: Profile) -> Profile {
    Profile { answer_tokens: (4_000, 4_000), tokens_per_second: 800, ..profile }
}

/// The name under which test servers are encrypted.
pub const HOST: &str = "pier.tern.example";
/// A host with two addresses, one of them dead.
pub const TWO_ADDRESSES: &str = "both.tern.example";

const fn plain(
    name: &'static str,
    finding: Is,
    dialects: &'static [Dialect],
    make: fn(&Plans<'_>, Setup) -> Setup,
) -> Mistake {
    Mistake { name, finding, dialects, make, mend: None, prove: false }
}

impl Mistake {
    const fn mended_by(mut self, setting: &'static str) -> Self {
        self.mend = Some((setting, None));
        self
    }

    const fn with_value(mut self, value: &'static str) -> Self {
        if let Some((setting, _)) = self.mend {
            self.mend = Some((setting, Some(value)));
        }
        self
    }

    const fn proven(mut self) -> Self {
        self.prove = true;
        self
    }
}

/// What can be seen without asking, and the way there.
pub const WAY: &[Mistake] = &[
    plain("endpoint pasted for an address", Is::EndpointPasted, TWO, |_, setup| {
        let path = wendor_wire::dialects::of(setup.stated).path(MODEL, false);
        setup.at(&format!("http://HERE{path}"))
    })
    .mended_by("address"),
    plain("variable unset", Is::CredentialMissing, TWO, |_, setup| setup.keyed("WENDOR_UPSTREAM_PIER_THAT_NOBODY_SET")),
    plain("placeholder for a key", Is::KeyPlaceholder, TWO, |_, setup| setup.keyed("WENDOR_UPSTREAM_PIER_EXAMPLE")),
    plain("key pasted with `Bearer`", Is::KeyWrapped, TWO, |_, setup| setup.keyed("WENDOR_UPSTREAM_PIER_WITH_SCHEME")),
    plain("key with a line break", Is::KeyWrapped, TWO, |_, setup| setup.keyed("WENDOR_UPSTREAM_PIER_IN_TWO_LINES")),
    plain("key over plain http beyond loopback", Is::KeyExposed, TWO, |_, setup| {
        setup.keyed("WENDOR_UPSTREAM_PIER").at(&format!("http://{HOST}:PORT"))
    })
    .mended_by("plain-http"),
    plain("host misspelt", Is::HostUnknown, TWO, |_, setup| setup.at("http://piir.tern.example:PORT"))
        .mended_by("address"),
    plain("address of a metadata service", Is::AddressRefused, TWO, |_, setup| setup.at("http://169.254.169.254:PORT")),
    plain("nothing listens", Is::NothingListens, TWO, |_, setup| Setup { listens: false, ..setup }),
    plain("nothing listens here, but on another usual port", Is::OtherPort, TWO, |plans, setup| {
        let host = format!("127.66.{}.{}", std::process::id() % 250, plans.number % 250 + 1);
        let listen = format!("{host}:8000").parse().unwrap();
        Setup { profile: Profile { listen, ..setup.profile }, ..setup }.at(&format!("http://{host}:9"))
    })
    .mended_by("address"),
    plain("listens on loopback only", Is::LoopbackOnly, TWO, |_, setup| setup.at("http://127.0.0.3:PORT"))
        .mended_by("address"),
    plain("black hole", Is::BlackHole, TWO, |_, setup| Setup { is_full: true, ..setup }),
    plain("one of two addresses dead", Is::FamilyDead, TWO, |_, setup| {
        setup.at(&format!("http://{TWO_ADDRESSES}:PORT"))
    })
    .mended_by("address"),
];

/// What stands in the way between the connection and the first request.
pub const ENCRYPTION: &[Mistake] = &[
    plain("http to a TLS port", Is::PortEncrypted, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::None), HOST).at(&format!("http://{HOST}:PORT"))
    })
    .mended_by("address"),
    plain("https to a plain port", Is::PortPlain, TWO, |_, setup| setup.at(&format!("https://{HOST}:PORT")))
        .mended_by("address"),
    plain("self-signed", Is::SelfSigned, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::SelfSigned), HOST)
    })
    .mended_by("certificate"),
    plain("chain incomplete", Is::ChainIncomplete, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::ChainCut), HOST)
    })
    .mended_by("certificate"),
    plain("authority unknown", Is::UnknownAuthority, TWO, |plans, setup| {
        setup.encrypted(plans.unknown.server(HOST, Certificate::None), HOST)
    })
    .mended_by("certificate"),
    plain("certificate for another host", Is::OtherHost, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::None), "alias.tern.example")
    })
    .mended_by("address"),
    plain("certificate expired", Is::Expired, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::Expired), HOST)
    }),
    plain("clock off", Is::ClockOff, TWO, |plans, setup| {
        setup
            .encrypted(plans.authority.server(HOST, Certificate::NotYet), HOST)
            .with(|manners| manners.clock_ahead = 3 * 86_400)
    }),
    plain("certificate expires soon", Is::ExpiresSoon, TWO, |plans, setup| {
        setup.encrypted(plans.authority.server(HOST, Certificate::ExpiresSoon), HOST)
    }),
];

/// HTTP, path and dialect.
pub const PATH: &[Mistake] = &[
    plain("prefix missing", Is::PrefixMissing, EVERY, |_, setup| {
        setup.with(|manners| manners.prefix = Some("/serve".into()))
    })
    .mended_by("address"),
    plain("prefix doubled", Is::PrefixDoubled, EVERY, |_, setup| {
        setup.with(|manners| manners.prefix = Some("/serve".into())).at("http://HERE/serve/serve")
    })
    .mended_by("address"),
    plain("answers like a web page", Is::WebPage, TWO, |_, setup| setup.with(|manners| manners.shows_page = true)),
    plain("redirect to a sign-in", Is::SignInPage, TWO, |_, setup| {
        setup.with(|manners| manners.leads_to = Some("https://door.tern.example/sign-in?next=%2F".into()))
    }),
    plain("another dialect than stated", Is::OtherDialect, THREE, |_, setup| Setup {
        stated: Dialect::LocalChat,
        ..setup
    })
    .mended_by("dialect"),
    plain(
        "another dialect than stated, by its errors",
        Is::OtherDialect,
        &[Dialect::Messages, Dialect::Responses],
        |_, setup| Setup { stated: Dialect::ChatCompletions, ..setup }.keyed("WENDOR_UPSTREAM_PIER"),
    )
    .mended_by("dialect"),
    plain("nothing of any dialect there", Is::PathUnknown, TWO, |_, setup| {
        setup.with(|manners| manners.prefix = Some("/far/away/from/here".into()))
    }),
];

/// Keys, headers, terms, credit.
pub const KEYS: &[Mistake] = &[
    plain("key missing", Is::KeyMissing, EVERY, |_, setup| Setup {
        profile: Profile { credential: Some(KEY.into()), ..setup.profile },
        ..setup
    }),
    plain("key of another service", Is::KeyRefused, EVERY, |_, setup| {
        let setup = setup.keyed("WENDOR_UPSTREAM_PIER");
        Setup { profile: Profile { credential: Some("another-key".into()), ..setup.profile }, ..setup }
    }),
    plain("key in the wrong header", Is::KeyElsewhere, EVERY, |_, setup| {
        setup.keyed("WENDOR_UPSTREAM_PIER").with(|manners| manners.key_place = Some("header:x-api-key".into()))
    })
    .mended_by("auth"),
    plain("key in a header instead of the query", Is::KeyElsewhere, LOCAL, |_, setup| {
        setup.keyed("WENDOR_UPSTREAM_PIER").with(|manners| manners.key_place = Some("query:key".into()))
    })
    .mended_by("auth"),
    plain("a required header missing", Is::HeaderMissing, TWO, |_, setup| {
        setup.keyed("WENDOR_UPSTREAM_PIER").with(|manners| manners.wants_header = Some("harbour-version".into()))
    })
    .mended_by("header")
    .with_value("2026-06-01"),
    plain("terms not accepted", Is::TermsNotAccepted, TWO, |_, setup| {
        setup.with(|manners| {
            manners.refuses = Some((
                403,
                "terms_not_accepted".into(),
                "Accept the terms of this model in your account first.".into(),
            ));
        })
    }),
    plain("out of credit", Is::OutOfCredit, TWO, |_, setup| {
        setup.with(|manners| {
            manners.refuses = Some((429, "insufficient_quota".into(), "Your credit is used up.".into()))
        })
    }),
    plain("out of credit, by its status", Is::OutOfCredit, LOCAL, |_, setup| {
        setup.with(|manners| manners.refuses = Some((402, "payment".into(), "Pay first.".into())))
    }),
];

/// Models and answers.
pub const ANSWERS: &[Mistake] = &[
    plain("model misspelt", Is::ModelUnknown, EVERY, |_, setup| setup.offering("dunlim-7b", "")).mended_by("model"),
    plain("tag missing", Is::TagMissing, TAGGED, |_, setup| {
        Setup { profile: Profile { models: vec!["knot:13b".into()], ..setup.profile }, ..setup }.offering("knot", "")
    })
    .mended_by("model"),
    plain("same name with other weights", Is::OtherWeights, WEIGHTS, |_, setup| {
        Setup { profile: Profile { models: vec![SHARED.into()], ..setup.profile }, ..setup }
            .with(|manners| drop(manners.digests.insert(SHARED.into(), "5eaf00d5eaf00d5eaf00d".into())))
            .offering(SHARED, "")
    })
    .mended_by("weights"),
    plain("pinned to other weights", Is::OtherWeights, WEIGHTS, |_, setup| {
        setup.offering(MODEL, "weights = { digest = \"sha256:0123456789abcdef\" }")
    })
    .mended_by("weights"),
    plain("slow load", Is::SlowLoad, TALKERS, |_, setup| setup.with(|manners| manners.load_ms = 2_200)),
    plain("stream buffered in one piece", Is::Buffered, TWO, |_, setup| {
        Setup { profile: Profile { tokens_per_second: 40, ..setup.profile }, ..setup }
            .with(|manners| manners.buffers = true)
    }),
    plain("no usage", Is::NoUsage, &[Dialect::ChatCompletions, Dialect::GenerateContent], |_, setup| {
        setup.with(|manners| manners.no_usage = true)
    }),
    plain("a limit on output that nobody keeps to", Is::LimitIgnored, TALKERS, |_, setup| {
        let setup = setup.with(|manners| manners.ignores_limit = Some("any".to_owned()));
        Setup { profile: endless(setup.profile), ..setup }
    }),
    plain("a limit that is known by its old name alone", Is::LimitIgnored, OLD_LIMIT, |_, setup| {
        let setup = setup.with(|manners| manners.ignores_limit = Some("max_completion_tokens".to_owned()));
        Setup { profile: endless(setup.profile), ..setup }
    })
    .mended_by("mark"),
    plain("no terminator", Is::NoTerminator, NO_TERMINATOR, |_, setup| {
        setup.with(|manners| manners.no_terminator = true)
    }),
    plain("thinking eats the whole cap", Is::ThinkingAtCap, TWO, |_, setup| {
        setup.with(|manners| manners.thinks = 100).offering(MODEL, "output_cap = 64")
    })
    .mended_by("output-cap"),
];

/// What a server claims or is said to do, and does not.
pub const ABILITIES: &[Mistake] = &[
    plain("image ignored", Is::ImagesIgnored, TWO, |_, setup| setup.with(|manners| manners.ignores_images = true))
        .mended_by("abilities")
        .proven(),
    plain("tools ignored", Is::ToolsIgnored, TWO, |_, setup| setup.with(|manners| manners.ignores_tools = true))
        .mended_by("abilities")
        .proven(),
    plain("schema ignored", Is::SchemaIgnored, TWO, |_, setup| setup.with(|manners| manners.ignores_schema = true))
        .mended_by("abilities")
        .proven(),
    plain("context cut silently", Is::ContextCut, TALKERS, |_, setup| {
        setup.with(|manners| manners.cuts_to = Some(1_024))
    })
    .mended_by("context-window")
    .proven(),
];

/// Every group, with what it is about.
pub const GROUPS: [(&str, &[Mistake]); 6] = [
    ("Settings, name, connection", WAY),
    ("Encryption", ENCRYPTION),
    ("Path and dialect", PATH),
    ("Key, header, terms, credit", KEYS),
    ("Models and answers", ANSWERS),
    ("Abilities (`--prove`)", ABILITIES),
];
