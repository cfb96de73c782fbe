//! People: who there is, what they may do, their passwords as hashes.

use chrono::{DateTime, Utc};
use serde_json::json;
use sqlx::{Postgres, Transaction};
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::key::KeyText;
use wendor_core::catalog::role::{Role, Standing};

use crate::audit::{Tell, commit};
use crate::codes::forget_codes;
use crate::row::name;
use crate::tokens::end_tokens;
use crate::{Store, StoreError};

/// Somebody who may sign in, with role and teams.
#[derive(Clone, Debug)]
pub struct Person {
    /// How they sign in.
    pub name: String,
    /// What they may do.
    pub standing: Standing,
    /// When they were added.
    pub added_at: DateTime<Utc>,
    /// Whether they have set a password.
    pub has_password: bool,
    /// Since when what they present is refused.
    pub disabled_at: Option<DateTime<Utc>>,
    /// Until when a one-time sign-in waits for them.
    pub one_time_until: Option<DateTime<Utc>>,
    /// Since when codes of an authenticator app are asked of them.
    pub codes_since: Option<DateTime<Utc>>,
    /// Recovery codes that they have left.
    pub recovery_codes: i64,
}

/// A person with what is known of the token that they came with.
#[derive(Clone, Debug)]
pub struct Bearer {
    /// To whom the token or session belongs.
    pub person: Person,
    /// When they last signed in as themselves with it.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// Whether nobody can be asked to, since programs use it.
    pub is_unasked: bool,
    /// Whether their role must have codes, and they have none.
    pub lacks_codes: bool,
}

/// What is given replaces what stands; the rest stays.
#[derive(Clone, Debug, Default)]
pub struct PersonChange<'a> {
    /// Another role, with its team.
    pub standing: Option<&'a Standing>,
    /// Whether what they present is refused.
    pub disabled: Option<bool>,
}

#[derive(sqlx::FromRow)]
struct PersonRow {
    name: String,
    role: String,
    team: Option<String>,
    added_at: DateTime<Utc>,
    has_password: bool,
    disabled_at: Option<DateTime<Utc>>,
    one_time_until: Option<DateTime<Utc>>,
    codes_since: Option<DateTime<Utc>>,
    recovery_codes: i64,
}

#[derive(sqlx::FromRow)]
struct BearerRow {
    #[sqlx(flatten)]
    person: PersonRow,
    confirmed_at: Option<DateTime<Utc>>,
    is_unasked: bool,
    lacks_codes: bool,
}

/// What is read of a person, of `person p`.
macro_rules! of_person {
    ($rest:literal) => {
        of_person!("", $rest)
    };
    ($more:literal, $rest:literal) => {
        concat!(
            "select p.name, p.role, p.team, p.added_at, p.password_hash is not null as has_password, p.disabled_at,
                (select max(o.expires_at) from person_token o where o.person = p.name and o.kind = 'one-time'
                    and o.ended_at is null and o.expires_at > now()) as one_time_until,
                p.codes_since, (select count(*) from recovery_code r where r.person = p.name and r.used_at is null) as recovery_codes",
            $more,
            " from ",
            $rest
        )
    };
}

impl TryFrom<PersonRow> for Person {
    type Error = StoreError;
    fn try_from(row: PersonRow) -> Result<Self, StoreError> {
        let role = Role::parse(&row.role).ok_or_else(|| StoreError::unreadable("person.role", &row.role))?;
        let team = row.team.map(|team| name(&team, "person.team")).transpose()?;
        let standing = Standing { role, team };
        let PersonRow {
            name, added_at, has_password, disabled_at, one_time_until, codes_since, recovery_codes, ..
        } = row;
        Ok(Self { name, standing, added_at, has_password, disabled_at, one_time_until, codes_since, recovery_codes })
    }
}

