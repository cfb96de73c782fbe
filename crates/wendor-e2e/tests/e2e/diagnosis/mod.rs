//! Every mistake of [`mistakes`] is named rightly; every remedy that is data is applied by the command, and the check is then green. Odd but
//! healthy servers give no finding. The tables stand in `docs/diagnosis.md`.

pub mod certificates;
mod mistakes;
mod setup;

use certificates::{Authority, Mistake as Certificate};
use futures_util::future::join_all;
use mistakes::{ABILITIES, ANSWERS, ENCRYPTION, GROUPS, HOST, KEYS, PATH, TWO_ADDRESSES, WAY};
use rstest::rstest;
use serde_json::Value;
use setup::{Alive, MODEL, Mistake, Plans, SHARED, Setup, VARIABLES, start};
use wendor_core::diagnosis::finding::FindingKind;
use wendor_e2e::ferry::{Ferry, Wishes};
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;

/// An installation for checks.
struct Bench {
    ferry: Ferry,
    authority: Authority,
    unknown: Authority,
    _folder: tempfile::TempDir,
    /// Has the model of the tests under other weights.
    _elsewhere: StandIn,
    base: String,
}

impl Bench {
    async fn begin() -> Self {
        let _installed = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let authority = Authority::make("Tern Isles");
        let hosts = folder.path().join("hosts");
        let text = format!("127.0.0.1 {HOST} {TWO_ADDRESSES} alias.tern.example\n::1 {TWO_ADDRESSES}\n");
        std::fs::write(&hosts, text).unwrap();
        let mut settings = vec![
            ("WENDOR_AUTHORITIES", authority.write(folder.path()).display().to_string()),
            ("WENDOR_HOSTS", hosts.display().to_string()),
            ("WENDOR_SECRET", "the tide waits for nobody, not even for ferries".to_owned()),
            ("WENDOR_CHECK_TOKENS", "100000000".to_owned()),
        ];
        settings.extend(VARIABLES.map(|(name, value)| (name, value.to_owned())));
        let wishes = Wishes { settings, ..Wishes::default() };
        let profile = Profile { dialect: Dialect::LocalChat, ..Profile::quick("elsewhere", &[SHARED]) };
        let elsewhere = StandIn::start(profile).await.unwrap();
        let ferry = Ferry::with(Wishes { settings: wishes.settings.clone(), ..Wishes::default() }).await;
        let base = format!(
            "{}\n[upstreams.elsewhere]\naddress = \"http://{}\"\ndialect = \"local-chat\"\nhosting = \"own\"\noffers.\"{SHARED}\" = {{}}\n",
            ferry.catalogue(&wishes),
            elsewhere.address()
        );
        Self { ferry, authority, unknown: Authority::make("Nowhere"), _folder: folder, _elsewhere: elsewhere, base }
    }

    fn plans(&self, number: u16) -> Plans<'_> {
        Plans { authority: &self.authority, unknown: &self.unknown, number }
    }

    async fn apply(&self, tables: &[String]) {
        self.ferry.apply(&format!("{}\n{}", self.base, tables.concat())).await;
        self.ferry.post("/inventory/refresh", &serde_json::json!({ "upstream": "elsewhere" })).await;
    }

    /// A check by the command. Gives its report.
    async fn check(&self, name: &str, more: &[&str]) -> Value {
        let mut args = vec!["--json", "upstream", "check", name];
        args.extend_from_slice(more);
        if more.contains(&"--mend") {
            // Where a remedy leads to the host that was meant all along, the key may follow.
            args.extend_from_slice(&["--to-host", HOST]);
        }
        let ran = self.ferry.wendor(&args).await;
        serde_json::from_str(&ran.out).unwrap_or_else(|_| panic!("{name}: {} {}", ran.out, ran.err))
    }
}

fn findings(report: &Value) -> Vec<&Value> {
    report["steps"].as_array().unwrap().iter().flat_map(|step| step["findings"].as_array().unwrap()).collect()
}

fn kinds(report: &Value) -> Vec<String> {
    findings(report).iter().map(|finding| finding["kind"].as_str().unwrap().to_owned()).collect()
}

/// The step after which nothing was looked at, and what is told of it.
fn last_words(report: &Value) -> String {
    let steps = report["steps"].as_array().unwrap();
    steps.iter().map(|step| format!("{} {}: {}\n", step["state"], step["step"], step["came_back"])).collect()
}

