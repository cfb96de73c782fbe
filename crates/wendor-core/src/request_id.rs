//! The id of one request: short enough to read out, ordered by time, unique among instances.
//!
//! 80 bits as sixteen base-32 digits, `01JDF3-7QK2M0XZ4T`: 42 bits of milliseconds since 2020 (139 years), 18 bits that a
//! process draws once, and a 20-bit counter. Two requests of one process never share an id; two processes could only
//! if they drew the same 18 bits and reached the same count in the same millisecond.

use chrono::{DateTime, Utc};
use serde::{Deserialize, Serialize};

use crate::base32;

/// Milliseconds from the Unix epoch to 2020-01-01, where ids begin to count.
const ID_EPOCH_MS: i64 = 1_577_836_800_000;

/// An id of the form `01JDF3-7QK2M0XZ4T`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RequestId(String);

impl RequestId {
    /// Makes the id of the request that arrived at `at` as number `count` of the process that drew `process`.
    /// Of `process` the low 18 bits count, of `count` the low 20.
    #[must_use]
    pub fn mint(at: DateTime<Utc>, process: u32, count: u32) -> Self {
        let millis = u128::from(u64::try_from(at.timestamp_millis() - ID_EPOCH_MS).unwrap_or(0));
        let number =
            (millis & 0x3ff_ffff_ffff) << 38 | u128::from(process & 0x3_ffff) << 20 | u128::from(count & 0xf_ffff);
        let digits = base32::of_number(number, 16).to_ascii_uppercase();
        Self(format!("{}-{}", &digits[..6], &digits[6..]))
    }

    /// Reads an id in either case; `None` when the text is not of an id's form.
    #[must_use]
    pub fn parse(text: &str) -> Option<Self> {
        let (head, tail) = text.split_once('-')?;
        let is_whole = head.len() == 6 && tail.len() == 10;
        (is_whole && base32::is_base32(&head.to_ascii_lowercase()) && base32::is_base32(&tail.to_ascii_lowercase()))
            .then(|| Self(text.to_ascii_uppercase()))
    }

    /// The id of its attempt `number` as a UUID, the form that some servers demand of a request's id (RFC 9562, version 8): the 80 bits
    /// of the request, then eight of the attempt, the rest zero.
    ///
    /// ```
    /// use wendor_core::request_id::RequestId;
    /// let id = RequestId::parse("01JDF3-7QK2M0XZ4T").unwrap();
    /// let uuid = id.uuid(2);
    /// assert_eq!(&uuid[14..15], "8");
    /// assert_eq!(RequestId::of_uuid(&uuid), Some((id, 2)));
    /// ```
    #[must_use]
    pub fn uuid(&self, number: u8) -> String {
        let bits = self.bits();
        let (a, b, c) = (bits >> 32, bits >> 20 & 0xfff, (bits & 0xf_ffff) << 42 | u128::from(number) << 34);
        let all = a << 80 | 8 << 76 | b << 64 | 0b10 << 62 | c;
        let hex = format!("{all:032x}");
        [&hex[..8], &hex[8..12], &hex[12..16], &hex[16..20], &hex[20..]].join("-")
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
        base32::to_number(&self.0.replace('-', "").to_ascii_lowercase()).unwrap_or_default()
    }

    /// The request and the number of its attempt, of a UUID that [`Self::uuid`] made; `None` for any other.
    #[must_use]
    pub fn of_uuid(text: &str) -> Option<(Self, u8)> {
        let is_formed = text.len() == 36 && [8, 13, 18, 23].iter().all(|at| text.as_bytes().get(*at) == Some(&b'-'));
        let all = u128::from_str_radix(&text.replace('-', ""), 16).ok().filter(|_| is_formed)?;
        let is_ours = all >> 76 & 0xf == 8 && all >> 62 & 0b11 == 0b10 && all & 0x3_ffff_ffff == 0;
        let bits = (all >> 80) << 32 | (all >> 64 & 0xfff) << 20 | all >> 42 & 0xf_ffff;
        let digits = base32::of_number(bits, 16).to_ascii_uppercase();
        let id = Self(format!("{}-{}", &digits[..6], &digits[6..]));
        is_ours.then(|| Some((id, u8::try_from(all >> 34 & 0xff).ok()?)))?
    }

    /// A number that differs by request, for choices by chance: who plans it again chooses the same.
    #[must_use]
    pub fn seed(&self) -> u64 {
        use std::hash::{DefaultHasher, Hash, Hasher};
        let mut hasher = DefaultHasher::new();
        self.hash(&mut hasher);
        hasher.finish()
    }

    /// The id as text.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl std::fmt::Display for RequestId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.pad(&self.0)
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
            let uuid = id.uuid(number);
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
