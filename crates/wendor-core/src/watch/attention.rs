//! What needs attention: each finding with its subject, what is the matter, why it is said, and where to go.
//!
//! States enter, sentences leave, as a colleague would say them at the desk. The worst stands first.

use chrono::{DateTime, TimeDelta, Utc};

use super::nearing::{Expires, NearLimit};
use super::reached::{self, Reached};
use crate::catalog::weights::OtherWeights;
use crate::diagnosis::inventory::{Matter, Warning};
use crate::words::{self, grouped, length, seconds};

/// An upstream has slowed when it waits this many times as long as usual ...
const SLOWED_TIMES: u64 = 3;

/// ... and this much longer: three times next to nothing is still next to nothing.
const SLOWED_BY_MS: u64 = 400;

/// Entries in the spool from which it is worth a look while the database answers: some seconds of heavy traffic.
const SPOOL_GROWN: u64 = 5_000;

/// Where the cause of a finding stands.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Place {
    /// The upstream of that name.
    Upstream(String),
    /// The team of that name, with its quotas.
    Team(String),
    /// What was refused of late.
    Refusals,
    /// The revisions.
    Revisions,
    /// The service's own state.
    Service,
}

/// Over how long requests are counted that trouble reaches, in minutes.
pub const OF_LATE_MINUTES: usize = 5;

/// An upstream, or one of its offers, that fails.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Failing {
    /// Which.
    pub upstream: String,
    /// Which of its offers; `None` where no connection to it comes about.
    pub model: Option<String>,
    /// Start of the failures in a row.
    pub since: Option<DateTime<Utc>>,
    /// When the next request may try it.
    pub next_trial: Option<DateTime<Utc>>,
    /// What its last attempt failed of.
    pub last: String,
    /// Routes and teams whose requests meet it.
    pub reached: Vec<Reached>,
}

/// Something that somebody should look at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Finding {
    /// An upstream, or one of its offers, fails.
    Failing(Failing),
    /// An upstream cannot be asked for want of its credential.
    NoCredential {
        /// Which.
        upstream: String,
        /// What is missing.
        why: String,
    },
    /// An upstream waits longer for a first token than it used to.
    Slowed {
        /// Which.
        upstream: String,
        /// Of late.
        wait_ms: u64,
        /// As a rule.
        usual_ms: u64,
    },
    /// A quota is near its limit, at it, or will be.
    NearLimit(NearLimit),
    /// A team was refused since a quota was exceeded.
    OverQuota {
        /// Which.
        team: String,
        /// How often in the last hour.
        count: u64,
    },
    /// A name was asked for that is no route.
    NoRoute {
        /// The name.
        wanted: String,
        /// How often in the last hour.
        count: u64,
        /// By whom.
        teams: Vec<String>,
        /// The nearest route.
        nearest: Option<String>,
    },
    /// A key expires soon.
    Expires(Expires),
    /// A revision undid itself.
    Undone {
        /// Which.
        revision: i64,
        /// The revision that is in force instead.
        by: i64,
        /// Why: goes on after "since".
        why: String,
        /// When.
        at: DateTime<Utc>,
    },
    /// Requests failed by a fault of Wendor's own.
    Faults {
        /// How many in the last hour.
        count: u64,
    },
    /// What an upstream serves is not what an offer promises.
    Weights(Warning),
    /// Entries are not in the ledger, and will not come into it by themselves.
    SetAside {
        /// How many.
        count: u64,
    },
    /// The spool holds more than it should.
    SpoolGrows {
        /// Entries.
        pending: u64,
        /// Whether the database answers.
        is_reachable: bool,
        /// Whether the disk takes more.
        is_writable: bool,
    },
}

/// A finding in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Notice {
    /// The state in a word.
    pub state: &'static str,
    /// What it is about.
    pub subject: String,
    /// What is the matter: goes on after the subject.
    pub says: String,
    /// What else is known of it.
    pub why: String,
    /// What to do, as a verb.
    pub verb: &'static str,
    /// Where.
    pub leads_to: Place,
}

/// Whether an upstream has slowed.
#[must_use]
pub fn has_slowed(wait_ms: u64, usual_ms: u64) -> bool {
    wait_ms >= usual_ms.saturating_mul(SLOWED_TIMES) && wait_ms >= usual_ms.saturating_add(SLOWED_BY_MS)
}

