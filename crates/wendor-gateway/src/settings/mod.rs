//! The service's own settings: flags, then environment, then a TOML file, then defaults; the same name in each.
//!
//! Texts from these layers enter; checked [`Settings`] leave, with where each value came from, or every error at once.
//! What the gateway serves (upstreams, routes, teams) is not here: it lives in revisions.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use chrono::{DateTime, TimeDelta, Utc};
use listening::{CertificateFiles, Listening, Named, certificates, url};
use timing::Timing;
use values::{
    address, allowed, connections, database, file, level, optional, secret, size, size_or_zero, sync, threads, time,
    tokens,
};
use wendor_core::caller::Ranges;
use wendor_core::catalog::reach::Reach;
use wendor_store::partitions::Partitioned;
use wendor_wire::worded;

use crate::spool::Options;

pub use known::{KNOWN, Known};
pub use values::Keep;

mod known;
pub mod listening;
pub mod timing;
mod values;

worded! {
    /// Where a value came from.
    #[derive(Clone, Copy, Debug, PartialEq, Eq)]
    pub enum Source {
        /// A flag of the command line.
        Flag = "flag",
        /// A variable, `WENDOR_` and the setting's name.
        Environment = "environment",
        /// The settings file.
        File = "file",
        /// Nobody set it.
        Default = "default",
    }
}

/// The layers as text, before they are checked.
#[derive(Clone, Debug, Default)]
pub struct Layers {
    /// Flags by name.
    pub flags: BTreeMap<String, String>,
    /// Environment by name of the setting.
    pub environment: BTreeMap<String, String>,
    /// The settings file by name.
    pub file: BTreeMap<String, String>,
}

/// A value with its source, safe to be shown.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ShownSetting {
    /// The setting.
    pub name: &'static str,
    /// Its value, without a password.
    pub value: String,
    /// Where it came from.
    pub source: Source,
}

/// What is let in, and how.
#[derive(Clone, Debug)]
pub struct Access {
    /// The database as a role that may change its schema, where the one that serves may not.
    pub migrate_url: Option<wendor_core::secret::Secret>,
    /// Whether the way to the database may be unencrypted.
    pub plain_database: bool,
    /// Whether apps may send their key in the query.
    pub key_in_query: bool,
    /// How long tokens for programs may last.
    pub token_life: Duration,
}

/// How request bodies may come.
#[derive(Clone, Copy, Debug)]
pub struct Bodies {
    /// The largest, in bytes.
    pub largest: usize,
    /// All of those under way together, in bytes.
    pub together: usize,
    /// Bytes a second that one has to come with; 0 for any.
    pub rate: usize,
}

/// Checked settings.
#[derive(Clone, Debug)]
pub struct Settings {
    /// Where to listen, and how the service is reached.
    pub listening: Listening,
    /// URL of PostgreSQL; a secret, since it may hold a password.
    pub database_url: wendor_core::secret::Secret,
    /// What is let in, and how.
    pub access: Access,
    /// The spool's folder.
    pub spool: PathBuf,
    /// How it is kept.
    pub spool_options: Options,
    /// How long an instance must be gone until its spool is drained by another.
    pub spool_adopt_after: Duration,
    /// How long lines of the ledger are kept.
    pub keep_ledger: Keep,
    /// How long details are kept.
    pub keep_details: Keep,
    /// How long hourly sums are kept.
    pub keep_rollups: Keep,
    /// Threads that serve requests.
    pub workers: usize,
    /// Connections that may be open at once.
    pub connections: usize,
    /// How long things may take.
    pub timing: Timing,
    /// Request bodies.
    pub bodies: Bodies,
    /// What kept credentials are encrypted with; none can be kept without it.
    pub secret: Option<wendor_core::secret::Secret>,
    /// What they were encrypted with before, while they are kept anew.
    pub secret_before: Option<wendor_core::secret::Secret>,
    /// The folder of files that hold credentials.
    pub credentials: Option<PathBuf>,
    /// Further authorities.
    pub authorities: Option<PathBuf>,
    /// Names before the system's.
    pub hosts: Option<PathBuf>,
    /// Addresses that upstreams may be at, of those that are refused otherwise.
    pub reach: Reach,
    /// Tokens that checks may take a day.
    pub check_tokens: u64,
    /// How often it is looked what upstreams serve.
    pub inventory_every: Duration,
    /// What is logged.
    pub log: String,
    /// Every value with its source.
    pub told: Vec<ShownSetting>,
}

