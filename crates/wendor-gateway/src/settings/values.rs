//! The texts of settings as values, or what should be written instead.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use crate::spool::Sync;

/// How long something is kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Keep {
    /// For ever.
    Forever,
    /// For so long.
    For(Duration),
}

impl Keep {
    pub(super) fn parse(text: &str) -> Result<Self, String> {
        match text {
            "forever" => Ok(Self::Forever),
            text => humantime::parse_duration(text)
                .map(Self::For)
                .map_err(|_| "write `forever`, or a time such as 90d".to_owned()),
        }
    }
}

pub(super) fn address(text: &str) -> Result<SocketAddr, String> {
    text.parse().map_err(|_| "write an address and a port, such as 127.0.0.1:7420".to_owned())
}

/// Nothing, or a value.
pub(super) fn optional<T>(text: &str, parse: impl FnOnce(&str) -> Result<T, String>) -> Result<Option<T>, String> {
    if text.is_empty() { Ok(None) } else { parse(text).map(Some) }
}

pub(super) fn database(text: &str) -> Result<wendor_core::secret::Secret, String> {
    if text.starts_with("postgres://") || text.starts_with("postgresql://") {
        Ok(wendor_core::secret::Secret::new(text))
    } else {
        Err("write postgres://user@host:port/database".to_owned())
    }
}

pub(super) fn time(text: &str) -> Result<Duration, String> {
    humantime::parse_duration(text).map_err(|_| "write a time such as 30s".to_owned())
}

/// A time that is longer than none.
pub(super) fn some_time(text: &str) -> Result<Duration, String> {
    time(text).and_then(|time| if time.is_zero() { Err("write a time longer than 0s".to_owned()) } else { Ok(time) })
}

pub(super) fn threads(text: &str) -> Result<usize, String> {
    match text.parse() {
        Ok(number @ 1..=256) => Ok(number),
        Ok(_) | Err(_) => Err("write a number from 1 to 256".to_owned()),
    }
}

pub(super) fn allowed(text: &str) -> Result<bool, String> {
    match text {
        "allowed" => Ok(true),
        "refused" => Ok(false),
        _ => Err("write `allowed` or `refused`".to_owned()),
    }
}

pub(super) fn connections(text: &str) -> Result<usize, String> {
    match text.parse() {
        Ok(number @ 16..=1_000_000) => Ok(number),
        Ok(_) | Err(_) => Err("write a number from 16 to 1000000".to_owned()),
    }
}

pub(super) fn level(text: &str) -> Result<String, String> {
    if ["error", "warn", "info", "debug"].contains(&text) {
        Ok(text.to_owned())
    } else {
        Err("use error, warn, info or debug".to_owned())
    }
}

pub(super) fn tokens(text: &str) -> Result<u64, String> {
    text.parse().map_err(|_| "write a number of tokens".to_owned())
}

pub(super) fn secret(text: &str) -> Result<Option<wendor_core::secret::Secret>, String> {
    match text.len() {
        0 => Ok(None),
        1..=31 => Err("it is too short: use 32 characters or more, such as `openssl rand -hex 32` prints".to_owned()),
        _ => Ok(Some(wendor_core::secret::Secret::new(text))),
    }
}

pub(super) fn file(text: &str) -> Option<PathBuf> {
    (!text.is_empty()).then(|| PathBuf::from(text))
}

pub(super) fn sync(text: &str) -> Result<Sync, String> {
    match (text, text.strip_prefix("batch:").map(humantime::parse_duration)) {
        ("always", _) => Ok(Sync::Always),
        ("never", _) => Ok(Sync::Never),
        (_, Some(Ok(time))) => Ok(Sync::Batch(time)),
        (_, Some(Err(_)) | None) => {
            Err("write `always`, `batch:` with a time such as `batch:10ms`, or `never`".to_owned())
        }
    }
}

pub(super) fn size_or_zero(text: &str) -> Result<usize, String> {
    if text == "0" { Ok(0) } else { size(text) }
}

pub(super) fn size(text: &str) -> Result<usize, String> {
    let units = [("GiB", 1usize << 30), ("MiB", 1 << 20), ("KiB", 1 << 10), ("", 1)];
    let read =
        |(unit, factor): &(&str, usize)| text.strip_suffix(unit)?.trim().parse::<usize>().ok()?.checked_mul(*factor);
    units.iter().find_map(read).filter(|bytes| *bytes > 0).ok_or_else(|| "write a size such as 20MiB".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::always("always", Some(Sync::Always))]
    #[case::never("never", Some(Sync::Never))]
    #[case::batch("batch:10ms", Some(Sync::Batch(Duration::from_millis(10))))]
    #[case::no_time("batch:", None)]
    #[case::no_word("sometimes", None)]
    fn when_an_entry_is_durable(#[case] text: &str, #[case] expected: Option<Sync>) {
        assert_eq!(sync(text).ok(), expected);
    }

    #[rstest]
    #[case::forever("forever", Some(Keep::Forever))]
    #[case::days("90d", Some(Keep::For(Duration::from_secs(90 * 86_400))))]
    #[case::number("90", None)]
    fn how_long_something_is_kept(#[case] text: &str, #[case] expected: Option<Keep>) {
        assert_eq!(Keep::parse(text).ok(), expected);
    }
}