async fn one(bench: &Bench, name: &str, mistake: &Mistake) -> Result<(), String> {
    let ask: &[&str] = if mistake.prove { &["--prove", "--yes"] } else { &[] };
    let report = bench.check(name, ask).await;
    let codes = kinds(&report);
    let context = format!("{} at {name}:\n{}", mistake.name, last_words(&report));
    if codes.first().map(String::as_str) != Some(mistake.finding.code()) {
        return Err(format!("{context}named {codes:?}, wanted {}", mistake.finding.code()));
    }
    let remedies = findings(&report)[0]["remedies"].as_array().unwrap().clone();
    if remedies.is_empty() {
        return Err(format!("{context}no remedy"));
    }
    let Some((setting, value)) = mistake.mend else {
        let has_data = remedies.iter().any(|remedy| remedy["by"] == "wendor");
        return if has_data { Err(format!("{context}a remedy that nobody expected: {remedies:?}")) } else { Ok(()) };
    };
    let wanted = remedies.iter().find(|remedy| remedy["change"]["setting"] == setting);
    let number = wanted
        .and_then(|remedy| remedy["number"].as_u64())
        .ok_or_else(|| format!("{context}no `{setting}` in {remedies:?}"))?;
    let number = number.to_string();
    let mut mend = vec!["--mend", number.as_str()];
    mend.extend(value.iter().flat_map(|value| ["--value", value]));
    mend.extend_from_slice(ask);
    let after = bench.check(name, &mend).await;
    match after["green"].as_bool() {
        Some(true) => Ok(()),
        _ => Err(format!("{context}mended by {number}, and then:\n{}{:?}", last_words(&after), findings(&after))),
    }
}

#[rstest]
#[case::the_way(WAY)]
#[case::encryption(ENCRYPTION)]
#[case::paths(PATH)]
#[case::keys(KEYS)]
#[case::answers(ANSWERS)]
#[case::abilities(ABILITIES)]
#[tokio::test]
async fn every_mistake_is_named_and_mended(#[case] mistakes: &[Mistake]) {
    let bench = Bench::begin().await;
    let mut number = 0;
    let mut starting = Vec::new();
    for mistake in mistakes {
        for dialect in mistake.dialects {
            number += 1;
            let made = (mistake.make)(&bench.plans(number), Setup::well(*dialect));
            starting.push(async move {
                let name = format!("pier-{number}-{dialect}");
                let (table, alive) = start(&name, made).await;
                (mistake, name, table, alive)
            });
        }
    }
    let started: Vec<(&Mistake, String, String, Alive)> = join_all(starting).await;
    let tables: Vec<String> = started.iter().map(|(_, _, table, _)| table.clone()).collect();
    bench.apply(&tables).await;
    let mut wrong = Vec::new();
    for (mistake, name, _, _alive) in &started {
        wrong.extend(one(&bench, name, mistake).await.err());
    }
    assert!(wrong.is_empty(), "{} of {}:\n{}", wrong.len(), started.len(), wrong.join("\n\n"));
}

/// Two mistakes at once are named one after the other, each when the one before is mended.
#[rstest]
#[case::scheme_then_prefix(
    |plans: &Plans<'_>, setup: Setup| {
        let tls = plans.authority.server(HOST, Certificate::None);
        setup.encrypted(tls, HOST).at(&format!("http://{HOST}:PORT")).with(|manners| manners.prefix = Some("/serve".into()))
    },
    &[FindingKind::PortEncrypted, FindingKind::PrefixMissing]
)]
#[case::host_then_key_place(
    |_: &Plans<'_>, setup: Setup| {
        let setup = setup.keyed("WENDOR_UPSTREAM_PIER").at("https://piir.tern.example:PORT");
        setup.with(|manners| manners.key_place = Some("header:x-api-key".into())).line("plain_http = \"allowed\"")
    },
    &[FindingKind::HostUnknown, FindingKind::PortPlain, FindingKind::KeyElsewhere]
)]
#[case::dialect_then_model(
    |_: &Plans<'_>, setup: Setup| Setup { stated: Dialect::LocalChat, ..setup }.offering("dunlim-7b", ""),
    &[FindingKind::OtherDialect, FindingKind::ModelUnknown]
)]
#[case::certificate_then_cap(
    |plans: &Plans<'_>, setup: Setup| {
        let tls = plans.authority.server(HOST, Certificate::SelfSigned);
        setup.encrypted(tls, HOST).with(|manners| manners.thinks = 100).offering(MODEL, "output_cap = 64")
    },
    &[FindingKind::SelfSigned, FindingKind::ThinkingAtCap]
)]
#[tokio::test]
async fn pairs_are_named_one_after_the_other(
    #[case] make: fn(&Plans<'_>, Setup) -> Setup,
    #[case] expected: &[FindingKind],
) {
    let bench = Bench::begin().await;
    let (table, _alive) = start("pier", make(&bench.plans(1), Setup::well(Dialect::ChatCompletions))).await;
    bench.apply(&[table]).await;
    let mut report = bench.check("pier", &[]).await;
    for kind in expected {
        assert_eq!(kinds(&report).first().map(String::as_str), Some(kind.code()), "{}", last_words(&report));
        report = bench.check("pier", &["--mend", "1"]).await;
    }
    assert_eq!(report["green"], true, "{}{:?}", last_words(&report), findings(&report));
}

