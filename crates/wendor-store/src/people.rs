//! People and what they present: a sign-in that works once, a session, a token for programs. All kept as hashes.

use chrono::{DateTime, Utc};
use sqlx::{Postgres, Transaction};
use wendor_core::catalog::key::KeyText;
use wendor_core::catalog::role::{Role, Standing};

use crate::row::name;
use crate::{Store, StoreError};

/// A person.
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
}

/// What is to be changed of a person.
#[derive(Clone, Debug, Default)]
pub struct PersonChange<'a> {
    /// Another role, with its team.
    pub standing: Option<&'a Standing>,
    /// Whether what they present is refused.
    pub disabled: Option<bool>,
}

/// What a person presents.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum TokenKind {
    /// Works once, to sign in.
    OneTime,
    /// A signed-in session.
    Session,
    /// For programs.
    Personal,
}

impl TokenKind {
    /// The kind's word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        match self {
            Self::OneTime => "one-time",
            Self::Session => "session",
            Self::Personal => "personal",
        }
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
    /// When it was issued.
    pub issued_at: DateTime<Utc>,
    /// From then on it is refused.
    pub expires_at: Option<DateTime<Utc>>,
    /// Since then it is refused.
    pub ended_at: Option<DateTime<Utc>>,
}

/// A token to be kept.
#[derive(Clone, Debug)]
pub struct NewToken<'a> {
    /// Whose.
    pub person: &'a str,
    /// Which kind.
    pub kind: TokenKind,
    /// What it is for.
    pub label: &'a str,
    /// When it is issued.
    pub at: DateTime<Utc>,
    /// From then on it is refused.
    pub expires_at: Option<DateTime<Utc>>,
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
}

