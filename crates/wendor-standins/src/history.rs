//! A made-up past of the ferry operator: some weeks of requests with week-ends, growth, a bad morning and the usual mishaps, as a
//! segment of the spool. It takes the one way into the ledger that there is: the service drains it when it starts.

use std::collections::BTreeMap;
use std::io::Write;
use std::path::{Path, PathBuf};

use anyhow::{Context, anyhow};
use chrono::{DateTime, Datelike, NaiveTime, TimeDelta, Utc, Weekday};
use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};
use wendor_core::catalog::file::CatalogueFile;
use wendor_core::catalog::route::Route;
use wendor_core::catalog::team::Team;
use wendor_core::metering::detail::{Attempt, RequestDetail, Spent};
use wendor_core::metering::end::End;
use wendor_core::metering::entry::{AttemptRecord, Latency, LedgerEntry, QuotaUse, Record, RequestRecord, Settled};
use wendor_core::metering::rate::{Cost, price, worst_price};
use wendor_core::metering::spool_frame::{self, SEGMENT_MAGIC};
use wendor_core::name::{Name, OfferName};
use wendor_core::quota::use_of::settled;
use wendor_core::quota::{Measure, QuotaId};
use wendor_core::request_id::RequestId;
use wendor_core::routing::plan::{Plan, PlannedOffer, Standing};
use wendor_core::routing::queue::Lane;
use wendor_core::routing::reason::{Reason, Streams};
use wendor_wire::failure::{Failure, FailureKind};
use wendor_wire::images::Images;
use wendor_wire::usage::{Counted, TokenCounts};

use crate::traffic::Ask;

/// Parts of a thousand of a day's requests, by the hour in UTC: quiet nights, two peaks.
const HOURS: [u32; 24] = [6, 4, 3, 3, 6, 18, 38, 62, 80, 78, 72, 64, 56, 60, 68, 70, 66, 58, 50, 44, 36, 28, 18, 12];

/// On this day before the last, quayside-b was away all morning.
const BAD_MORNING: i64 = 12;

/// What a past is made of.
#[derive(Debug)]
pub struct Past<'a> {
    /// The catalogue with its rates.
    pub file: &'a CatalogueFile,
    /// What teams ask.
    pub asks: &'a [Ask],
    /// Ids of keys by team.
    pub keys: &'a BTreeMap<String, String>,
    /// How many days.
    pub days: u32,
    /// What it is made from.
    pub seed: u64,
    /// The instant that it ends at.
    pub until: DateTime<Utc>,
}

struct Maker<'a> {
    past: &'a Past<'a>,
    random: SmallRng,
    count: u32,
}

/// The requests of a past, in the order of time.
///
/// # Errors
/// When a team or route of the traffic is not in the catalogue, or a team has no key.
pub fn make(past: &Past<'_>) -> anyhow::Result<Vec<Settled>> {
    let mut maker = Maker { past, random: SmallRng::seed_from_u64(past.seed), count: 0 };
    let mut entries = Vec::new();
    for back in (0..i64::from(past.days)).rev() {
        for ask in past.asks {
            maker.day(ask, back, &mut entries)?;
        }
    }
    entries.sort_by_key(|settled: &Settled| settled.entry.at);
    Ok(entries)
}

/// Writes entries as the next segment of a spool. Gives its path.
///
/// # Errors
/// When the folder cannot be written.
pub fn write(spool: &Path, entries: &[Settled]) -> std::io::Result<PathBuf> {
    std::fs::create_dir_all(spool)?;
    let mut last = 0;
    for file in std::fs::read_dir(spool)? {
        last = last.max(file?.file_name().to_str().and_then(spool_frame::segment_number).unwrap_or(0));
    }
    let path = spool.join(spool_frame::segment_name(last + 1));
    let mut out = std::io::BufWriter::new(std::fs::File::create_new(&path)?);
    out.write_all(SEGMENT_MAGIC)?;
    let mut frame = Vec::new();
    for settled in entries {
        frame.clear();
        spool_frame::write_settled(settled, &mut frame);
        out.write_all(&frame)?;
    }
    out.flush()?;
    Ok(path)
}