/// The name of the setting that says how long `table` is kept.
#[must_use]
pub fn setting_of(table: Partitioned) -> &'static str {
    match table {
        Partitioned::Ledger => "keep_ledger",
        Partitioned::Details => "keep_details",
        Partitioned::RollUps => "keep_rollups",
    }
}

impl Settings {
    /// How long `table` is kept.
    #[must_use]
    pub fn keeps(&self, table: Partitioned) -> Keep {
        match table {
            Partitioned::Ledger => self.keep_ledger,
            Partitioned::Details => self.keep_details,
            Partitioned::RollUps => self.keep_rollups,
        }
    }

    /// Since when what `table` has is kept at that instant; `None` where it is all kept.
    #[must_use]
    pub fn kept_since(&self, table: Partitioned, now: DateTime<Utc>) -> Option<DateTime<Utc>> {
        match self.keeps(table) {
            Keep::Forever => None,
            Keep::For(time) => now.checked_sub_signed(TimeDelta::from_std(time).ok()?),
        }
    }
}

/// What is wrong with a setting.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{name} ({source_word}): {message}")]
pub struct BadSetting {
    name: String,
    source_word: &'static str,
    message: String,
}

impl Layers {
    /// Reads the settings file's text into its layer.
    ///
    /// # Errors
    /// When it is not TOML, or holds something else than texts and numbers.
    pub fn read_file(&mut self, text: &str) -> Result<(), BadSetting> {
        let bad = |name: &str, message: String| BadSetting { name: name.to_owned(), source_word: "file", message };
        let table: toml::Table = text.parse().map_err(|error| bad("settings file", format!("{error}")))?;
        for (name, value) in table {
            let text = if let toml::Value::String(text) = value {
                text
            } else if let toml::Value::Integer(number) = value {
                number.to_string()
            } else {
                return Err(bad(&name, format!("must be a text or a whole number, not {}", value.type_str())));
            };
            self.file.insert(name, text);
        }
        Ok(())
    }

    /// Checks the layers.
    ///
    /// # Errors
    /// Every bad setting at once.
    pub fn check(&self) -> Result<Settings, Vec<BadSetting>> {
        let mut check = Check { layers: self, told: Vec::new(), problems: self.unknown() };
        let listening = check.listening();
        let database_url = check.value("database_url", database);
        let access = check.access();
        let spool = check.value("spool", |text| Ok(PathBuf::from(text)));
        let spool_options = check.spool_options();
        let [keep_ledger, keep_details, keep_rollups] =
            ["keep_ledger", "keep_details", "keep_rollups"].map(|name| check.value(name, Keep::parse));
        let [spool_adopt_after, inventory_every] =
            ["spool_adopt_after", "inventory_every"].map(|name| check.value(name, time));
        let timing = check.timing();
        let bodies = check.bodies();
        let workers = check.value("workers", threads);
        let connections = check.value("connections", connections);
        let log = check.value("log", level);
        let [secret, secret_before] = ["secret", "secret_before"].map(|name| check.value(name, secret));
        let [authorities, hosts, credentials] =
            ["authorities", "hosts", "credentials"].map(|name| check.value(name, |text| Ok(file(text))));
        let reach = check.value("reach", Reach::parse);
        let check_tokens = check.value("check_tokens", tokens);
        let (told, problems) = check.ended();
        let settings = || {
            Some(Settings {
                listening: listening?,
                database_url: database_url?,
                access: access?,
                spool: spool?,
                spool_options: spool_options?,
                spool_adopt_after: spool_adopt_after?,
                keep_ledger: keep_ledger?,
                keep_details: keep_details?,
                keep_rollups: keep_rollups?,
                workers: workers?,
                connections: connections?,
                timing: timing?,
                bodies: bodies?,
                secret: secret?,
                secret_before: secret_before?,
                credentials: credentials?,
                authorities: authorities?,
                hosts: hosts?,
                reach: reach?,
                check_tokens: check_tokens?,
                inventory_every: inventory_every?,
                log: log?,
                told,
            })
        };
        if problems.is_empty() { settings().ok_or(problems) } else { Err(problems) }
    }

