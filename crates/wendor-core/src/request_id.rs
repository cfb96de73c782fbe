//! The id of one request: short enough to read out, ordered by time, unique among instances.
//!
//! 80 bits as sixteen base-32 digits, `01JDF3-7QK2M0XZ4T`: 42 bits of milliseconds since 2020 (139 years), 18 bits that a
//! process draws once, and a 20-bit counter. Two requests of one process never share an id; two processes could only
//! if they drew the same 18 bits and reached the same count in the same millisecond.

use std::fmt;

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};
use smol_str::SmolStr;

use crate::base32;
use crate::routing::together::mixed;

/// Milliseconds from the Unix epoch to 2020-01-01, where ids begin to count.
const ID_EPOCH_MS: i64 = 1_577_836_800_000;

/// Letters of an id: six, a hyphen, ten.
const LENGTH: usize = 17;

/// Where the hyphen stands.
const HYPHEN: usize = 6;

/// An id of the form `01JDF3-7QK2M0XZ4T`.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Deserialize)]
#[serde(try_from = "SmolStr")]
pub struct RequestId([u8; LENGTH]);

/// What is told of a text that is none.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("this is not the id of a request: one looks like 01JDF3-7QK2M0XZ4T")]
pub struct NotAnId;

impl RequestId {
    /// Makes the id of the request that arrived at `at` as number `count` of the process that drew `process`.
    /// Of `process` the low 18 bits count, of `count` the low 20.
    #[must_use]
    pub fn mint(at: DateTime<Utc>, process: u32, count: u32) -> Self {
        let millis = u128::from(u64::try_from(at.timestamp_millis() - ID_EPOCH_MS).unwrap_or(0));
        let number =
            (millis & 0x3ff_ffff_ffff) << 38 | u128::from(process & 0x3_ffff) << 20 | u128::from(count & 0xf_ffff);
        Self::of_bits(number)
    }

    fn of_bits(bits: u128) -> Self {
        let mut text = [b'-'; LENGTH];
        let places = (0..LENGTH).filter(|place| *place != HYPHEN);
        for (place, digit) in places.zip(base32::digits(bits, 16)) {
            text[place] = digit.to_ascii_uppercase();
        }
        Self(text)
    }

    /// Reads an id in either case; `None` when the text is not of an id's form.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let mut own: [u8; LENGTH] = text.as_bytes().try_into().ok()?;
        own.make_ascii_uppercase();
        let is_formed = |(place, byte): (usize, &u8)| {
            if place == HYPHEN { *byte == b'-' } else { base32::is_digit(byte.to_ascii_lowercase()) }
        };
        own.iter().enumerate().all(is_formed).then_some(Self(own))
    }

    /// The id of its attempt `number` as a UUID, the form that some servers demand of a request's id (RFC 9562, version 8): the 80 bits
    /// of the request, then eight of the attempt, the rest zero.
    ///
    /// ```
    /// use wendor_core::request_id::RequestId;
    /// let id = RequestId::parse("01JDF3-7QK2M0XZ4T").unwrap();
    /// let uuid = id.uuid(2).to_string();
    /// assert_eq!(&uuid[14..15], "8");
    /// assert_eq!(RequestId::of_uuid(&uuid), Some((id, 2)));
    /// ```
    #[must_use]
    pub fn uuid(&self, number: u8) -> impl fmt::Display + use<> {
        let all = Hex::of(self.uuid_bits(number));
        fmt::from_fn(move |f| {
            f.write_str(all.part(0..8))?;
            [8..12, 12..16, 16..20, 20..32].into_iter().try_for_each(|part| {
                f.write_str("-")?;
                f.write_str(all.part(part))
            })
        })
    }

    /// The same as a number.
    #[must_use]
    pub fn uuid_bits(&self, number: u8) -> u128 {
        let bits = self.bits();
        let (a, b, c) = (bits >> 32, bits >> 20 & 0xfff, (bits & 0xf_ffff) << 42 | u128::from(number) << 34);
        a << 80 | 8 << 76 | b << 64 | 0b10 << 62 | c
    }

    /// A number of its attempt `number` that no other attempt of the same minutes has, and never zero: the last 56 bits of the request, then
    /// eight of the attempt.
    #[must_use]
    pub fn span(&self, number: u8) -> u64 {
        let all = self.bits() << 8 & u128::from(u64::MAX) | u128::from(number);
        u64::try_from(all).unwrap_or_default().max(1)
    }

    /// It was minted or parsed, so it is a number of 80 bits.
    fn bits(&self) -> u128 {
        let digits = self.0.iter().filter(|byte| **byte != b'-').map(u8::to_ascii_lowercase);
        base32::number_of(digits).unwrap_or_default()
    }

    /// The request and the number of its attempt, of a UUID that [`Self::uuid`] made; `None` for any other.
    #[must_use]
    pub fn of_uuid(text: &str) -> Option<(Self, u8)> {
        let is_formed = text.len() == 36 && [8, 13, 18, 23].iter().all(|at| text.as_bytes().get(*at) == Some(&b'-'));
        let all = u128::from_str_radix(&text.replace('-', ""), 16).ok().filter(|_| is_formed)?;
        let is_ours = all >> 76 & 0xf == 8 && all >> 62 & 0b11 == 0b10 && all & 0x3_ffff_ffff == 0;
        let bits = (all >> 80) << 32 | (all >> 64 & 0xfff) << 20 | all >> 42 & 0xf_ffff;
        is_ours.then(|| Some((Self::of_bits(bits), u8::try_from(all >> 34 & 0xff).ok()?)))?
    }

    /// A number that differs by request, for choices by chance: who plans it again chooses the same.
    #[must_use]
    pub fn seed(&self) -> u64 {
        let halves = self.0.split_at(HYPHEN);
        let number =
            |half: &[u8]| half.iter().fold(0, |number: u64, digit| number << 8 | number >> 56 ^ u64::from(*digit));
        mixed(number(halves.0) ^ mixed(number(halves.1)))
    }

    /// The id as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        // Digits and a hyphen are always text.
        std::str::from_utf8(&self.0).unwrap_or_default()
    }
}

