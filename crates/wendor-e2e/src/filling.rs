//! A past of any size, put into the database by `COPY`: entries of a number of keys over a number of days, made up from a seed, with the
//! roll-ups that a drain would have made of them.

use std::fmt::Write;
use std::ops::Range;

use anyhow::Context;
use chrono::{DateTime, Months, TimeDelta, Utc};
use futures_util::{StreamExt, TryStreamExt};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use sqlx::postgres::PgPoolCopyExt;
use sqlx::{Connection, PgConnection, PgPool, Postgres};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{Latency, LedgerEntry, Record, RequestRecord};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::Cost;
use wendor_core::metering::rollup::{RollUp, RollUpKey, rows_of};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::window::Window;
use wendor_core::request_id::RequestId;
use wendor_core::routing::queue::Lane;
use wendor_wire::usage::TokenCounts;

/// What a past holds.
#[derive(Clone, Copy, Debug)]
pub struct Past {
    /// Entries in all.
    pub entries: u32,
    /// Days up to now.
    pub days: u32,
    /// Keys that ask.
    pub keys: u32,
    /// Teams that they belong to.
    pub teams: u32,
    /// Routes that they ask.
    pub routes: u32,
    /// The same gives the same.
    pub seed: u64,
}

/// How much was put in.
#[derive(Clone, Copy, Debug, Default)]
pub struct Filled {
    /// Lines of the ledger.
    pub entries: u64,
    /// Hourly roll-ups.
    pub rollups: u64,
}

/// Upstreams, each with two models.
const UPSTREAMS: [&str; 5] = ["quayside", "quarry", "breakwater", "slipway", "lighthouse"];
const MODELS: [&str; 2] = ["dunlin-70b", "fulmar-large"];

/// The team of that number.
#[must_use]
pub fn team(number: u32) -> String {
    format!("team-{number:03}")
}

/// The route of that number.
#[must_use]
pub fn route(number: u32) -> String {
    format!("route-{number:03}")
}

/// Runs of each key in an hour.
const RUNS_OF_AN_HOUR: u32 = 2;

/// What apps name in a label, and for whom they ask in another.
const FEATURES: [&str; 4] = ["search", "summary", "chat", "translation"];
const CUSTOMERS: u32 = 300;

/// Hours that are put in side by side.
const AT_ONCE: usize = 3;

impl Past {
    /// Puts it in, an hour at a time, up to the last whole hour before `now`.
    ///
    /// # Errors
    /// When the database refuses.
    pub async fn fill(&self, url: &str, now: DateTime<Utc>) -> anyhow::Result<Filled> {
        let pool = PgPool::connect(url).await?;
        let end = Window::Hour.around(now).start;
        let hours = self.days * 24;
        let begin = end - TimeDelta::hours(i64::from(hours));
        let mut month = Window::Month.around(begin).start;
        while month < end {
            for table in ["ledger", "request_detail", "usage_hour"] {
                let made = sqlx::query::<Postgres>("select make_month($1, $2)").bind(table).bind(month.date_naive());
                made.execute(&pool).await?;
            }
            month = month.checked_add_months(Months::new(1)).context("a month has a next one")?;
        }
        let per_hour = self.entries / hours;
        let put_in = (0..hours).map(|hour| {
            let start = begin + TimeDelta::hours(i64::from(hour));
            let count = per_hour + u32::from(hour < self.entries % hours);
            self.fill_hour(&pool, start, hour * (per_hour + 1)..hour * (per_hour + 1) + count)
        });
        let mut put_in = futures_util::stream::iter(put_in).buffer_unordered(AT_ONCE);
        let mut filled = Filled::default();
        while let Some(hour) = put_in.try_next().await? {
            filled.entries += hour.entries;
            filled.rollups += hour.rollups;
        }
        drop(put_in);
        sqlx::query("analyze ledger, usage_hour").execute(&pool).await?;
        pool.close().await;
        Ok(filled)
    }

