//! What can go wrong with the records: the database is away, holds something that cannot be read, or a rule was broken.

/// An error of the store.
#[derive(Debug, thiserror::Error)]
pub enum StoreError {
    /// The database cannot be reached, or broke off.
    #[error("the database cannot be reached: {0}")]
    Away(#[source] sqlx::Error),
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
    /// The role of these connections may not change the schema, and it has to be changed.
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
        /// Why.
        why: String,
    },
    /// Something of that name exists already.
    #[error("{what} `{name}` exists already")]
    Exists {
        /// What kind of thing.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// Nothing of that name exists.
    #[error("there is no {what} `{name}`")]
    Missing {
        /// What kind of thing.
        what: &'static str,
        /// Its name.
        name: String,
    },
    /// Nobody would be left who may do everything.
    #[error("{0} is the only owner: make somebody else one first")]
    LastOwner(String),
    /// Someone else made a revision in between.
    #[error(
        "revision {found} is in force by now, the change was made against {expected}: look at the difference again"
    )]
    Overtaken {
        /// Against which it was made.
        expected: i64,
        /// Which is in force.
        found: i64,
    },
    /// The database refused a statement: a fault of Wendor's own.
    #[error("the database refused a statement: {0}")]
    Refused(#[source] sqlx::Error),
}

impl StoreError {
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
