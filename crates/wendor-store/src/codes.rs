//! One-time codes of people's authenticator apps, recovery codes, and who must have them.

use chrono::{DateTime, Utc};
use serde_json::json;
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::role::Role;

use crate::audit::{Tell, commit};
use crate::people::subject;
use crate::{Store, StoreError};

/// A person's codes as they are kept.
#[derive(Clone, Debug, Default, sqlx::FromRow)]
pub struct KeptCodes {
    /// What codes are made of, encrypted.
    #[sqlx(rename = "codes_sealed")]
    pub sealed: Option<Vec<u8>>,
    /// The mark of the secret that it is under.
    #[sqlx(rename = "codes_kept_under")]
    pub kept_under: Option<String>,
    /// Since when they are asked for; nothing while they are being set up.
    #[sqlx(rename = "codes_since")]
    pub since: Option<DateTime<Utc>>,
    /// The step of the last one that was taken.
    #[sqlx(rename = "codes_step")]
    pub step: i64,
}

/// What codes are made of, to be kept.
#[derive(Clone, Debug)]
pub struct NewCodes<'a> {
    /// Encrypted.
    pub sealed: &'a [u8],
    /// The mark of the secret that it is under.
    pub kept_under: &'a str,
}

impl Store {
    /// A person's codes; nothing of a person who is not there.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn codes_of(&self, person: &str) -> Result<KeptCodes, StoreError> {
        let kept = sqlx::query_as(
            "select codes_sealed, codes_kept_under, codes_since, codes_step from person where name = $1",
        );
        Ok(kept.bind(person).fetch_optional(&self.pool).await?.unwrap_or_default())
    }

    /// Everybody's codes by name, pending ones too.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn all_codes(&self) -> Result<Vec<(String, Vec<u8>, Option<String>)>, StoreError> {
        let all =
            "select name, codes_sealed, codes_kept_under from person where codes_sealed is not null order by name";
        Ok(sqlx::query_as(all).fetch_all(&self.pool).await?)
    }

    /// Keeps what a person's codes will be made of. They are not asked for until [`Store::set_up_codes`].
    ///
    /// # Errors
    /// [`StoreError::Exists`] when codes are in force already.
    pub async fn begin_codes(&self, person: &str, new: &NewCodes<'_>) -> Result<(), StoreError> {
        let begun = sqlx::query(
            "update person set codes_sealed = $2, codes_kept_under = $3, codes_step = 0 where name = $1 and codes_since is null",
        )
        .bind(person)
        .bind(new.sealed)
        .bind(new.kept_under)
        .execute(&self.pool)
        .await?;
        match begun.rows_affected() {
            0 => Err(StoreError::Exists { what: "an authenticator app of", name: person.to_owned() }),
            _ => Ok(()),
        }
    }

    /// Keeps what codes are made of under another secret, unless they were changed since they were read.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn reseal_codes(
        &self,
        person: &str,
        was: &[u8],
        new: &NewCodes<'_>,
        doer: &Doer,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let moved = sqlx::query(
            "update person set codes_sealed = $3, codes_kept_under = $4 where name = $1 and codes_sealed = $2",
        )
        .bind(person)
        .bind(was)
        .bind(new.sealed)
        .bind(new.kept_under)
        .execute(&mut *transaction)
        .await?;
        if moved.rows_affected() == 0 {
            return Ok(());
        }
        let deed = Deed::of(Action::CredentialsMoved, subject(person))
            .after(json!({ "codes": true, "under": new.kept_under }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// A first code has come: codes are asked for from now on, with new recovery codes beside.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn set_up_codes(
        &self,
        person: &str,
        step: i64,
        recovery: &[[u8; 32]],
        doer: &Doer,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("update person set codes_since = $2, codes_step = $3 where name = $1 and codes_since is null")
            .bind(person)
            .bind(doer.at)
            .bind(step)
            .execute(&mut *transaction)
            .await?;
        set_recovery(&mut transaction, person, recovery).await?;
        let deed = Deed::of(Action::CodesSetUp, subject(person))
            .before(json!({ "codes": false }))
            .after(json!({ "codes": true, "recovery_codes": recovery.len() }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// Takes a person's codes away.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when they have none.
    pub async fn remove_codes(&self, person: &str, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        if !forget_codes(&mut transaction, person).await? {
            return Err(StoreError::Missing { what: "authenticator app of", name: person.to_owned() });
        }
        let deed = Deed::of(Action::CodesRemoved, subject(person))
            .before(json!({ "codes": true }))
            .after(json!({ "codes": false }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// Takes the code of a step, if none of it or a later one was taken yet.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn use_code(&self, person: &str, step: i64) -> Result<bool, StoreError> {
        let used = sqlx::query("update person set codes_step = $2 where name = $1 and codes_step < $2")
            .bind(person)
            .bind(step)
            .execute(&self.pool)
            .await?;
        Ok(used.rows_affected() > 0)
    }

    /// Takes a recovery code, if it was not taken yet.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn use_recovery_code(&self, person: &str, hash: [u8; 32], at: DateTime<Utc>) -> Result<bool, StoreError> {
        let used =
            sqlx::query("update recovery_code set used_at = $3 where person = $1 and hash = $2 and used_at is null")
                .bind(person)
                .bind(&hash[..])
                .bind(at)
                .execute(&self.pool)
                .await?;
        Ok(used.rows_affected() > 0)
    }

    /// Whoever came with this token has signed in again as themselves.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn confirm_token(&self, person: &str, token: &str, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("update person_token set confirmed_at = $3 where person = $1 and id = $2")
            .bind(person)
            .bind(token)
            .bind(doer.at)
            .execute(&mut *transaction)
            .await?;
        commit(transaction, Tell::Nobody, doer, &Deed::of(Action::Confirmed, subject(person))).await
    }

    /// The roles that have to have codes.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn codes_required(&self) -> Result<Vec<Role>, StoreError> {
        let words: Vec<String> =
            sqlx::query_scalar("select codes_required from sign_in_rule").fetch_one(&self.pool).await?;
        Ok(words.iter().filter_map(|word| Role::parse(word)).collect())
    }

    /// Says which roles have to have codes.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn require_codes(&self, roles: &[Role], doer: &Doer) -> Result<(), StoreError> {
        let words: Vec<&str> = roles.iter().map(|role| role.as_str()).collect();
        let mut transaction = self.pool.begin().await?;
        let before: Vec<String> = sqlx::query_scalar("select codes_required from sign_in_rule for update")
            .fetch_one(&mut *transaction)
            .await?;
        sqlx::query("update sign_in_rule set codes_required = $1").bind(&words).execute(&mut *transaction).await?;
        let deed = Deed::of(Action::CodesRequired, "sign-in")
            .before(json!({ "roles": before }))
            .after(json!({ "roles": words }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }
}

async fn set_recovery(
    connection: &mut sqlx::PgConnection,
    person: &str,
    recovery: &[[u8; 32]],
) -> Result<(), StoreError> {
    sqlx::query("delete from recovery_code where person = $1").bind(person).execute(&mut *connection).await?;
    let hashes: Vec<&[u8]> = recovery.iter().map(|hash| &hash[..]).collect();
    sqlx::query("insert into recovery_code (person, hash) select $1, unnest($2::bytea[])")
        .bind(person)
        .bind(hashes)
        .execute(&mut *connection)
        .await?;
    Ok(())
}

/// Forgets a person's codes as part of something else. Gives whether there were any in force.
pub(crate) async fn forget_codes(connection: &mut sqlx::PgConnection, person: &str) -> Result<bool, StoreError> {
    set_recovery(connection, person, &[]).await?;
    let had: Option<bool> = sqlx::query_scalar(
        "with had as (select name, codes_since is not null as had from person where name = $1)
         update person p set codes_sealed = null, codes_kept_under = null, codes_since = null, codes_step = 0
         from had where p.name = had.name returning had.had",
    )
    .bind(person)
    .fetch_optional(&mut *connection)
    .await?;
    Ok(had.unwrap_or(false))
}
