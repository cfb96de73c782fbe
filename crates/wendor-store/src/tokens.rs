//! What people present: a sign-in that works once, a session, a token for programs. All kept as hashes.

use chrono::{DateTime, SubsecRound, Utc};
use serde_json::json;
use sqlx::{Postgres, Transaction};
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::key::KeyText;
use wendor_wire::worded;

use crate::audit::{Tell, commit};
use crate::people::{read_person, subject};
use crate::{Store, StoreError};

worded! {
    /// What a person presents.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum TokenKind {
        /// Works once, to sign in.
        OneTime = "one-time",
        /// A signed-in session.
        Session = "session",
        /// For programs.
        Personal = "personal",
    }
}

/// A token without its secret.
#[derive(Clone, Debug, sqlx::FromRow)]
pub struct PersonToken {
    /// The part that may be shown.
    pub id: String,
    /// `session` or `personal`.
    pub kind: String,
    /// What it is for.
    pub label: String,
    /// By the database's clock.
    pub issued_at: DateTime<Utc>,
    /// From then on it is refused.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since then it is refused.
    pub ended_at: Option<DateTime<Utc>>,
    /// Whether programs may do with it what people have to sign in again for.
    pub is_unasked: bool,
}

/// A token to be kept.
#[derive(Clone, Debug)]
pub struct NewToken<'a> {
    /// Whose.
    pub person: &'a str,
    /// For signing in once, a session, or programs.
    pub kind: TokenKind,
    /// What it is for.
    pub label: &'a str,
    /// From then on it is refused.
    pub expires_at: Option<DateTime<Utc>>,
    /// When its person last signed in as themselves.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// Whether programs may do with it what people have to sign in again for.
    pub is_unasked: bool,
}

impl TokenKind {
    fn action(self) -> Action {
        match self {
            Self::OneTime => Action::OneTimeIssued,
            Self::Session => Action::SignedIn,
            Self::Personal => Action::TokenIssued,
        }
    }
}

impl Store {
    /// Uses a one-time sign-in up and gives whose it was; `None` when it was used, has expired or never was.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn use_one_time(&self, text: &KeyText, now: DateTime<Utc>) -> Result<Option<String>, StoreError> {
        let person = sqlx::query_scalar(
            "update person_token set ended_at = $2
             where hash = $1 and kind = 'one-time' and ended_at is null and (expires_at is null or expires_at > $2)
               and exists (select 1 from person p where p.name = person and p.disabled_at is null)
             returning person",
        )
        .bind(&text.hash.0[..])
        .bind(now)
        .fetch_optional(&self.pool)
        .await?;
        Ok(person)
    }

    /// Ends every token of a person. Gives how many.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn end_tokens(&self, person: &str, doer: &Doer) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        read_person(&mut transaction, person).await?;
        let ended = end_tokens(&mut transaction, person, None, doer.at).await?;
        let deed = Deed::of(Action::PersonSignedOut, subject(person)).after(json!({ "ended": ended }));
        commit(transaction, Tell::Nobody, doer, &deed).await?;
        Ok(ended)
    }

    /// Keeps a token. Of one-time sign-ins the last one alone works.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn add_token(&self, text: &KeyText, token: &NewToken<'_>, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        if token.kind == TokenKind::OneTime {
            let earlier =
                "update person_token set ended_at = $2 where person = $1 and kind = 'one-time' and ended_at is null";
            sqlx::query(earlier).bind(token.person).bind(doer.at).execute(&mut *transaction).await?;
        }
        let added = sqlx::query(
            "insert into person_token (id, hash, person, kind, label, issued_at, expires_at, confirmed_at, is_unasked)
             select $1, $2, name, $4, $5, $6, $7, $8, $9 from person where name = $3",
        )
        .bind(text.id.as_str())
        .bind(&text.hash.0[..])
        .bind(token.person)
        .bind(token.kind.as_str())
        .bind(token.label)
        .bind(doer.at)
        .bind(token.expires_at)
        .bind(token.confirmed_at)
        .bind(token.is_unasked)
        .execute(&mut *transaction)
        .await?;
        if added.rows_affected() == 0 {
            return Err(StoreError::Missing { what: "person", name: token.person.to_owned() });
        }
        let mut after = json!({ "token": text.id, "expires_at": token.expires_at.map(|at| at.trunc_subsecs(0)) });
        if !token.label.is_empty() {
            after["label"] = token.label.into();
        }
        if token.is_unasked {
            after["unasked"] = true.into();
        }
        let deed = Deed::of(token.kind.action(), subject(token.person)).after(after);
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// Sessions and personal tokens of a person, newest first, ended ones too.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn tokens_of(&self, person: &str) -> Result<Vec<PersonToken>, StoreError> {
        let rows = sqlx::query_as(
            "select id, kind, label, issued_at, expires_at, ended_at, is_unasked from person_token
             where person = $1 and kind <> 'one-time' order by issued_at desc, id limit 200",
        )
        .bind(person)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows)
    }

    /// Ends a token of a person; doing it again changes nothing.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when they have none of that id.
    pub async fn end_token(&self, person: &str, id: &str, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let row: Option<(String, String, Option<DateTime<Utc>>)> =
            sqlx::query_as("select kind, label, ended_at from person_token where person = $1 and id = $2 for update")
                .bind(person)
                .bind(id)
                .fetch_optional(&mut *transaction)
                .await?;
        let missing = || StoreError::Missing { what: "token", name: id.to_owned() };
        let (kind, label, ended_at) = row.ok_or_else(missing)?;
        if ended_at.is_some() {
            return Ok(());
        }
        sqlx::query("update person_token set ended_at = $2 where id = $1")
            .bind(id)
            .bind(doer.at)
            .execute(&mut *transaction)
            .await?;
        let is_session = kind == TokenKind::Session.as_str();
        let action = if is_session { Action::SignedOut } else { Action::TokenEnded };
        let deed = Deed::of(action, subject(person)).before(json!({ "token": id, "label": label }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }
}

pub(crate) async fn end_tokens(
    transaction: &mut Transaction<'_, Postgres>,
    person: &str,
    except: Option<&str>,
    at: DateTime<Utc>,
) -> Result<u64, StoreError> {
    let ended = sqlx::query(
        "update person_token set ended_at = $3 where person = $1 and ended_at is null and id is distinct from $2",
    )
    .bind(person)
    .bind(except)
    .bind(at)
    .execute(&mut **transaction)
    .await?;
    Ok(ended.rows_affected())
}