impl Store {
    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::Exists`] for a name that is taken, [`StoreError::Missing`] for an unknown team.
    pub async fn add_person(&self, person: &str, standing: &Standing, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        known_team(&mut transaction, standing).await?;
        let added = sqlx::query(
            "insert into person (name, role, team, added_at, added_by) values ($1, $2, $3, $4, $5) on conflict (name) do nothing",
        )
        .bind(person)
        .bind(standing.role.as_str())
        .bind(standing.team.as_ref().map(wendor_core::name::Name::as_str))
        .bind(doer.at)
        .bind(&doer.name)
        .execute(&mut *transaction)
        .await?;
        if added.rows_affected() == 0 {
            return Err(StoreError::Exists { what: "a person called", name: person.to_owned() });
        }
        let deed = Deed::of(Action::PersonAdded, subject(person)).after(told(standing, false));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// Whether there is a person of that name.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn has_person(&self, person: &str) -> Result<bool, StoreError> {
        let known = sqlx::query_scalar("select exists (select 1 from person where name = $1)");
        Ok(known.bind(person).fetch_one(&self.pool).await?)
    }

    /// All people by name.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn people(&self) -> Result<Vec<Person>, StoreError> {
        let rows: Vec<PersonRow> = sqlx::query_as(of_person!("person p order by p.name")).fetch_all(&self.pool).await?;
        rows.into_iter().map(Person::try_from).collect()
    }

    /// Whose token this is, if it is in force at `now`. One-time sign-ins are no tokens.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn person_of_token(&self, text: &KeyText, now: DateTime<Utc>) -> Result<Option<Bearer>, StoreError> {
        let row: Option<BearerRow> = sqlx::query_as(of_person!(
            ", t.confirmed_at, t.is_unasked, p.codes_since is null and p.role = any(u.codes_required) as lacks_codes",
            "person_token t join person p on p.name = t.person cross join sign_in_rule u
             where t.hash = $1 and t.kind <> 'one-time' and t.ended_at is null and (t.expires_at is null or t.expires_at > $2)
               and p.disabled_at is null"
        ))
        .bind(&text.hash.0[..])
        .bind(now)
        .fetch_optional(&self.pool)
        .await?;
        let bearer = |row: BearerRow| {
            let BearerRow { person, confirmed_at, is_unasked, lacks_codes } = row;
            Ok(Bearer { person: person.try_into()?, confirmed_at, is_unasked, lacks_codes })
        };
        row.map(bearer).transpose()
    }

    /// Changes a person. Whoever is disabled has no token any more.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown person or team, [`StoreError::LastOwner`] when nobody would be left who may do everything.
    pub async fn change_person(&self, person: &str, change: &PersonChange<'_>, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        // Locked in one order, so that of two who remove each other one is told.
        let owners: Vec<String> = sqlx::query_scalar(
            "select name from person where role = 'owner' and disabled_at is null order by name for update",
        )
        .fetch_all(&mut *transaction)
        .await?;
        let stays =
            change.disabled != Some(true) && change.standing.is_none_or(|standing| standing.role == Role::Owner);
        if !stays && owners == [person] {
            return Err(StoreError::LastOwner(person.to_owned()));
        }
        if let Some(standing) = change.standing {
            known_team(&mut transaction, standing).await?;
        }
        let before = read_person(&mut transaction, person).await?;
        sqlx::query(
            "update person set role = coalesce($2, role), team = case when $2 is null then team else $3 end,
                disabled_at = case when $4 then coalesce(disabled_at, $5) when not $4 then null else disabled_at end,
                disabled_by = case when $4 then coalesce(disabled_by, $6) when not $4 then null else disabled_by end
             where name = $1",
        )
        .bind(person)
        .bind(change.standing.map(|standing| standing.role.as_str()))
        .bind(change.standing.and_then(|standing| standing.team.as_ref()).map(wendor_core::name::Name::as_str))
        .bind(change.disabled)
        .bind(doer.at)
        .bind(&doer.name)
        .execute(&mut *transaction)
        .await?;
        if change.disabled == Some(true) {
            end_tokens(&mut transaction, person, None, doer.at).await?;
        }
        let was_disabled = before.disabled_at.is_some();
        let after = told(change.standing.unwrap_or(&before.standing), change.disabled.unwrap_or(was_disabled));
        let deed =
            Deed::of(Action::PersonChanged, subject(person)).before(told(&before.standing, was_disabled)).after(after);
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// Takes a person's password, codes and all their tokens away.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn reset_person(&self, person: &str, doer: &Doer) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let before = read_person(&mut transaction, person).await?;
        sqlx::query("update person set password_hash = null where name = $1")
            .bind(person)
            .execute(&mut *transaction)
            .await?;
        let had_codes = forget_codes(&mut transaction, person).await?;
        let ended = end_tokens(&mut transaction, person, None, doer.at).await?;
        let deed = Deed::of(Action::PersonReset, subject(person))
            .before(json!({ "password": before.has_password, "codes": had_codes }))
            .after(json!({ "password": false, "codes": false, "ended": ended }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }

    /// The hash of a person's password, if they are known and have set one.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn password_hash(&self, person: &str) -> Result<Option<String>, StoreError> {
        let row: Option<Option<String>> =
            sqlx::query_scalar("select password_hash from person where name = $1 and disabled_at is null")
                .bind(person)
                .fetch_optional(&self.pool)
                .await?;
        Ok(row.flatten())
    }

    /// Sets the hash of a person's password, and ends every token of theirs but `except`: whoever knew the one before is signed out.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn set_password_hash(
        &self,
        person: &str,
        hash: &str,
        except: &str,
        doer: &Doer,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let before = read_person(&mut transaction, person).await?;
        sqlx::query("update person set password_hash = $2 where name = $1")
            .bind(person)
            .bind(hash)
            .execute(&mut *transaction)
            .await?;
        let ended = end_tokens(&mut transaction, person, Some(except), doer.at).await?;
        let deed = Deed::of(Action::PasswordSet, subject(person))
            .before(json!({ "password": before.has_password }))
            .after(json!({ "password": "changed", "ended": ended }));
        commit(transaction, Tell::Nobody, doer, &deed).await
    }
}

/// What the audit calls a person.
pub(crate) fn subject(person: &str) -> String {
    format!("person {person}")
}

/// What the audit tells of a person.
fn told(standing: &Standing, is_disabled: bool) -> serde_json::Value {
    json!({ "role": standing.role.as_str(), "team": standing.team, "disabled": is_disabled })
}

/// Reads a person, whom nobody else changes until the transaction ends.
pub(crate) async fn read_person(
    transaction: &mut Transaction<'_, Postgres>,
    person: &str,
) -> Result<Person, StoreError> {
    let row: Option<PersonRow> = sqlx::query_as(of_person!("person p where p.name = $1 for update of p"))
        .bind(person)
        .fetch_optional(&mut **transaction)
        .await?;
    let missing = || StoreError::Missing { what: "person", name: person.to_owned() };
    row.ok_or_else(missing)?.try_into()
}

async fn known_team(transaction: &mut Transaction<'_, Postgres>, standing: &Standing) -> Result<(), StoreError> {
    let Some(team) = &standing.team else { return Ok(()) };
    let known: bool = sqlx::query_scalar("select exists (select 1 from team where name = $1)")
        .bind(team.as_str())
        .fetch_one(&mut **transaction)
        .await?;
    if known { Ok(()) } else { Err(StoreError::Missing { what: "team", name: team.to_string() }) }
}
