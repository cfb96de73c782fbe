//! People and what they present: a sign-in that works once, a session, a token for programs. All kept as hashes.

use chrono::{DateTime, Utc};
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
}

impl TryFrom<PersonRow> for Person {
    type Error = StoreError;
    fn try_from(row: PersonRow) -> Result<Self, StoreError> {
        let role = Role::parse(&row.role).ok_or_else(|| StoreError::unreadable("person.role", &row.role))?;
        let team = row.team.map(|team| name(&team, "person.team")).transpose()?;
        let standing = Standing { role, team };
        Ok(Self { name: row.name, standing, added_at: row.added_at, has_password: row.has_password })
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
        let rows: Vec<PersonRow> = sqlx::query_as(
            "select name, role, team, added_at, password_hash is not null as has_password from person order by name",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.into_iter().map(Person::try_from).collect()
    }

    /// Whose token this is, if it is in force at `now`. One-time sign-ins are no tokens.
    ///
    /// # Errors
    /// When the database is away.
    pub async fn person_of_token(&self, text: &KeyText, now: DateTime<Utc>) -> Result<Option<Person>, StoreError> {
        let row: Option<PersonRow> = sqlx::query_as(
            "select p.name, p.role, p.team, p.added_at, p.password_hash is not null as has_password
             from person_token t join person p on p.name = t.person
             where t.hash = $1 and t.kind <> 'one-time' and t.ended_at is null and (t.expires_at is null or t.expires_at > $2)",
        )
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
             returning person",
        )
        .bind(&text.hash.0[..])
        .bind(now)
        .fetch_optional(&self.pool)
        .await?;
        Ok(person)
    }

    /// Keeps a token.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn add_token(&self, text: &KeyText, token: &NewToken<'_>) -> Result<(), StoreError> {
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
        .execute(&self.pool)
        .await?;
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
        let row: Option<Option<String>> = sqlx::query_scalar("select password_hash from person where name = $1")
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