/// Odd, but nothing to be mended.
#[rstest]
#[case::no_listing(Dialect::ChatCompletions, |setup: Setup| setup.with(|manners| manners.no_listing = true))]
#[case::endpoints_hidden(Dialect::ChatCompletions, |setup: Setup| setup.with(|manners| manners.hides_endpoints = true))]
#[case::guards_what_is_not_there(Dialect::Messages, |setup: Setup| {
    setup.keyed("WENDOR_UPSTREAM_PIER").with(|manners| (manners.guards_all, manners.bare_errors) = (true, true))
})]
#[case::bare_errors(Dialect::ChatCompletions, |setup: Setup| setup.keyed("WENDOR_UPSTREAM_PIER").with(|manners| manners.bare_errors = true))]
#[case::below_a_prefix(Dialect::GenerateContent, |setup: Setup| {
    setup.with(|manners| manners.prefix = Some("/serve/deep".into())).at("http://HERE/serve/deep/")
})]
#[case::tag_left_out(Dialect::LocalChat, |setup: Setup| {
    Setup { profile: Profile { models: vec!["dunlin-7b:latest".into()], ..setup.profile }, ..setup }
})]
#[case::thinks_a_while(Dialect::Messages, |setup: Setup| setup.with(|manners| manners.thinks = 300))]
#[case::slow_but_even(Dialect::ChatCompletions, |setup: Setup| {
    Setup { profile: Profile { first_token_ms: (500, 500), tokens_per_second: 60, ..setup.profile }, ..setup }
})]
#[case::nothing_loaded(Dialect::LocalChat, |setup: Setup| setup.with(|manners| manners.loaded = Some(vec![])))]
#[case::more_members(Dialect::Responses, |setup: Setup| {
    setup.with(|manners| drop(manners.listed.insert("permission".into(), serde_json::json!([{ "x": 1 }]))))
})]
#[case::single_address_in_tls(Dialect::ChatCompletions, |setup: Setup| setup.at("http://HERE/v1/v1/"))]
#[tokio::test]
async fn odd_but_healthy_servers_give_no_finding(#[case] dialect: Dialect, #[case] make: fn(Setup) -> Setup) {
    let bench = Bench::begin().await;
    let (table, alive) = start("pier", make(Setup::well(dialect))).await;
    bench.apply(&[table]).await;
    let report = bench.check("pier", &[]).await;
    assert_eq!(report["green"], true, "{}{:?}", last_words(&report), findings(&report));
    if kinds(&report).is_empty()
        && dialect == Dialect::LocalChat
        && alive.server.as_ref().is_some_and(|server| server.tally().served == 0)
    {
        let words = last_words(&report);
        assert!(
            words.contains("\"not asked\" \"streamed answer\""),
            "a model that is not loaded is not asked: {words}"
        );
    }
}