/// Whether the spool is worth a look.
#[must_use]
pub fn has_grown(pending: u64, is_reachable: bool, is_writable: bool) -> bool {
    pending >= SPOOL_GROWN || !is_reachable || !is_writable
}

impl Finding {
    /// The worse it is, the smaller.
    fn order(&self) -> u8 {
        match self {
            Self::SpoolGrows { is_writable: false, .. } => 0,
            Self::Failing(_) => 1,
            Self::SetAside { .. } => 2,
            Self::Faults { .. } | Self::Undone { .. } => 2,
            Self::NoCredential { .. } => 2,
            Self::SpoolGrows { .. } => 3,
            Self::Weights(_) => 4,
            Self::Slowed { .. } => 4,
            Self::NearLimit(near) if near.used >= near.limit => 5,
            Self::OverQuota { .. } => 6,
            Self::NearLimit(_) => 7,
            Self::Expires(_) => 8,
            Self::NoRoute { .. } => 9,
        }
    }

    fn notice(&self, now: DateTime<Utc>, currency: &str) -> Notice {
        match self {
            Self::Failing(failing) => failing.notice(now),
            Self::NoCredential { upstream, why } => {
                let remedy = format!("{}. Set it where the service runs, and start it again.", words::capital(why));
                upstream_notice("failing", upstream, "cannot be used: it has no credential".to_owned(), remedy)
            }
            Self::Slowed { upstream, wait_ms, usual_ms } => {
                let says = format!("waits {} for a first token, usually {}", seconds(*wait_ms), seconds(*usual_ms));
                let why = "By its last requests; usual is the median of the last seven days.".to_owned();
                upstream_notice("degraded", upstream, says, why)
            }
            Self::NearLimit(near) => near.notice(now, currency),
            Self::Undone { revision, by, why, at } => undone(*revision, *by, why, now - *at),
            Self::OverQuota { team, count } => Notice {
                state: "over limit",
                subject: team.clone(),
                says: format!("was refused {} in the last hour: quota exceeded", words::times(*count)),
                why: "What is refused costs nothing and is not in the ledger.".to_owned(),
                verb: "See the refusals",
                leads_to: Place::Refusals,
            },
            Self::NoRoute { wanted, count, teams, nearest } => {
                let by = if teams.is_empty() { String::new() } else { format!("By {}. ", teams.join(", ")) };
                let near = nearest.as_ref().map_or_else(String::new, |near| format!("Nearest: {near}."));
                Notice {
                    state: "refused",
                    subject: wanted.clone(),
                    says: format!(
                        "was requested {} in the last hour and is not a route of the teams that asked",
                        words::times(*count)
                    ),
                    why: format!("{by}{near}").trim_end().to_owned(),
                    verb: "See the refusals",
                    leads_to: Place::Refusals,
                }
            }
            Self::Expires(expires) => expires.notice(now),
            Self::Faults { count } => faults_notice(*count),
            Self::Weights(warning) => weights_notice(warning),
            Self::SetAside { count } => aside_notice(*count),
            Self::SpoolGrows { pending, is_reachable, is_writable } => {
                spool_notice(*pending, *is_reachable, *is_writable)
            }
        }
    }
}

impl Failing {
    fn notice(&self, now: DateTime<Utc>) -> Notice {
        let mut why = Vec::new();
        why.extend(self.since.map(|at| format!("Since {}.", since_words(at, now))));
        why.extend(self.next_trial.map(|at| {
            if at > now {
                format!("The next trial is at {}.", at.format("%H:%M:%S"))
            } else {
                "The next request tries it.".to_owned()
            }
        }));
        why.extend(self.reached.iter().map(|reached| reached::sentence(reached, OF_LATE_MINUTES)));
        if self.reached.is_empty() {
            why.push("No route leads to it.".to_owned());
        }
        let model = self.model.as_ref();
        Notice {
            state: "failing",
            subject: model.map_or_else(|| self.upstream.clone(), |model| format!("{}/{model}", self.upstream)),
            says: format!("fails: {}", self.last),
            why: why.join(" "),
            verb: "See why",
            leads_to: Place::Upstream(self.upstream.clone()),
        }
    }
}

fn upstream_notice(state: &'static str, upstream: &str, says: String, why: String) -> Notice {
    let leads_to = Place::Upstream(upstream.to_owned());
    Notice { state, subject: upstream.to_owned(), says, why, verb: "See why", leads_to }
}