impl Maker<'_> {
    fn day(&mut self, ask: &Ask, back: i64, entries: &mut Vec<Settled>) -> anyhow::Result<()> {
        let day = (self.past.until - TimeDelta::days(back)).date_naive();
        let is_weekend = matches!(day.weekday(), Weekday::Sat | Weekday::Sun);
        // A third less a month ago, and every day a little different.
        let growth = 1.0 - f64::from(i32::try_from(back).unwrap_or(0)) / 90.0;
        let factor = growth * self.random.random_range(0.88..1.12) * if is_weekend { ask.weekend } else { 1.0 };
        for (hour, thousandths) in (0u32..).zip(HOURS) {
            let expected = f64::from(ask.a_day) * factor * f64::from(thousandths) / 1000.0;
            let mut left = expected;
            while left > 0.0 && self.random.random_bool(left.min(1.0)) {
                left -= 1.0;
                let second = self.random.random_range(0..3_600);
                let at = day.and_time(NaiveTime::MIN).and_utc()
                    + TimeDelta::hours(hour.into())
                    + TimeDelta::milliseconds(second * 1_000 + i64::from(self.count % 1_000));
                if at < self.past.until {
                    entries.extend(self.request(ask, at, back)?);
                }
            }
        }
        Ok(())
    }

    /// A request: its own line, behind those of attempts that used something and did not answer.
    fn request(&mut self, ask: &Ask, at: DateTime<Utc>, back: i64) -> anyhow::Result<Vec<Settled>> {
        self.count += 1;
        let catalogue = &self.past.file.catalogue;
        let (team_name, team) =
            catalogue.teams.get_key_value(ask.team.as_str()).with_context(|| format!("no team {}", ask.team))?;
        let (route_name, route) =
            catalogue.routes.get_key_value(ask.route.as_str()).with_context(|| format!("no route {}", ask.route))?;
        let key =
            self.past.keys.get(&ask.team).ok_or_else(|| anyhow!("no key of {} was given with --keys", ask.team))?;
        let plan = self.plan(route, ask, at);
        let offers: Vec<OfferName> = plan.taken().map(|planned| planned.offer.clone()).collect();
        let (mut attempts, end) = self.attempts(&offers, at, back);
        let streamed = self.random.random_bool(0.8);
        let latency = latency_of(&attempts, end, streamed);
        let (tokens, counted) = self.tokens(ask, end);
        let offer = attempts.last().map(|attempt| attempt.offer.clone());
        let rate = offer.as_ref().and_then(|offer| self.past.file.rates.in_force(offer, at.date_naive())).cloned();
        let cost = if tokens == TokenCounts::default() {
            Some(Cost::default())
        } else {
            rate.as_ref().and_then(|rate| price(tokens, Images::default(), rate))
        };
        let id = RequestId::mint(at, u32::try_from(self.past.seed).unwrap_or(0), self.count);
        let entry = LedgerEntry {
            key: key.as_str().into(),
            offer,
            revision: 1,
            tokens,
            counted,
            cost,
            record: Record::Request(RequestRecord {
                attempts: u32::try_from(attempts.len()).unwrap_or(0),
                streamed,
                end,
                failure: attempts.last().and_then(|attempt| attempt.failure.as_ref()).map(|failure| failure.kind),
                latency,
                lane: Lane::default(),
            }),
            ..LedgerEntry::of_request(at, id, team_name.clone(), route_name.clone())
        };
        let mut settled = Vec::new();
        for (attempt, number) in attempts.iter_mut().zip(1..) {
            if let Some(line) = self.spent_in_vain(&entry, attempt, number, ask.input_tokens.0) {
                settled.push(Settled { quotas: uses(team_name, team, &line), entry: line, detail: None });
            }
        }
        let quotas = uses(team_name, team, &entry);
        let detail = Some(RequestDetail { plan, attempts, rate, ..RequestDetail::default() });
        settled.push(Settled { entry, detail, quotas });
        Ok(settled)
    }

    /// The line of an attempt that was given up on a deadline: its input was read.
    fn spent_in_vain(
        &mut self,
        request: &LedgerEntry,
        attempt: &mut Attempt,
        number: u32,
        input: u64,
    ) -> Option<LedgerEntry> {
        let failure = attempt.failure.as_ref().filter(|failure| failure.kind == FailureKind::TimedOut)?;
        self.count += 1;
        let tokens = TokenCounts { input, ..TokenCounts::default() };
        let rate = self.past.file.rates.in_force(&attempt.offer, request.at.date_naive());
        let cost = rate.and_then(|rate| price(tokens, Images::default(), rate));
        let record = AttemptRecord {
            number,
            streamed: true,
            failure: Some(failure.kind),
            began_ms: attempt.began_ms,
            ended_ms: attempt.ended_ms,
        };
        attempt.spent = Some(Spent { tokens, images: Images::default(), estimated: true, cost });
        Some(LedgerEntry {
            entry_id: RequestId::mint(request.at, u32::try_from(self.past.seed).unwrap_or(0), self.count),
            offer: Some(attempt.offer.clone()),
            tokens,
            counted: Counted::Estimated,
            cost,
            record: Record::Attempt(record),
            ..request.clone()
        })
    }

    /// The offers of a route with those of each stage shuffled.
    fn plan(&mut self, route: &Route, ask: &Ask, at: DateTime<Utc>) -> Plan {
        let rates = &self.past.file.rates;
        let worst = TokenCounts { input: ask.input_tokens.1, output: 2_048, ..TokenCounts::default() };
        let mut offers = Vec::new();
        for (stage, index) in route.stages.iter().zip(1..) {
            let mut entries: Vec<_> = stage.offers.iter().collect();
            if entries.len() > 1 && self.random.random_bool(0.5) {
                entries.swap(0, 1);
            }
            offers.extend(entries.into_iter().map(|entry| PlannedOffer {
                stage: index,
                pick: stage.pick,
                offer: entry.offer.clone(),
                standing: Standing::Taken,
                reason: Reason::Room(Streams { open: self.random.random_range(0..6), of: Some(8) }),
                expected_cost: rates.in_force(&entry.offer, at.date_naive()).map(|rate| worst_price(worst, 0, rate)),
            }));
        }
        Plan { offers }
    }

    fn attempts(&mut self, offers: &[OfferName], at: DateTime<Utc>, back: i64) -> (Vec<Attempt>, End) {
        let is_bad_morning = back == BAD_MORNING && (6..11).contains(&chrono::Timelike::hour(&at));
        let is_bad_moment = self.random.random_range(0..2_000) == 0;
        let mut now_ms = self.random.random_range(0..3);
        let mut attempts = Vec::new();
        for offer in offers {
            let failure = if is_bad_moment {
                Some(Failure::new(FailureKind::TimedOut, "no first token within 2s"))
            } else {
                self.mishap(offer, is_bad_morning)
            };
            let began_ms = now_ms;
            now_ms += match &failure {
                Some(failure) if failure.kind == FailureKind::TimedOut => 2_000,
                Some(_) => self.random.random_range(1..40),
                None => self.random.random_range(150..900) + self.random.random_range(300..6_000),
            };
            if failure.is_some() {
                attempts.push(Attempt {
                    spent: None,
                    offer: offer.clone(),
                    began_ms,
                    ended_ms: now_ms,
                    failure,
                    served_from: None,
                });
                continue;
            }
            let end = self.end();
            let broke =
                (end == End::CutOff).then(|| Failure::new(FailureKind::CutOff, "its stream ended in the middle"));
            attempts.push(Attempt {
                offer: offer.clone(),
                began_ms,
                ended_ms: now_ms,
                failure: broke,
                spent: None,
                served_from: None,
            });
            return (attempts, end);
        }
        (attempts, End::NotAnswered)
    }

    fn mishap(&mut self, offer: &OfferName, is_bad_morning: bool) -> Option<Failure> {
        if is_bad_morning && offer.upstream().as_str() == "quayside-b" {
            return Some(Failure::new(FailureKind::Unreachable, "connection refused on 127.0.0.1:7502"));
        }
        match self.random.random_range(0..1_000) {
            0..8 => Some(Failure::of_status(503, Some(std::time::Duration::from_secs(5)))),
            8..12 => Some(Failure::of_status(500, None)),
            _ => None,
        }
    }

    fn end(&mut self) -> End {
        match self.random.random_range(0..1_000) {
            0..12 => End::OutputCap,
            12..24 => End::Cancelled,
            24..26 => End::CutOff,
            _ => End::Proper,
        }
    }

    fn tokens(&mut self, ask: &Ask, end: End) -> (TokenCounts, Counted) {
        if matches!(end, End::NotAnswered | End::Abandoned) {
            return (TokenCounts::default(), Counted::Reported);
        }
        let all = self.random.random_range(ask.input_tokens.0..=ask.input_tokens.1);
        let cached_percent = self.random.random_range(0..=200u64);
        // On average the part that the file says; whole numbers all the way.
        let part = std::time::Duration::from_secs(all).mul_f64(ask.cached).as_secs();
        let input_cached = (part * cached_percent / 100).min(all);
        let output = self.random.random_range(ask.output_tokens.0..=ask.output_tokens.1);
        let (output, counted) = match end {
            End::Cancelled | End::CutOff | End::NotTaken => (output / 3, Counted::Estimated),
            End::Proper | End::OutputCap | End::Rejected | End::NotAnswered | End::Abandoned => {
                (output, Counted::Reported)
            }
        };
        (TokenCounts { input: all - input_cached, input_cached, output, ..TokenCounts::default() }, counted)
    }
}

