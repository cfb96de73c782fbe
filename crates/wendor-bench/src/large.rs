//! A large catalogue: a hundred thousand keys, two thousand teams, a thousand routes, five hundred offers; beside the small one of the other
//! measures. What a request costs, how soon a new key is known everywhere, how long a start takes and how much memory.

use std::time::{Duration, Instant};

use anyhow::ensure;
use wendor_e2e::ferry::{Ferry, question};
use wendor_e2e::filling;
use wendor_e2e::service::{Service, Start};

use crate::load;
use crate::machine::{self, cpu_us, resident_kb};
use crate::measures::{compared, cpu_of, profile_of, target, valid};
use crate::setup::{Setup, Way};
use crate::verdict::{Against, Found};

const KEYS: u32 = 100_000;
const TEAMS: u32 = 2_000;
const ROUTES: u32 = 1_000;
const UPSTREAMS: u32 = 50;
const OFFERS_EACH: u32 = 10;

/// Connections, and how long they ask.
const CONNECTIONS: usize = 32;
const TIME: Duration = Duration::from_secs(4);

/// New keys of which it is measured when they are known.
const NEW_KEYS: u32 = 20;

/// Between two looks at whether one is.
const LOOKED_AGAIN: Duration = Duration::from_millis(10);

/// Measures it.
///
/// # Errors
/// When something does not run.
pub async fn measure(rounds: usize) -> anyhow::Result<Vec<Found>> {
    eprintln!("{KEYS} keys, {TEAMS} teams, {ROUTES} routes, {} offers ...", UPSTREAMS * OFFERS_EACH);
    let small = Setup::begin(profile_of(40, 0, 0)).await?;
    let mut large = Setup::begin(profile_of(40, 0, 0)).await?;
    let text = large.ferry.get("/catalogue").await["text"].as_str().unwrap_or_default().to_owned();
    let began = Instant::now();
    large.ferry.apply(&format!("{text}\n{}", more())).await;
    eprintln!("  the catalogue is applied in {:?}", began.elapsed());
    filling::keys(&large.ferry.database.url, KEYS, TEAMS).await?;
    large.ferry.service.terminate();
    ensure!(large.ferry.service.ended().await, "the service does not end");
    let began = Instant::now();
    large.ferry.restart().await;
    ensure!(large.ferry.ask(&question("harbour", false)).await.status() == 200, "it does not serve");
    let start_s = began.elapsed().as_secs_f64();
    let memory = [resident_kb(small.process(Way::Wendor)?)?, resident_kb(large.process(Way::Wendor)?)?];
    machine::pin_gateway(large.ferry.service.pid())?;
    let one = async |setup: &Setup| {
        let asked = target(setup, Way::Wendor, false, 0)?;
        cpu_of(setup, Way::Wendor, load::whole_for(&asked, CONNECTIONS, TIME)).await
    };
    for setup in [&small, &large] {
        one(setup).await?;
    }
    let pairs = valid(rounds, || async { Ok((one(&small).await?, one(&large).await?)) }).await?;
    let (longest_s, key_ms) = new_keys(&large.ferry).await?;
    let value = |name, unit, plain, wendor, bar| Found {
        name,
        unit,
        plain,
        wendor,
        rounds: vec![wendor],
        against: Against::Value,
        bar,
    };
    let mb = |kb: f64| kb / 1_024.0;
    Ok(vec![
        compared("CPU of a request, beside that with a small catalogue", "us", &pairs, 1.05),
        value("from the start to the first answer", "s", None, start_s, 3.0),
        value(
            "memory after the start, beside that with a small one",
            "MB",
            Some(mb(memory[0])),
            mb(memory[1]),
            f64::INFINITY,
        ),
        value("until a new key opens at another instance, longest of 20", "s", None, longest_s, 1.0),
        value("CPU of another instance for a key that is new", "ms", None, key_ms, f64::INFINITY),
    ])
}

/// How long it takes at most until a key that one instance issues opens at another, and the CPU of that other for each.
async fn new_keys(ferry: &Ferry) -> anyhow::Result<(f64, f64)> {
    let folder = tempfile::tempdir()?;
    let other = Start { spool: folder.path().join("spool"), ..ferry.start.clone() };
    let mut other = Service::start(&other).await;
    let asks = async |key: &str| {
        let asked = ferry.http.post(format!("{}/v1/chat/completions", other.url)).bearer_auth(key);
        anyhow::Ok(asked.json(&question("harbour", false)).send().await?.status().as_u16())
    };
    ensure!(asks(&ferry.key).await? == 200, "the other instance does not serve");
    let (mut longest, cpu) = (Duration::ZERO, cpu_us(other.pid())?);
    for _ in 0..NEW_KEYS {
        let key = ferry.issue_key("timetables").await;
        let issued = Instant::now();
        while asks(&key).await? != 200 {
            tokio::time::sleep(LOOKED_AGAIN).await;
        }
        longest = longest.max(issued.elapsed());
    }
    let used = (cpu_us(other.pid())? - cpu) / 1_000.0 / f64::from(NEW_KEYS);
    other.terminate();
    ensure!(other.ended().await, "the other instance does not end");
    Ok((longest.as_secs_f64(), used))
}

/// What a large catalogue has beside a small one.
fn more() -> String {
    let mut text = String::new();
    for upstream in 0..UPSTREAMS {
        text.push_str(&format!(
            "[upstreams.pier-{upstream:02}]\naddress = \"http://127.0.0.1:9\"\nhosting = \"own\"\nlooks = \"none\"\n"
        ));
        (0..OFFERS_EACH).for_each(|offer| {
            text.push_str(&format!(
                "offers.model-{offer} = {{ output_cap = 100, rates = [{{ from = 2026-01-01, input = 0.6, output = 1.2 }}] }}\n"
            ));
        });
    }
    (0..ROUTES).for_each(|number| {
        let (upstream, offer) = (number % UPSTREAMS, number % OFFERS_EACH);
        let route = filling::route(number);
        text.push_str(&format!("[routes.{route}]\nstages = [{{ offers = [\"pier-{upstream:02}/model-{offer}\"] }}]\n"));
    });
    (0..TEAMS).for_each(|number| {
        let limit = "{ measure = \"requests\", per = \"day\", limit = 100000 }";
        text.push_str(&format!("[teams.{}]\nquotas = [{limit}]\n", filling::team(number)));
    });
    text
}
