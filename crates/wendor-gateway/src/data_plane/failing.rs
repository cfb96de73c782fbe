//! What a try that came to nothing says: an error of the client, a deadline, and when an upstream says to come back. Failures are told apart by
//! kind and cause, never by text.

use std::error::Error;
use std::io::ErrorKind;
use std::time::Duration;

use chrono::{DateTime, Utc};
use wendor_wire::failure::{Failure, FailureKind};

use super::clients::was_kept;
use super::exchange::Try;

/// Nothing came in time.
pub(super) fn timed_out(what: &str, after: Duration) -> Failure {
    Failure::new(FailureKind::TimedOut, format!("{what} within {}", humantime::format_duration(after)))
}

/// What a client error says, told apart by its kind and its cause, never by its text.
pub(super) fn failure_of(error: &hyper_util::client::legacy::Error, one: &Try<'_>) -> Failure {
    let mut cause: Option<&(dyn Error + 'static)> = error.source();
    let mut io_kind = None;
    while let Some(error) = cause {
        io_kind = error.downcast_ref::<std::io::Error>().map(std::io::Error::kind).or(io_kind);
        cause = error.source();
    }
    let address = one.upstream.address.authority();
    if !error.is_connect() {
        if error.connect_info().is_some_and(|connected| was_kept(connected, one.began)) {
            one.seen.closed_before();
        }
        return Failure::new(FailureKind::CutOff, "the connection broke before an answer");
    }
    let detail = match io_kind {
        Some(ErrorKind::ConnectionRefused) => format!("connection refused on {address}"),
        Some(ErrorKind::TimedOut) => {
            format!("no connection to {address} within {}", humantime::format_duration(one.deadlines.connect))
        }
        Some(ErrorKind::InvalidData) => format!("TLS with {address} failed"),
        Some(kind @ (ErrorKind::HostUnreachable | ErrorKind::NetworkUnreachable | ErrorKind::ConnectionReset)) => {
            format!("no connection to {address}: {kind}")
        }
        // The resolver says so of names that lead where nothing is sent.
        Some(ErrorKind::PermissionDenied) => {
            format!(
                "nothing is sent to {address}: its name leads to an address that hands out a machine's own credentials"
            )
        }
        Some(_) | None => format!("no connection to {address}: its name does not resolve"),
    };
    Failure::new(FailureKind::Unreachable, detail)
}

/// When the upstream says to come back: in milliseconds, seconds, or at a date.
pub(super) fn retry_after(headers: &hyper::HeaderMap, now: DateTime<Utc>) -> Option<Duration> {
    let text = |name: &str| headers.get(name)?.to_str().ok().map(str::trim);
    let number = |name: &str| text(name)?.parse::<f64>().ok().filter(|number| (0.0..1e9).contains(number));
    let at = || DateTime::parse_from_rfc2822(text("retry-after")?).ok();
    let until = || at().map(|at| (at.to_utc() - now).to_std().unwrap_or_default());
    number("retry-after-ms")
        .map(|millis| Duration::from_secs_f64(millis / 1_000.0))
        .or_else(|| number("retry-after").map(Duration::from_secs_f64))
        .or_else(until)
}

#[cfg(test)]
mod tests {
    use super::*;
    use hyper::header;
    use rstest::rstest;

    #[rstest]
    #[case::seconds(&[("retry-after", "7")], Some(7_000))]
    #[case::milliseconds_win(&[("retry-after", "7"), ("retry-after-ms", "350")], Some(350))]
    #[case::a_part_of_a_second(&[("retry-after", "1.5")], Some(1_500))]
    #[case::a_date(&[("retry-after", "Wed, 25 Nov 2026 08:00:30 GMT")], Some(30_000))]
    #[case::a_date_that_is_past(&[("retry-after", "Wed, 25 Nov 2026 07:00:00 GMT")], Some(0))]
    #[case::no_time(&[("retry-after", "soon")], None)]
    #[case::less_than_nothing(&[("retry-after", "-4")], None)]
    #[case::nothing(&[], None)]
    fn when_an_upstream_says_to_come_back(#[case] headers: &[(&str, &str)], #[case] millis: Option<u64>) {
        let read = headers.iter().fold(hyper::HeaderMap::new(), |mut map, (name, value)| {
            map.insert(header::HeaderName::try_from(*name).unwrap(), header::HeaderValue::from_str(value).unwrap());
            map
        });
        let now = "2026-11-25T08:00:00Z".parse().unwrap();
        assert_eq!(retry_after(&read, now), millis.map(Duration::from_millis));
    }
}
