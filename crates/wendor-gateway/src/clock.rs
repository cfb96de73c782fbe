//! What time it is, as something that is passed in: the service takes the system's, a test may take its own.

use std::sync::Arc;

use chrono::{DateTime, SubsecRound, Utc};

/// Gives the time; tests give another.
#[derive(Clone)]
pub struct Clock(Arc<dyn Fn() -> DateTime<Utc> + Send + Sync>);

impl Clock {
    /// The system's clock.
    #[must_use]
    pub fn system() -> Self {
        Self(Arc::new(|| DateTime::from(std::time::SystemTime::now())))
    }

    /// A clock that `tell` tells.
    #[must_use]
    pub fn told_by(tell: impl Fn() -> DateTime<Utc> + Send + Sync + 'static) -> Self {
        Self(Arc::new(tell))
    }

    /// The time, in whole microseconds: the database keeps no finer one, and what was written has to equal what is read.
    #[must_use]
    pub fn now(&self) -> DateTime<Utc> {
        (self.0)().trunc_subsecs(6)
    }
}

impl std::fmt::Debug for Clock {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Clock({})", self.now())
    }
}
