//! The configuration's revisions, and with them teams and rates. A revision is appended, never edited.

use std::collections::BTreeMap;

use chrono::{DateTime, NaiveDate, Utc};
use rust_decimal::Decimal;
use serde_json::json;
use sqlx::types::Json;
use sqlx::{FromRow, Row};
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::Catalogue;
use wendor_core::catalog::guard::{Guard, Outcome};
use wendor_core::metering::money::Money;
use wendor_core::metering::rate::{Rate, RateCard};
use wendor_core::name::OfferName;
use wendor_wire::images::ImageSize;

use crate::audit::{Tell, commit};
use crate::row::{count, numeric};
use crate::{Store, StoreError};

/// A catalogue that was in force, or is.
#[derive(Clone, Debug)]
pub struct Revision {
    /// Its number, counted from 1.
    pub number: i64,
    /// By the database's clock.
    pub made_at: DateTime<Utc>,
    /// By whom.
    pub made_by: String,
    /// Why, in their words.
    pub note: String,
    /// The bounds that were set with it.
    pub guard: Option<Guard>,
    /// The revision that it undid by itself, and why.
    pub undid: Option<(i64, String)>,
}

/// A revision as it is stored.
#[derive(FromRow)]
struct RevisionRow {
    number: i64,
    made_at: DateTime<Utc>,
    made_by: String,
    note: String,
    guard: Option<Json<Guard>>,
    undoes: Option<i64>,
    undone_for: Option<String>,
}

impl From<RevisionRow> for Revision {
    fn from(row: RevisionRow) -> Self {
        let RevisionRow { number, made_at, made_by, note, guard, undoes, undone_for } = row;
        let undid = undoes.map(|number| (number, undone_for.unwrap_or_default()));
        Self { number, made_at, made_by, note, guard: guard.map(|guard| guard.0), undid }
    }
}

const COLUMNS: &str = "number, made_at, made_by, note, guard, undoes, undone_for";

/// A revision to be made.
#[derive(Clone, Debug)]
pub struct NewRevision<'a> {
    /// The revision that it was made against; 0 for the first.
    pub base: i64,
    /// The whole configuration.
    pub catalogue: &'a Catalogue,
    /// Rates to append.
    pub rates: &'a [(OfferName, Rate)],
    /// By whom, and when.
    pub by: &'a Doer,
    /// Why.
    pub note: &'a str,
    /// What changes, as the audit tells it.
    pub changes: serde_json::Value,
    /// Bounds with which it undoes itself.
    pub guard: Option<&'a Guard>,
    /// The revision that it undoes by itself, and why.
    pub undoes: Option<(i64, &'a str)>,
}

#[derive(FromRow)]
struct RateRow {
    offer: String,
    effective_on: NaiveDate,
    input: Decimal,
    input_cached: Option<Decimal>,
    cache_written: Option<Decimal>,
    output: Decimal,
    image: Option<Decimal>,
    image_sizes: Json<BTreeMap<ImageSize, Decimal>>,
}

impl Store {
    /// The revision in force with its document; `None` before the first.
    ///
    /// # Errors
    /// When the database is away or the document cannot be read.
    pub async fn current_revision(&self) -> Result<Option<(Revision, Catalogue)>, StoreError> {
        self.one_revision("order by number desc limit 1", None).await
    }

    async fn one_revision(
        &self,
        which: &'static str,
        number: Option<i64>,
    ) -> Result<Option<(Revision, Catalogue)>, StoreError> {
        let mut query = sqlx::QueryBuilder::<sqlx::Postgres>::new("select ");
        query.push(COLUMNS).push(", document from revision ").push(which);
        if let Some(number) = number {
            query.push_bind(number);
        }
        let Some(row) = query.build().fetch_optional(&self.pool).await? else { return Ok(None) };
        let revision = RevisionRow::from_row(&row)?.into();
        let document: serde_json::Value = row.try_get("document")?;
        let catalogue =
            serde_json::from_value(document).map_err(|error| StoreError::unreadable("a revision's document", error))?;
        Ok(Some((revision, catalogue)))
    }

    /// The document of a revision that was in force, or is.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is none of that number; when the database is away or the document cannot be read.
    pub async fn revision(&self, number: i64) -> Result<(Revision, Catalogue), StoreError> {
        let missing = || StoreError::Missing { what: "revision", name: number.to_string() };
        self.one_revision("where number = ", Some(number)).await?.ok_or_else(missing)
    }

