//! A ledger that takes nothing for a while: what is settled waits in the spool, and comes all at once then.

use sqlx::{Connection, PgConnection};

/// A ledger that is held.
pub struct HeldLedger(PgConnection);

impl HeldLedger {
    /// Holds it; the database has it for whoever owns it.
    ///
    /// # Panics
    /// When the database does not let it be held.
    pub async fn of(url: &str) -> Self {
        let mut connection = PgConnection::connect(url).await.expect("the database is there");
        let held = sqlx::raw_sql("begin; lock table ledger in exclusive mode").execute(&mut connection).await;
        held.expect("it can be held");
        Self(connection)
    }

    /// Lets it go.
    ///
    /// # Panics
    /// When the database is away.
    pub async fn let_go(mut self) {
        sqlx::raw_sql("commit").execute(&mut self.0).await.expect("it was held");
    }
}