    fn unknown(&self) -> Vec<BadSetting> {
        let is_unknown = |name: &&String| KNOWN.iter().all(|known| known.name != name.as_str());
        let names = KNOWN.iter().map(|known| known.name);
        let as_problem = |name: &String| {
            let remedy = wendor_wire::nearest::nearest(name, names.clone()).map_or_else(
                || "`wendor serve --help` lists them".to_owned(),
                |near| format!("did you mean `{near}`?"),
            );
            BadSetting { name: name.clone(), source_word: "file", message: format!("unknown setting; {remedy}") }
        };
        self.file.keys().filter(is_unknown).map(as_problem).collect()
    }
}

struct Check<'a> {
    layers: &'a Layers,
    told: Vec<ShownSetting>,
    problems: Vec<BadSetting>,
}

impl Check<'_> {
    /// What was found, in the order in which settings are told.
    fn ended(mut self) -> (Vec<ShownSetting>, Vec<BadSetting>) {
        self.told.sort_by_key(|told| KNOWN.iter().position(|known| known.name == told.name));
        (self.told, self.problems)
    }

    fn listening(&mut self) -> Option<Listening> {
        let listen = self.value("listen", address);
        let manage_listen = self.value("manage_listen", |text| optional(text, address));
        let [certificate, key, manage_certificate, manage_key] =
            ["certificate", "certificate_key", "manage_certificate", "manage_certificate_key"]
                .map(|name| self.value(name, |text| Ok(file(text))).flatten());
        let apps =
            self.pair(Named { name: "certificate", value: certificate }, Named { name: "certificate_key", value: key });
        let manage = self.pair(
            Named { name: "manage_certificate", value: manage_certificate },
            Named { name: "manage_certificate_key", value: manage_key },
        );
        let [public_url, manage_url] =
            ["public_url", "manage_url"].map(|name| self.value(name, |text| optional(text, url)));
        let proxies = self.value("trusted_proxies", Ranges::parse);
        let (certificate, manage_certificate) = (apps?, manage?);
        let (listen, manage_listen) = (listen?, manage_listen?);
        let (public_url, manage_url, proxies) = (public_url?, manage_url?, proxies?);
        Some(Listening { listen, manage_listen, certificate, manage_certificate, public_url, manage_url, proxies })
    }

    /// A certificate and its key, of which neither comes alone.
    fn pair(&mut self, certificate: Named<PathBuf>, key: Named<PathBuf>) -> Option<Option<CertificateFiles>> {
        certificates(certificate, key)
            .map_err(|(name, message)| {
                self.problems.push(BadSetting { name: name.to_owned(), source_word: "settings", message });
            })
            .ok()
    }

    fn bodies(&mut self) -> Option<Bodies> {
        let [largest, together] = ["body_limit", "bodies_limit"].map(|name| self.value(name, size));
        let rate = self.value("body_rate", size_or_zero);
        Some(Bodies { largest: largest?, together: together?, rate: rate? })
    }

    fn access(&mut self) -> Option<Access> {
        let [plain_database, key_in_query] = ["database_plain", "key_in_query"].map(|name| self.value(name, allowed));
        let token_life = self.value("token_life", time);
        let migrate_url = self.value("migrate_url", |text| optional(text, database));
        Some(Access {
            migrate_url: migrate_url?,
            plain_database: plain_database?,
            key_in_query: key_in_query?,
            token_life: token_life?,
        })
    }

    fn spool_options(&mut self) -> Option<Options> {
        let sync = self.value("spool_sync", sync);
        let bytes = |size: usize| u64::try_from(size).unwrap_or(u64::MAX);
        let segment_bytes = self.value("spool_segment", |text| size(text).map(bytes));
        let keep_free_bytes = self.value("spool_keep_free", |text| size_or_zero(text).map(bytes));
        Some(Options { sync: sync?, segment_bytes: segment_bytes?, keep_free_bytes: keep_free_bytes? })
    }

    fn value<T>(&mut self, name: &'static str, parse: impl FnOnce(&str) -> Result<T, String>) -> Option<T> {
        let layers = [
            (Source::Flag, &self.layers.flags),
            (Source::Environment, &self.layers.environment),
            (Source::File, &self.layers.file),
        ];
        let set = layers.into_iter().find_map(|(source, layer)| layer.get(name).map(|text| (source, text.as_str())));
        let default = KNOWN.iter().find(|known| known.name == name).map_or("", |known| known.default);
        let (source, text) = set.unwrap_or((Source::Default, default));
        self.told.push(ShownSetting { name, value: shown(name, text), source });
        match parse(text) {
            Ok(value) => Some(value),
            Err(message) => {
                let message = match text {
                    "" => format!("is not set: {message} in the variable WENDOR_{}", name.to_ascii_uppercase()),
                    text => format!("`{}` is invalid: {message}", shown(name, text)),
                };
                self.problems.push(BadSetting { name: name.to_owned(), source_word: source.as_str(), message });
                None
            }
        }
    }
}