/// Every ability of a healthy server is proven in every dialect, and what it cost stands in the ledger as a check.
#[rstest]
#[tokio::test]
async fn what_a_server_can_do_is_proven(
    #[values(
        Dialect::ChatCompletions,
        Dialect::Responses,
        Dialect::Messages,
        Dialect::GenerateContent,
        Dialect::LocalChat
    )]
    dialect: Dialect,
) {
    let bench = Bench::begin().await;
    let able = "abilities = [\"chat\", \"tools\", \"images-in\", \"json\", \"reasoning\", \"streaming\", \"whole\"]";
    let (table, alive) = start("pier", Setup::well(dialect).offering(MODEL, able)).await;
    bench.apply(&[table]).await;
    let report = bench.check("pier", &["--prove", "--yes"]).await;
    assert_eq!(report["green"], true, "{}{:?}", last_words(&report), findings(&report));
    let abilities = report["steps"].as_array().unwrap().last().unwrap()["came_back"].as_str().unwrap().to_owned();
    assert_eq!(abilities, "tools, images-in, json, reasoning, context");
    bench.ferry.drained().await;
    let shown = bench.ferry.get("/requests?upstream=pier").await;
    let lines = shown["requests"].as_array().unwrap();
    let sum = |member: &str| lines.iter().map(|line| line["tokens"][member].as_u64().unwrap_or(0)).sum::<u64>();
    let tally = alive.server.as_ref().unwrap().tally();
    assert_eq!(lines.len(), 7, "two questions and five proofs: {lines:?}");
    assert_eq!(sum("output"), tally.output_tokens, "{lines:?}");
    assert!(lines.iter().all(|line| line["route"] == "upstream-check" && line["team"] == "operators"), "{lines:?}");
    let inventory = bench.ferry.get("/inventory").await;
    let pier =
        inventory["upstreams"].as_array().unwrap().iter().find(|line| line["upstream"] == "pier").unwrap().clone();
    let proofs = pier["models"][0]["proofs"].as_array().unwrap().clone();
    assert!(proofs.len() == 5 && proofs.iter().all(|proof| proof["standing"] == "proven"), "{pier}");
}

fn remedy_words(mistake: &Mistake) -> String {
    match mistake.mend {
        Some((setting, Some(_))) => format!("`--mend`: {setting}, with a value"),
        Some((setting, None)) => format!("`--mend`: {setting}"),
        None => "a sentence for the operator or the server's owner".to_owned(),
    }
}

/// `docs/diagnosis.md` shows the tables as they are here. With `WENDOR_WRITE_DOCS` set, it is made anew.
#[test]
fn the_page_of_the_diagnosis_is_current() {
    let path = concat!(env!("CARGO_MANIFEST_DIR"), "/../../docs/diagnosis.md");
    let page = std::fs::read_to_string(path).unwrap_or_default();
    let (mark, end) = ("<!-- tables -->\n", "<!-- end of tables -->\n");
    let mut tables = String::new();
    for (title, mistakes) in GROUPS {
        tables
            .push_str(&format!("\n## {title}\n\n| mistake | tried in | named | remedy |\n| --- | --- | --- | --- |\n"));
        for mistake in mistakes {
            let dialects: Vec<&str> = mistake.dialects.iter().map(|dialect| dialect.as_str()).collect();
            let dialects = if dialects.len() == 5 { "every dialect".to_owned() } else { dialects.join(", ") };
            tables.push_str(&format!(
                "| {} | {dialects} | `{}` | {} |\n",
                mistake.name,
                mistake.finding.code(),
                remedy_words(mistake)
            ));
        }
    }
    tables.push_str(
        "\n## Real things\n\n| what stands there | named | remedy that Wendor applies |\n| --- | --- | --- |\n",
    );
    for case in crate::drills::zoo::cases::ALL.iter().copied().flatten() {
        let named = case
            .finding
            .map_or_else(|| "nothing: requests are answered".to_owned(), |kind| format!("`{}`", kind.code()));
        tables.push_str(&format!("| {} | {named} | {} |\n", case.name, case.mend.unwrap_or_default()));
    }
    tables.push_str("\n## Every finding\n\n| code | what it means |\n| --- | --- |\n");
    for kind in FindingKind::ALL {
        tables.push_str(&format!("| `{}` | {} |\n", kind.code(), kind.about()));
    }
    tables.push('\n');
    let (before, after) = (page.split(mark).next().unwrap_or_default(), page.split(end).nth(1).unwrap_or_default());
    let wanted = format!("{before}{mark}{tables}{end}{after}");
    if std::env::var_os("WENDOR_WRITE_DOCS").is_some() {
        std::fs::write(path, &wanted).unwrap();
    } else {
        assert!(
            page == wanted,
            "docs/diagnosis.md is old: WENDOR_WRITE_DOCS=1 cargo test --workspace --test e2e the_page_of"
        );
    }
}
