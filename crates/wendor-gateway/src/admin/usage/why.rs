//! Why a range cost more or less than the one before.

use actix_web::{get, web};
use chrono::{DateTime, Days, NaiveDate, Utc};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use wendor_core::metering::rollup::RollUp;
use wendor_core::metering::why::{self as analysis, DayUse, OfferPart, Period};
use wendor_core::name::OfferName;
use wendor_store::usage::{Dimension, PAIR, UsageQuery};

use super::asked::{UsageParams, base_query, narrowed, read};
use super::{Groups, previous_period, shift_of, sum};
use crate::admin::principal::Principal;
use crate::admin::problem::Problem;
use crate::app::App;

/// Offers that are told one by one.
const MOST_OFFERS: usize = 20;

/// An offer's part of a difference in cost.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct WhyLine {
    /// As `upstream/model`.
    pub offer: String,
    /// What its rates did, all digits.
    pub price: String,
    /// What its share of all tokens and its kinds of tokens did, all digits.
    pub mix: String,
    /// Tokens of the previous period, input and output.
    pub tokens_before: u64,
    /// Tokens of the range.
    pub tokens: u64,
    /// The query string that lists the requests behind this line at `/manage/v1/requests`.
    pub requests_query: String,
}

/// Why a range cost more or less than the one before.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct UsageWhy {
    /// First instant inside.
    pub from: DateTime<Utc>,
    /// First instant after.
    pub to: DateTime<Utc>,
    /// The previous period, as with the figures.
    pub before_from: DateTime<Utc>,
    /// Its first instant after.
    pub before_to: DateTime<Utc>,
    /// Where history begins, where that is after the previous period has begun.
    pub history_from: Option<DateTime<Utc>>,
    /// Code of the currency.
    pub currency: String,
    /// In a sentence.
    pub summary: String,
    /// What the previous period cost, all digits.
    pub cost_before: String,
    /// What the range cost.
    pub cost: String,
    /// Of the difference, what more or fewer tokens did at the mix and the rates of before.
    pub volume: String,
    /// What other rates did.
    pub price: String,
    /// What other offers and kinds of tokens did.
    pub mix: String,
    /// What images, corrections and lines without a rate did.
    pub other: String,
    /// The offers, the largest part first.
    pub lines: Vec<WhyLine>,
}

/// Why a range cost more or less than the previous period, as a sum of volume, price, mix and the rest. `by` is not looked at.
#[utoipa::path(tag = "figures", params(UsageParams), responses((status = 200, body = UsageWhy, description = "The parts of the difference")))]
#[get("/usage/why")]
pub(in crate::admin) async fn why(
    principal: Principal,
    app: web::Data<App>,
    params: web::Query<UsageParams>,
) -> Result<web::Json<UsageWhy>, Problem> {
    let params = UsageParams { by: None, ..params.into_inner() };
    let query = UsageQuery { by: Dimension::Offer, then: Some(Dimension::Day), ..read(&principal, &app, &params)? };
    let before = previous_period(&query, shift_of(query.from, query.to), app.clock.now());
    let (after_groups, before_groups) = tokio::try_join!(app.usage(&query), app.usage(&before))?;
    let snapshot = app.now_serving();
    let (was, is) = (period(&before_groups, before.to), period(&after_groups, query.to.min(app.clock.now())));
    let why = analysis::why(&was, &is, &snapshot.rates);
    let currency = snapshot.catalogue.currency.clone();
    let base = base_query(&query);
    let line = |part: &OfferPart| {
        let offer = part.offer.to_string();
        WhyLine {
            price: part.price.to_string(),
            mix: part.mix.to_string(),
            tokens_before: part.tokens_before,
            tokens: part.tokens,
            requests_query: format!("{base}{}", narrowed(&query, Dimension::Offer, &offer)),
            offer,
        }
    };
    let is_told = |part: &&OfferPart| !part.price.is_zero() || !part.mix.is_zero();
    Ok(web::Json(UsageWhy {
        from: query.from,
        to: query.to,
        before_from: before.from,
        before_to: before.to,
        history_from: app.store.first_hour().await?.filter(|first| *first > before.from),
        summary: why.words(&currency),
        currency,
        cost_before: why.before.to_string(),
        cost: why.after.to_string(),
        volume: why.volume.to_string(),
        price: why.price.to_string(),
        mix: why.mix.to_string(),
        other: why.other.to_string(),
        lines: why.offers.iter().filter(is_told).take(MOST_OFFERS).map(line).collect(),
    }))
}

/// What was used by offer and day, and all that it cost.
fn period(groups: &Groups, to: DateTime<Utc>) -> Period {
    let used = |(key, sums): (&String, &RollUp)| {
        let (offer, day) = key.split_once(PAIR)?;
        Some(DayUse { offer: OfferName::parse(offer).ok()?, day: day.parse::<NaiveDate>().ok()?, tokens: sums.tokens })
    };
    let last = to.date_naive();
    // A range ends before its last instant.
    let last =
        if to.time() == chrono::NaiveTime::MIN { last.checked_sub_days(Days::new(1)).unwrap_or(last) } else { last };
    Period { uses: groups.iter().filter_map(used).collect(), cost: sum(groups).cost, last }
}