/// A value as it may be shown.
fn shown(name: &str, text: &str) -> String {
    match (name, text) {
        ("secret" | "secret_before", "") => "not set".to_owned(),
        ("secret" | "secret_before", _) => "set".to_owned(),
        (_, text) => without_password(text),
    }
}

fn without_password(text: &str) -> String {
    let Some((scheme, rest)) = text.split_once("://") else { return text.to_owned() };
    match rest.rsplit_once('@') {
        Some((user, host)) => {
            let user = user.split(':').next().unwrap_or_default();
            format!("{scheme}://{user}@{host}")
        }
        None => text.to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn layer(pairs: &[(&str, &str)]) -> BTreeMap<String, String> {
        pairs.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect()
    }

    #[test]
    fn a_flag_goes_before_the_environment_before_the_file_before_the_default() {
        let mut layers = Layers {
            flags: layer(&[("listen", "127.0.0.1:1")]),
            environment: layer(&[
                ("listen", "127.0.0.1:2"),
                ("grace", "2s"),
                ("database_url", "postgres://me:s3cret@db/wendor"),
            ]),
            file: BTreeMap::new(),
        };
        layers.read_file("listen = '127.0.0.1:3'\ngrace = '3s'\nbody_limit = '3 KiB'").unwrap();
        let settings = layers.check().unwrap();
        assert_eq!(settings.listening.listen.port(), 1);
        assert_eq!(
            (settings.timing.grace, settings.bodies.largest, settings.workers),
            (Duration::from_secs(2), 3_072, 2)
        );
        let set = settings.told.iter().filter(|told| told.source != Source::Default);
        let sources: Vec<_> = set.map(|told| (told.name, told.source.as_str())).collect();
        assert_eq!(
            sources,
            [("listen", "flag"), ("database_url", "environment"), ("body_limit", "file"), ("grace", "environment")]
        );
        assert!(settings.told.iter().all(|told| !told.value.contains("s3cret")), "{:?}", settings.told);
    }

    #[test]
    fn every_bad_setting_is_told_at_once() {
        let mut layers = Layers { flags: layer(&[("workers", "0")]), ..Layers::default() };
        layers.read_file("body_limit = 'large'\nlisten_on = ''").unwrap();
        let messages: Vec<String> = layers.check().unwrap_err().iter().map(ToString::to_string).collect();
        assert_eq!(messages.len(), 4, "{messages:?}");
        assert!(messages.iter().any(|line| line.starts_with("database_url (default)")), "{messages:?}");
        assert!(messages.iter().any(|line| line.contains("`large` is invalid: write a size")), "{messages:?}");
    }

    #[test]
    fn the_docs_tell_every_setting_with_its_default() {
        let page = include_str!("../../../../docs/operating.md");
        for known in KNOWN {
            let default = if known.default.is_empty() { String::new() } else { format!("`{}` ", known.default) };
            let row = format!("| `{}` | {default}|", known.name);
            assert!(page.contains(&row), "{row} is not in docs/operating.md");
        }
    }
}