    /// Puts the entries of those numbers into an hour.
    async fn fill_hour(&self, pool: &PgPool, start: DateTime<Utc>, numbers: Range<u32>) -> anyhow::Result<Filled> {
        let mut random = SmallRng::seed_from_u64(self.seed ^ u64::from(numbers.start) << 8);
        let entries: Vec<LedgerEntry> = numbers.map(|number| self.entry(start, number, &mut random)).collect();
        let rows = rows_of(&entries);
        let mut lines = String::new();
        entries.iter().try_for_each(|entry| write_entry(entry, &mut lines))?;
        copy(pool, LEDGER, &lines).await?;
        let mut lines = String::new();
        rows.iter().try_for_each(|(key, sums)| write_rollup(key, sums, &mut lines))?;
        copy(pool, ROLLUPS, &lines).await?;
        Ok(Filled { entries: u64::try_from(entries.len())?, rollups: u64::try_from(rows.len())? })
    }

    fn entry(&self, hour: DateTime<Utc>, number: u32, random: &mut SmallRng) -> LedgerEntry {
        let at = hour + TimeDelta::microseconds(random.random_range(0..3_600_000_000));
        // Some ask much more than others.
        let key = random.random_range(0..self.keys).min(random.random_range(0..self.keys));
        let route_number = (key * 7 + random.random_range(0..3)) % self.routes;
        let offer = (route_number + random.random_range(0..2)) % 10;
        let name = |text: &str| Name::parse(text).expect("what is made up here is a name");
        let upstream = UPSTREAMS[usize::try_from(offer / 2).unwrap_or(0)];
        let model = MODELS[usize::try_from(offer % 2).unwrap_or(0)];
        let (input, output) = (random.random_range(50..3_000), random.random_range(10..800));
        let money = |tokens: u64, millionths: i64| {
            Money::new(rust_decimal::Decimal::new(millionths, 6) * rust_decimal::Decimal::from(tokens))
        };
        let (first_token_ms, whole_ms) = (random.random_range(80..900), random.random_range(900..12_000));
        let latency = Latency { first_token_ms: Some(first_token_ms), whole_ms, ..Latency::default() };
        let end = if random.random_ratio(1, 60) { End::CutOff } else { End::Proper };
        let customer = format!("customer-{:03}", random.random_range(0..CUSTOMERS));
        let feature = FEATURES[random.random_range(0..FEATURES.len())];
        LedgerEntry {
            key: format!("k{key:06}").into(),
            offer: OfferName::new(name(upstream), model).ok(),
            run: Some(format!("run-{key}-{}-{}", hour.format("%m%d%H"), random.random_range(0..RUNS_OF_AN_HOUR))),
            labels: [("feature".to_owned(), feature.to_owned()), ("customer".to_owned(), customer)].into(),
            tokens: TokenCounts { input, output, ..TokenCounts::default() },
            cost: Some(Cost { input: money(input, 1), output: money(output, 4), ..Cost::default() }),
            record: Record::Request(RequestRecord {
                attempts: 1,
                streamed: true,
                end,
                failure: None,
                latency,
                lane: Lane::default(),
            }),
            ..LedgerEntry::of_request(
                at,
                RequestId::mint(at, number >> 20, number),
                name(&team(key % self.teams)),
                name(&route(route_number)),
            )
        }
    }
}

/// Days of the past, and thirds of its months that are over, that are not summed up yet.
///
/// # Errors
/// When the database is away.
pub async fn days_to_sum(url: &str) -> anyhow::Result<i64> {
    let mut connection = PgConnection::connect(url).await?;
    let left = sqlx::query_scalar(
        "select count(*) from generate_series((select min(hour) from usage_hour), now() - interval '1 day', '1 day') as begun
         where not exists (select from usage_summed where span = 'day' and start = date_trunc('day', begun, 'utc'))
             or (begun > (select min(hour) from usage_hour) + interval '11 days' and third_of(begun) < third_of(now())
                 and not exists (select from usage_summed where span = 'third' and start = third_of(begun)))",
    );
    Ok(left.fetch_one(&mut connection).await?)
}