fn latency_of(attempts: &[Attempt], end: End, streamed: bool) -> Latency {
    let whole_ms = attempts.last().map_or(0, |attempt| attempt.ended_ms);
    let answering = attempts.last().filter(|_| end != End::NotAnswered);
    let first_token_ms =
        answering.filter(|_| streamed).map(|attempt| attempt.began_ms + (attempt.ended_ms - attempt.began_ms) / 5 + 60);
    Latency {
        admitted_ms: attempts.first().map_or(0, |attempt| attempt.began_ms),
        waited_ms: 0,
        answering_ms: answering.map(|attempt| attempt.began_ms),
        first_token_ms: first_token_ms.map(|first| first.min(whole_ms)),
        whole_ms,
    }
}

fn uses(name: &Name, team: &Team, entry: &LedgerEntry) -> Vec<QuotaUse> {
    let is_request = matches!(entry.record, Record::Request(_));
    let of_quota = |quota: &wendor_core::quota::Quota| QuotaUse {
        quota: QuotaId::of_team(name, quota),
        window_start: quota.window.around(entry.at).start,
        amount: settled(quota.measure, entry.tokens, entry.cost.map(Cost::total)),
    };
    // An attempt is no request of its own.
    let counts = |quota: &&wendor_core::quota::Quota| is_request || quota.measure != Measure::Requests;
    team.quotas.iter().filter(counts).map(of_quota).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_past_is_the_same_for_a_seed_and_has_quiet_week_ends() {
        let text = include_str!("../../../demo/catalogue.toml");
        let file = wendor_core::catalog::file::read(text).unwrap();
        let asks = [Ask {
            team: "freight-desk".into(),
            route: "manifests".into(),
            a_day: 100,
            input_tokens: (100, 200),
            output_tokens: (10, 20),
            cached: 0.5,
            weekend: 0.1,
            live: true,
        }];
        let keys = [("freight-desk".to_owned(), "k1".to_owned())].into();
        let until = "2026-11-25T12:00:00Z".parse().unwrap();
        let past = Past { file: &file, asks: &asks, keys: &keys, days: 14, seed: 7, until };
        let entries = make(&past).unwrap();
        assert_eq!(entries, make(&past).unwrap());
        let on = |day: &str| entries.iter().filter(|settled| settled.entry.at.date_naive().to_string() == day).count();
        assert!(on("2026-11-20") > 60 && on("2026-11-21") < 25, "{} and {}", on("2026-11-20"), on("2026-11-21"));
        assert!(entries.iter().all(|settled| settled.entry.at < until && settled.entry.cost.is_some()));
    }
}