impl std::fmt::Display for RequestId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(self.as_str())
    }
}

impl std::fmt::Debug for RequestId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "RequestId({self})")
    }
}

impl Serialize for RequestId {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.as_str())
    }
}

impl TryFrom<SmolStr> for RequestId {
    type Error = NotAnId;
    fn try_from(text: SmolStr) -> Result<Self, NotAnId> {
        Self::parse(&text).ok_or(NotAnId)
    }
}

/// The 32 hexadecimal digits of a number: written for every request, for which the machinery of formats is dear.
pub(crate) struct Hex([u8; 32]);

impl Hex {
    pub(crate) fn of(bits: u128) -> Self {
        let digit = |nibble: u8| if nibble < 10 { b'0' + nibble } else { b'a' + nibble - 10 };
        let mut digits = [0; 32];
        for (pair, byte) in digits.chunks_exact_mut(2).zip(bits.to_be_bytes()) {
            pair.copy_from_slice(&[digit(byte >> 4), digit(byte & 0xf)]);
        }
        Self(digits)
    }

    /// The digits of a range of places.
    pub(crate) fn part(&self, places: std::ops::Range<usize>) -> &str {
        std::str::from_utf8(&self.0).ok().and_then(|digits| digits.get(places)).unwrap_or_default()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    proptest::proptest! {
        #[test]
        fn a_uuid_leads_back_to_its_attempt(millis in 0i64..4_000_000_000_000, process: u32, count: u32, number: u8) {
            let at = DateTime::from_timestamp_millis(ID_EPOCH_MS + millis).unwrap();
            let id = RequestId::mint(at, process, count);
            let uuid = id.uuid(number).to_string();
            proptest::prop_assert_eq!((uuid.len(), &uuid[14..15]), (36, "8"));
            proptest::prop_assert_eq!(RequestId::of_uuid(&uuid), Some((id, number)));
        }

        #[test]
        fn no_other_text_does(text in ".{0,40}") {
            proptest::prop_assert_eq!(RequestId::of_uuid(&text), None);
        }
    }

    #[test]
    fn ids_order_by_time_and_differ_by_process_and_count() {
        let at = DateTime::from_timestamp_millis(1_790_000_000_000).unwrap();
        let first = RequestId::mint(at, 7, 1);
        assert_ne!(first, RequestId::mint(at, 7, 2));
        assert_ne!(first, RequestId::mint(at, 8, 1));
        assert!(first < RequestId::mint(at + chrono::TimeDelta::milliseconds(1), 0, 0));
        assert_eq!(RequestId::parse(&first.as_str().to_ascii_lowercase()), Some(first));
        assert_eq!(RequestId::parse("01JDF3-7QK2"), None);
    }
}
