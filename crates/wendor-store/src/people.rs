//! People and what they present: a sign-in that works once, a session, a token for programs. All kept as hashes.

use chrono::{DateTime, SubsecRound, Utc};
use serde_json::json;
use sqlx::{Postgres, Transaction};
use wendor_core::audit::{Action, Deed, Doer};
use wendor_core::catalog::key::KeyText;
use wendor_core::catalog::role::{Role, Standing};

use crate::audit::{Tell, commit};
use crate::codes::forget_codes;
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
    /// Since when codes of an authenticator app are asked of them.
    pub codes_since: Option<DateTime<Utc>>,
    /// Recovery codes that they have left.
    pub recovery_codes: i64,
}

/// A person with what is known of the token that they came with.
#[derive(Clone, Debug)]
pub struct Bearer {
    /// The person.
    pub person: Person,
    /// When they last signed in as themselves with it.
    pub confirmed_at: Option<DateTime<Utc>>,
    /// Whether nobody can be asked to, since programs use it.
    pub is_unasked: bool,
    /// Whether their role has to have codes, and they have none.
    pub lacks_codes: bool,
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
    /// Whether programs may do with it what people have to sign in again for.
    pub is_unasked: bool,
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
        commit(transaction, Tell::Nobody, (doer, &deed)).await
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
            end_tokens(&mut transaction, (person, None), doer.at).await?;
        }
        let was_disabled = before.disabled_at.is_some();
        let after = told(change.standing.unwrap_or(&before.standing), change.disabled.unwrap_or(was_disabled));
        let deed =
            Deed::of(Action::PersonChanged, subject(person)).before(told(&before.standing, was_disabled)).after(after);
        commit(transaction, Tell::Nobody, (doer, &deed)).await
    }

    /// Ends every token of a person. Gives how many.
    ///
    /// # Errors
    /// [`StoreError::Missing`] when there is no such person.
    pub async fn end_tokens(&self, person: &str, doer: &Doer) -> Result<u64, StoreError> {
        let mut transaction = self.pool.begin().await?;
        read_person(&mut transaction, person).await?;
        let ended = end_tokens(&mut transaction, (person, None), doer.at).await?;
        let deed = Deed::of(Action::PersonSignedOut, subject(person)).after(json!({ "ended": ended }));
        commit(transaction, Tell::Nobody, (doer, &deed)).await?;
        Ok(ended)
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
        let ended = end_tokens(&mut transaction, (person, None), doer.at).await?;
        let deed = Deed::of(Action::PersonReset, subject(person))
            .before(json!({ "password": before.has_password, "codes": had_codes }))
            .after(json!({ "password": false, "codes": false, "ended": ended }));
        commit(transaction, Tell::Nobody, (doer, &deed)).await
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
        .bind(&text.id)
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
        commit(transaction, Tell::Nobody, (doer, &deed)).await
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
        let found: Option<(String, String, Option<DateTime<Utc>>)> =
            sqlx::query_as("select kind, label, ended_at from person_token where person = $1 and id = $2 for update")
                .bind(person)
                .bind(id)
                .fetch_optional(&mut *transaction)
                .await?;
        let missing = || StoreError::Missing { what: "token", name: id.to_owned() };
        let (kind, label, ended_at) = found.ok_or_else(missing)?;
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
        commit(transaction, Tell::Nobody, (doer, &deed)).await
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
        (hash, except): (&str, &str),
        doer: &Doer,
    ) -> Result<(), StoreError> {
        let mut transaction = self.pool.begin().await?;
        let before = read_person(&mut transaction, person).await?;
        sqlx::query("update person set password_hash = $2 where name = $1")
            .bind(person)
            .bind(hash)
            .execute(&mut *transaction)
            .await?;
        let ended = end_tokens(&mut transaction, (person, Some(except)), doer.at).await?;
        let deed = Deed::of(Action::PasswordSet, subject(person))
            .before(json!({ "password": before.has_password }))
            .after(json!({ "password": "changed", "ended": ended }));
        commit(transaction, Tell::Nobody, (doer, &deed)).await
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
async fn read_person(transaction: &mut Transaction<'_, Postgres>, person: &str) -> Result<Person, StoreError> {
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
