//! What can go wrong with the records: the database is away, holds something that cannot be read, or a rule was broken.

use sqlx::postgres::PgConnectOptions;

/// What can go wrong with the database, told apart by what helps.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database cannot be reached, or broke off.
    #[error("the database is unreachable: {}", plainly(.0))]
    Away(#[source] sqlx::Error),
    /// The server is there and has no database of that name.
    #[error("the server has no database `{0}`: create it (`createdb {0}`), or correct WENDOR_DATABASE_URL")]
    NoDatabase(String),
    /// The server is there and does not let this role in.
    #[error("the server does not let role `{role}` in ({why}): correct role and password in WENDOR_DATABASE_URL")]
    NotLetIn {
        /// The one that the URL names.
        role: String,
        /// What the server says.
        why: String,
    },
    /// The schema is newer than this binary.
    #[error(
        "the database has schema {found}, this binary knows {known}: it was migrated by a newer Wendor; run that version or a later one"
    )]
    SchemaTooNew {
        /// Version in the database.
        found: i64,
        /// Newest version that this binary knows.
        known: i64,
    },
    /// The role of these connections may not change the schema, and it must be changed.
    #[error(
        "the database has schema {found}, this binary needs {known}, and the role of database_url may not change it: set WENDOR_MIGRATE_URL \
         to one that may"
    )]
    MayNotMigrate {
        /// Version in the database.
        found: i64,
        /// Newest version that this binary knows.
        known: i64,
    },
    /// A migration failed.
    #[error("a migration failed: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// A stored value cannot be read.
    #[error("{what} in the database cannot be read: {why}")]
    Unreadable {
        /// Which.
        what: &'static str,
        /// In the database's words.
        why: String,
    },
    /// Something of that name exists already.
    #[error("{what} `{name}` exists already")]
    Exists {
        /// What kind of thing.
        what: &'static str,
        /// The one that is taken.
        name: String,
    },
    /// Nothing of that name exists.
    #[error("there is no {what} `{name}`")]
    Missing {
        /// What kind of thing.
        what: &'static str,
        /// The one that was asked for.
        name: String,
    },
    /// No owner would be left.
    #[error("{0} is the only owner: make somebody else one first")]
    LastOwner(String),
    /// Someone else made a revision in between.
    #[error("revision {found} is in force, the change was made against {expected}: look at the difference again")]
    Overtaken {
        /// Against which it was made.
        expected: i64,
        /// Which is in force.
        found: i64,
    },
    /// A report has more groups than [`crate::usage::MOST_GROUPS`].
    #[error(
        "more than {} groups: ask for a shorter range or for one team, or export the lines",
        crate::usage::MOST_GROUPS
    )]
    TooManyGroups,
    /// The database refused a statement: a fault of Wendor's own.
    #[error("the database refused a statement: {}", plainly(.0))]
    Refused(#[source] sqlx::Error),
}

/// What the database or the system says, without places in their code.
fn plainly(error: &sqlx::Error) -> String {
    if let sqlx::Error::Database(error) = error {
        return error.message().to_owned();
    }
    if let sqlx::Error::Io(error) = error {
        return error.to_string();
    }
    if matches!(error, sqlx::Error::PoolTimedOut) {
        return "it does not answer in time".to_owned();
    }
    error.to_string()
}

impl StoreError {
    /// Of a connection that did not come about with these options: a database or a role that is not there is named.
    pub(crate) fn of_connecting(error: sqlx::Error, options: &PgConnectOptions) -> Self {
        if let sqlx::Error::Io(broken) = &error {
            let place = format!("{}:{}", options.get_host(), options.get_port());
            let says = format!("{broken} at {place}; start PostgreSQL there, or correct WENDOR_DATABASE_URL");
            return Self::Away(sqlx::Error::Io(std::io::Error::new(broken.kind(), says)));
        }
        let code = error.as_database_error().and_then(|error| error.code()).map(|code| code.into_owned());
        // PostgreSQL manual, appendix A: 3D000 no such database, class 28 not let in.
        match code.as_deref() {
            Some("3D000") => Self::NoDatabase(options.get_database().unwrap_or(options.get_username()).to_owned()),
            Some(code) if code.starts_with("28") => {
                Self::NotLetIn { role: options.get_username().to_owned(), why: plainly(&error) }
            }
            Some(_) | None => error.into(),
        }
    }

    /// What the database or the system says of it, where one of both does; otherwise all of it.
    #[must_use]
    pub fn reason(&self) -> String {
        match self {
            Self::Away(error) | Self::Refused(error) => plainly(error),
            Self::NoDatabase(_)
            | Self::NotLetIn { .. }
            | Self::SchemaTooNew { .. }
            | Self::MayNotMigrate { .. }
            | Self::Migration(_)
            | Self::Unreadable { .. }
            | Self::Exists { .. }
            | Self::Missing { .. }
            | Self::LastOwner(_)
            | Self::Overtaken { .. }
            | Self::TooManyGroups => self.to_string(),
        }
    }

    /// Whether trying again later may help.
    #[must_use]
    pub fn is_away(&self) -> bool {
        matches!(self, Self::Away(_))
    }

    /// Whether the fault is in the values of the statement, so that it would be refused at any time: SQLSTATE classes 22, data
    /// exceptions, and 23, violated constraints (PostgreSQL manual, appendix A). Everything else passes, or somebody mends it: a
    /// database that is read-only, missing, full, deadlocked, or does not let us in.
    #[must_use]
    pub fn is_about_values(&self) -> bool {
        let Self::Refused(error) = self else { return false };
        let code = error.as_database_error().and_then(|error| error.code());
        code.is_some_and(|code| code.starts_with("22") || code.starts_with("23"))
    }

    pub(crate) fn unreadable(what: &'static str, why: impl std::fmt::Display) -> Self {
        Self::Unreadable { what, why: why.to_string() }
    }
}

impl From<sqlx::Error> for StoreError {
    fn from(error: sqlx::Error) -> Self {
        // Class 57 is the server shutting down or starting, 53 its lack of resources (PostgreSQL manual, appendix A).
        let is_going_away = error
            .as_database_error()
            .and_then(|error| error.code())
            .is_some_and(|code| code.starts_with("57P") || code.starts_with("53"));
        let is_connection = matches!(
            error,
            sqlx::Error::Io(_)
                | sqlx::Error::PoolTimedOut
                | sqlx::Error::PoolClosed
                | sqlx::Error::Tls(_)
                | sqlx::Error::Protocol(_)
        );
        if is_going_away || is_connection { Self::Away(error) } else { Self::Refused(error) }
    }
}