fn weights_notice(warning: &Warning) -> Notice {
    let model = warning.offer.model();
    let (state, says) = match &warning.matter {
        Matter::Gone => ("failing", format!("does not serve {model} any more")),
        Matter::Pinned { pinned, found, otherwise } => {
            let then = match otherwise {
                OtherWeights::Stop => "no request goes there",
                OtherWeights::Warn => "requests go on",
            };
            (
                "degraded",
                format!("serves {model} with the weights {found}, and the offer is pinned to {pinned}: {then}"),
            )
        }
        Matter::TwoWeights { here, other, there } => {
            ("degraded", format!("serves {model} with the weights {here}, and {} with {there}", other.upstream()))
        }
    };
    let teams =
        if warning.teams.is_empty() { String::new() } else { format!(", used by {}", warning.teams.join(", ")) };
    let why = format!("It concerns {}{teams}.", warning.routes.join(", "));
    upstream_notice(state, warning.offer.upstream().as_str(), says, why)
}

fn aside_notice(count: u64) -> Notice {
    let what = if count == 1 { "1 entry or part".to_owned() } else { format!("{} entries or parts", grouped(count)) };
    Notice {
        state: "failing",
        subject: "the ledger".to_owned(),
        says: format!("lacks {what} of the spool that the database refuses or that cannot be read"),
        why: "They are set aside and kept. `wendor spool show` names them with the reasons, `wendor spool retry` tries again.".to_owned(),
        verb: "See the service",
        leads_to: Place::Service,
    }
}

fn faults_notice(count: u64) -> Notice {
    let what = if count == 1 { "1 request".to_owned() } else { format!("{} requests", grouped(count)) };
    Notice {
        state: "failing",
        subject: "Wendor".to_owned(),
        says: format!("failed on {what} with an internal error in the last hour"),
        why: "The log names the place in the code of each; please report it. Other requests are not concerned."
            .to_owned(),
        verb: "See the refusals",
        leads_to: Place::Refusals,
    }
}

fn spool_notice(pending: u64, is_reachable: bool, is_writable: bool) -> Notice {
    let says = match (is_writable, pending) {
        (false, _) => "cannot be written: requests are refused".to_owned(),
        (true, 0) => "is empty, but the database does not answer".to_owned(),
        (true, 1) => "holds 1 entry that the database does not have".to_owned(),
        (true, _) => format!("holds {} entries that the database does not have", grouped(pending)),
    };
    let why = match (is_writable, is_reachable) {
        (false, _) => "The disk of the spool is full or not writable. Make room on it; requests resume by themselves.",
        (true, false) => "The database does not answer. Known keys are served and recorded all the same.",
        (true, true) => "The database answers; it is behind.",
    };
    Notice {
        state: if is_writable { "degraded" } else { "failing" },
        subject: "the spool".to_owned(),
        says,
        why: why.to_owned(),
        verb: "See the service",
        leads_to: Place::Service,
    }
}

/// A revision that undid itself so long ago.
fn undone(revision: i64, by: i64, why: &str, ago: TimeDelta) -> Notice {
    Notice {
        state: "failing",
        subject: format!("revision {revision}"),
        says: format!("undid itself {}: {why}", words::ago(ago)),
        why: format!("What was in force before it is in force again, as revision {by}."),
        verb: "See what it changed",
        leads_to: Place::Revisions,
    }
}

/// A finding in words.
#[must_use]
pub fn notice_of(finding: &Finding, now: DateTime<Utc>, currency: &str) -> Notice {
    finding.notice(now, currency)
}

/// Findings in words, the worst first, then by subject.
#[must_use]
pub fn notices(mut findings: Vec<Finding>, now: DateTime<Utc>, currency: &str) -> Vec<Notice> {
    findings.sort_by_key(Finding::order);
    findings.iter().map(|finding| finding.notice(now, currency)).collect()
}

/// The time of day, or the day too when it was not today; and how long ago.
fn since_words(at: DateTime<Utc>, now: DateTime<Utc>) -> String {
    let format = if at.date_naive() == now.date_naive() { "%H:%M" } else { "%-d %B, %H:%M" };
    format!("{}, {}", at.format(format), length(now - at))
}

#[cfg(test)]
mod tests;