/// Puts so many keys of as many teams in, as if they had been issued; nobody has their texts.
///
/// # Errors
/// When the database refuses.
pub async fn keys(url: &str, count: u32, teams: u32) -> anyhow::Result<()> {
    let mut connection = PgConnection::connect(url).await?;
    let numbers: Vec<i64> = (0..i64::from(count)).collect();
    let owners: Vec<String> = (0..count).map(|number| team(number % teams)).collect();
    sqlx::query::<Postgres>(
        "insert into app_key (id, hash, team, label, issued_at, issued_by)
         select 'f' || lpad(number::text, 7, '0'), sha256(number::text::bytea), team, 'batch ' || number, now(), 'harbour-master'
         from unnest($1::bigint[], $2::text[]) as made (number, team)",
    )
    .bind(numbers)
    .bind(owners)
    .execute(&mut connection)
    .await?;
    sqlx::query::<Postgres>("analyze app_key").execute(&mut connection).await?;
    Ok(())
}

async fn copy(pool: &PgPool, statement: &str, lines: &str) -> anyhow::Result<()> {
    let mut into = pool.copy_in_raw(statement).await?;
    into.send(lines.as_bytes()).await?;
    into.finish().await?;
    Ok(())
}

const LEDGER: &str = "copy ledger (at, entry_id, kind, request, run, step, labels, team, key, route, offer, revision, attempts, streamed,
    tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, tokens_estimated, images, cost_input,
    cost_input_cached, cost_cache_written, cost_output, cost_images, ended, failure, admitted_ms, answering_ms, first_token_ms, whole_ms,
    waited_ms, tokens_preset) from stdin";

fn write_entry(entry: &LedgerEntry, out: &mut String) -> std::fmt::Result {
    let Record::Request(record) = &entry.record else { return Ok(()) };
    let (tokens, cost) = (entry.tokens, entry.cost.unwrap_or_default());
    let offer = entry.offer.as_ref().map_or("\\N", OfferName::as_str);
    let labels = serde_json::to_string(&entry.labels).unwrap_or_default();
    writeln!(
        out,
        "{}\t{}\trequest\t{}\t{}\t\\N\t{labels}\t{}\t{}\t{}\t{offer}\t1\t1\tt\t{}\t0\t0\t{}\t0\tf\t0\t{}\t0\t0\t{}\t0\t{}\t\\N\t0\t\\N\t{}\t{}\t0\t0",
        entry.at.format("%Y-%m-%dT%H:%M:%S%.6fZ"),
        entry.entry_id,
        entry.request,
        entry.run.as_deref().unwrap_or("\\N"),
        entry.team,
        entry.key,
        entry.route,
        tokens.input,
        tokens.output,
        cost.input,
        cost.output,
        record.end.as_str(),
        record.latency.first_token_ms.unwrap_or(0),
        record.latency.whole_ms,
    )
}

const ROLLUPS: &str = "copy usage_hour (hour, team, key, route, offer, requests, failures, cancelled, unpriced, estimated, checks, attempts,
    attempt_tokens_input, attempt_tokens_input_cached, attempt_tokens_cache_written, attempt_tokens_output, attempt_tokens_reasoning,
    attempt_cost, images, tokens_input, tokens_input_cached, tokens_cache_written, tokens_output, tokens_reasoning, cost, first_token, whole)
    from stdin";

fn write_rollup(key: &RollUpKey, sums: &RollUp, out: &mut String) -> std::fmt::Result {
    let RollUpKey { hour, team, key, route, offer } = key;
    let hex = |bytes: Vec<u8>| {
        bytes.iter().fold(String::from("\\\\x"), |mut text, byte| {
            let _written = write!(text, "{byte:02x}");
            text
        })
    };
    writeln!(
        out,
        "{}\t{team}\t{key}\t{route}\t{offer}\t{}\t{}\t0\t0\t0\t0\t0\t0\t0\t0\t0\t0\t0\t0\t{}\t0\t0\t{}\t0\t{}\t{}\t{}",
        hour.format("%Y-%m-%dT%H:%M:%SZ"),
        sums.requests,
        sums.failures,
        sums.tokens.input,
        sums.tokens.output,
        sums.cost,
        hex(sums.first_token.to_bytes()),
        hex(sums.whole.to_bytes()),
    )
}