    /// What came of the requests of a revision.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn outcome_of_revision(&self, number: i64, since: DateTime<Utc>) -> Result<Outcome, StoreError> {
        let (requests, failures, cost): (i64, i64, Decimal) = sqlx::query_as(
            "select count(*) filter (where kind = 'request'),
             count(*) filter (where kind = 'request' and ended in ('cut-off', 'not-answered')),
             coalesce(sum(coalesce(cost_input, 0) + coalesce(cost_input_cached, 0) + coalesce(cost_cache_written, 0)
             + coalesce(cost_output, 0) + coalesce(cost_images, 0)), 0)
             from ledger where revision = $1 and at >= $2",
        )
        .bind(number)
        .bind(since)
        .fetch_one(&self.pool)
        .await?;
        let (requests, failures) = (count(requests, "requests")?, count(failures, "failures")?);
        Ok(Outcome { requests, failures, cost: Money::new(cost) })
    }

    /// The latest revisions, newest first.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn revisions(&self, limit: i64) -> Result<Vec<Revision>, StoreError> {
        let mut query = sqlx::QueryBuilder::<sqlx::Postgres>::new("select ");
        query.push(COLUMNS).push(" from revision order by number desc limit ").push_bind(limit);
        let rows: Vec<RevisionRow> = query.build_query_as().fetch_all(&self.pool).await?;
        Ok(rows.into_iter().map(Revision::from).collect())
    }

    /// Makes a revision and appends its rates. Gives its number.
    ///
    /// # Errors
    /// [`StoreError::Overtaken`] when `base` is not in force any more; nothing is changed then.
    pub async fn make_revision(&self, new: NewRevision<'_>) -> Result<i64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        // The counter's row orders those who change something at once.
        sqlx::query("select value from change_counter for update").execute(&mut *transaction).await?;
        let current: i64 =
            sqlx::query_scalar("select coalesce(max(number), 0) from revision").fetch_one(&mut *transaction).await?;
        if current != new.base {
            return Err(StoreError::Overtaken { expected: new.base, found: current });
        }
        let number = current + 1;
        sqlx::query(
            "insert into revision (number, made_at, made_by, note, document, guard, undoes, undone_for)
             values ($1, $2, $3, $4, $5, $6, $7, $8)",
        )
        .bind(number)
        .bind(new.by.at)
        .bind(&new.by.name)
        .bind(new.note)
        .bind(Json(new.catalogue))
        .bind(new.guard.map(Json))
        .bind(new.undoes.map(|(number, _)| number))
        .bind(new.undoes.map(|(_, why)| why))
        .execute(&mut *transaction)
        .await?;
        let teams: Vec<&str> = new.catalogue.teams.keys().map(wendor_core::name::Name::as_str).collect();
        sqlx::query(
            "insert into team (name, first_revision) select unnest($1::text[]), $2 on conflict (name) do nothing",
        )
        .bind(teams)
        .bind(number)
        .execute(&mut *transaction)
        .await?;
        for (offer, rate) in new.rates {
            append_rate(&mut transaction, offer, rate, &new).await?;
        }
        let deed = Deed::of(Action::RevisionMade, format!("revision {number}"))
            .before(json!({ "revision": current }))
            .after(json!({ "revision": number, "note": new.note, "changes": new.changes }));
        commit(transaction, Tell::Everyone, new.by, &deed).await?;
        Ok(number)
    }

    /// The rate card.
    ///
    /// # Errors
    /// When the database is away or a rate cannot be read.
    pub async fn rate_card(&self) -> Result<RateCard, StoreError> {
        let rows: Vec<RateRow> = sqlx::query_as(
            "select offer, effective_on, input, input_cached, cache_written, output, image, image_sizes from rate",
        )
        .fetch_all(&self.pool)
        .await?;
        let mut card = RateCard::default();
        for row in rows {
            let offer = OfferName::parse(&row.offer).map_err(|error| StoreError::unreadable("rate.offer", error))?;
            let rate = Rate {
                effective_on: row.effective_on,
                input: row.input.normalize(),
                input_cached: row.input_cached.map(|value| value.normalize()),
                cache_written: row.cache_written.map(|value| value.normalize()),
                output: row.output.normalize(),
                image: row.image.map(|value| value.normalize()),
                image_sizes: row.image_sizes.0.into_iter().map(|(size, value)| (size, value.normalize())).collect(),
            };
            card.add(offer, rate);
        }
        Ok(card)
    }
}

async fn append_rate(
    connection: &mut sqlx::PgConnection,
    offer: &OfferName,
    rate: &Rate,
    new: &NewRevision<'_>,
) -> Result<(), StoreError> {
    let added = sqlx::query(
        "insert into rate (offer, effective_on, input, input_cached, cache_written, output, image, image_sizes, added_at, added_by)
         values ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) on conflict do nothing",
    )
    .bind(offer.to_string())
    .bind(rate.effective_on)
    .bind(numeric(rate.input))
    .bind(rate.input_cached.map(numeric))
    .bind(rate.cache_written.map(numeric))
    .bind(numeric(rate.output))
    .bind(rate.image.map(numeric))
    .bind(Json(&rate.image_sizes))
    .bind(new.by.at)
    .bind(&new.by.name)
    .execute(connection)
    .await?;
    match added.rows_affected() {
        0 => Err(StoreError::Exists { what: "a rate", name: format!("{offer} from {}", rate.effective_on) }),
        _ => Ok(()),
    }
}
