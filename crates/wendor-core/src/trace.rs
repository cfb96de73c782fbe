//! The trace that a request belongs to, as W3C Trace Context has it (header `traceparent`, version 00): continued from the app's, or begun.
//!
//! A header enters, the header for an upstream leaves. Nothing is drawn: ids come from those of the request and its attempt, so that the
//! same attempt has the same span wherever it is asked for.

use std::fmt;

use crate::request_id::{Hex, RequestId};

/// The trace of an app.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Trace {
    /// 32 hexadecimal digits, not all zero.
    id: String,
    /// Two hexadecimal digits: whether it is sampled.
    flags: String,
}

impl Trace {
    /// Reads `traceparent`; `None` for what is not one of a known version.
    ///
    /// ```
    /// use wendor_core::trace::Trace;
    /// assert!(Trace::parse("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01").is_some());
    /// assert!(Trace::parse("00-00000000000000000000000000000000-00f067aa0ba902b7-01").is_none());
    /// ```
    #[must_use]
    pub fn parse(header: &str) -> Option<Self> {
        let mut parts = header.trim().split('-');
        let (version, id, span, flags) = (parts.next()?, parts.next()?, parts.next()?, parts.next()?);
        let is_hex = |text: &str, length: usize| {
            text.len() == length && text.bytes().all(|byte| byte.is_ascii_digit() || (b'a'..=b'f').contains(&byte))
        };
        let is_something = |text: &str| text.bytes().any(|byte| byte != b'0');
        // Later versions may have more parts; the first four stay what they are. `ff` is no version.
        let is_known = is_hex(version, 2) && version != "ff" && (version != "00" || parts.next().is_none());
        let is_whole = is_hex(id, 32) && is_something(id) && is_hex(span, 16) && is_something(span) && is_hex(flags, 2);
        (is_known && is_whole).then(|| Self { id: id.to_owned(), flags: flags.to_owned() })
    }

    /// The header for the attempt `number` of `request`: its own span of `trace`, or of a trace that begins with the request.
    #[must_use]
    pub fn header(trace: Option<&Self>, request: &RequestId, number: u8) -> impl fmt::Display {
        let (span, own) = (Hex::of(request.span(number).into()), Hex::of(request.uuid_bits(0)));
        fmt::from_fn(move |f| {
            // Nobody asked for one of its own to be sampled.
            let (id, flags) = trace.map_or((own.part(0..32), "00"), |trace| (&trace.id, &trace.flags));
            ["00-", id, "-", span.part(16..32), "-", flags].into_iter().try_for_each(|part| f.write_str(part))
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const APPS: &str = "00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01";

    #[rstest]
    #[case::plain(APPS, true)]
    #[case::later_version("01-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-more", true)]
    #[case::no_version("ff-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01", false)]
    #[case::more_than_there_is("00-4bf92f3577b34da6a3ce929d0e0e4736-00f067aa0ba902b7-01-more", false)]
    #[case::capitals("00-4BF92F3577B34DA6A3CE929D0E0E4736-00f067aa0ba902b7-01", false)]
    #[case::no_span("00-4bf92f3577b34da6a3ce929d0e0e4736-0000000000000000-01", false)]
    #[case::short("00-4bf9-00f067aa0ba902b7-01", false)]
    #[case::empty("", false)]
    fn headers_are_read(#[case] header: &str, #[case] is_one: bool) {
        assert_eq!(Trace::parse(header).is_some(), is_one);
    }

    #[test]
    fn a_trace_goes_on_with_a_span_of_each_attempt() {
        let trace = Trace::parse(APPS).unwrap();
        let request = RequestId::parse("01JDF3-7QK2M0XZ4T").unwrap();
        let first = Trace::header(Some(&trace), &request, 1).to_string();
        let second = Trace::header(Some(&trace), &request, 2).to_string();
        assert!(first.starts_with("00-4bf92f3577b34da6a3ce929d0e0e4736-") && first.ends_with("-01"), "{first}");
        assert_ne!(first, second);
        let begun = Trace::header(None, &request, 1).to_string();
        assert!(Trace::parse(&begun).is_some() && begun.ends_with("-00"), "{begun}");
    }
}