/// What is read of a person, of `person p`.
macro_rules! of_person {
    ($rest:literal) => {
        concat!(
            "select p.name, p.role, p.team, p.added_at, p.password_hash is not null as has_password, p.disabled_at,
                (select max(o.expires_at) from person_token o where o.person = p.name and o.kind = 'one-time'
                    and o.ended_at is null and o.expires_at > now()) as one_time_until
             from ",
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
        let PersonRow { name, added_at, has_password, disabled_at, one_time_until, .. } = row;
        Ok(Self { name, standing, added_at, has_password, disabled_at, one_time_until })
    }
}

impl Store {
    /// Adds a person.
    ///
    /// # Errors
    /// [`StoreError::Exists`] for a name that is taken, [`StoreError::Missing`] for an unknown team.
    pub async fn add_person(
        &self,
        person: &str,
        standing: &Standing,
        by: &str,
        at: DateTime<Utc>,
    ) -> Result<(), StoreError> {
        if let Some(team) = &standing.team {
            let known: bool = sqlx::query_scalar("select exists (select 1 from team where name = $1)")
                .bind(team.as_str())
                .fetch_one(&self.pool)
                .await?;
            if !known {
                return Err(StoreError::Missing { what: "team", name: team.to_string() });
            }
        }
        let added = sqlx::query(
            "insert into person (name, role, team, added_at, added_by) values ($1, $2, $3, $4, $5) on conflict (name) do nothing",
        )
        .bind(person)
        .bind(standing.role.as_str())
        .bind(standing.team.as_ref().map(wendor_core::name::Name::as_str))
        .bind(at)
        .bind(by)
        .execute(&self.pool)
        .await?;
        match added.rows_affected() {
            0 => Err(StoreError::Exists { what: "a person called", name: person.to_owned() }),
            _ => Ok(()),
        }
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
    pub async fn person_of_token(&self, text: &KeyText, now: DateTime<Utc>) -> Result<Option<Person>, StoreError> {
        let row: Option<PersonRow> = sqlx::query_as(of_person!(
            "person_token t join person p on p.name = t.person
             where t.hash = $1 and t.kind <> 'one-time' and t.ended_at is null and (t.expires_at is null or t.expires_at > $2)
               and p.disabled_at is null"
        ))
            .bind(&text.hash.0[..])
            .bind(now)
            .fetch_optional(&self.pool)
            .await?;
        row.map(Person::try_from).transpose()
    }

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

    /// Changes a person. Whoever is disabled has no token any more.
    ///
    /// # Errors
    /// [`StoreError::Missing`] for an unknown person or team, [`StoreError::LastOwner`] when nobody would be left who may do everything.
    pub async fn change_person(
        &self,
        person: &str,
        change: &PersonChange<'_>,
        (by, at): (&str, DateTime<Utc>),
    ) -> Result<(), StoreError> {
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
        if let Some(team) = change.standing.and_then(|standing| standing.team.as_ref()) {
            let known: bool = sqlx::query_scalar("select exists (select 1 from team where name = $1)")
                .bind(team.as_str())
                .fetch_one(&mut *transaction)
                .await?;
            if !known {
                return Err(StoreError::Missing { what: "team", name: team.to_string() });
            }
        }
        let changed = sqlx::query(
            "update person set role = coalesce($2, role), team = case when $2 is null then team else $3 end,
                disabled_at = case when $4 then coalesce(disabled_at, $5) when not $4 then null else disabled_at end,
                disabled_by = case when $4 then coalesce(disabled_by, $6) when not $4 then null else disabled_by end
             where name = $1",
        )
        .bind(person)
        .bind(change.standing.map(|standing| standing.role.as_str()))
        .bind(change.standing.and_then(|standing| standing.team.as_ref()).map(wendor_core::name::Name::as_str))
        .bind(change.disabled)
        .bind(at)
        .bind(by)
        .execute(&mut *transaction)
        .await?;
        if changed.rows_affected() == 0 {
            return Err(StoreError::Missing { what: "person", name: person.to_owned() });
        }
        if change.disabled == Some(true) {
            end_tokens(&mut transaction, (person, None), at).await?;
        }
        transaction.commit().await?;
        Ok(())
    }

    /// Ends every token of a person but `except`. Gives how many.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn end_tokens(&self, person: &str, except: Option<&str>, at: DateTime<Utc>) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        let ended = end_tokens(&mut transaction, (person, except), at).await?;
        transaction.commit().await?;
        Ok(ended)
    }

    /// Takes a person's password and all their tokens away.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn reset_person(&self, person: &str, at: DateTime<Utc>) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let reset = sqlx::query("update person set password_hash = null where name = $1")
            .bind(person)
            .execute(&mut *transaction)
            .await?;
        if reset.rows_affected() == 0 {
            return Err(StoreError::Missing { what: "person", name: person.to_owned() });
        }
        end_tokens(&mut transaction, (person, None), at).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Keeps a token. Of one-time sign-ins the last one alone works.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn add_token(&self, text: &KeyText, token: &NewToken<'_>) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        if token.kind == TokenKind::OneTime {
            let earlier =
                "update person_token set ended_at = $2 where person = $1 and kind = 'one-time' and ended_at is null";
            sqlx::query(earlier).bind(token.person).bind(token.at).execute(&mut *transaction).await?;
        }
        let added = sqlx::query(
            "insert into person_token (id, hash, person, kind, label, issued_at, expires_at)
             select $1, $2, name, $4, $5, $6, $7 from person where name = $3",
        )
        .bind(&text.id)
        .bind(&text.hash.0[..])
        .bind(token.person)
        .bind(token.kind.as_str())
        .bind(token.label)
        .bind(token.at)
        .bind(token.expires_at)
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        match added.rows_affected() {
            0 => Err(StoreError::Missing { what: "person", name: token.person.to_owned() }),
            _ => Ok(()),
        }
    }

    /// Sessions and personal tokens of a person, newest first, ended ones too.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn tokens_of(&self, person: &str) -> Result<Vec<PersonToken>, StoreError> {
        let rows = sqlx::query_as(
            "select id, kind, label, issued_at, expires_at, ended_at from person_token
             where person = $1 and kind <> 'one-time' order by issued_at desc, id limit 200",
        )
        .bind(person)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows)
    }

    /// Ends a token of a person.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when they have none of that id.
    pub async fn end_token(&self, person: &str, id: &str, at: DateTime<Utc>) -> Result<(), StoreError> {
        let ended =
            sqlx::query("update person_token set ended_at = coalesce(ended_at, $3) where person = $1 and id = $2")
                .bind(person)
                .bind(id)
                .bind(at)
                .execute(&self.pool)
                .await?;
        match ended.rows_affected() {
            0 => Err(StoreError::Missing { what: "token", name: id.to_owned() }),
            _ => Ok(()),
        }
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

    /// Sets the hash of a person's password.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn set_password_hash(&self, person: &str, hash: &str) -> Result<(), StoreError> {
        let set = sqlx::query("update person set password_hash = $2 where name = $1")
            .bind(person)
            .bind(hash)
            .execute(&self.pool)
            .await?;
        match set.rows_affected() {
            0 => Err(StoreError::Missing { what: "person", name: person.to_owned() }),
            _ => Ok(()),
        }
    }
}

async fn end_tokens(
    transaction: &mut Transaction<'_, Postgres>,
    (person, except): (&str, Option<&str>),
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
