//! Many durations as one small sketch that can be merged without loss: the source of "typical" and "slow".
//!
//! Milliseconds enter; counts by bucket are kept. Buckets are exact below 32 ms and then 32 to each doubling (the
//! log-linear layout described by Gil Tene for high-dynamic-range histograms), so a quantile is at most 1.6% off.
//! Whole numbers only: equal inputs give equal sketches on every machine, in whatever order they were merged.

/// Buckets to a doubling, as a power of two.
const PRECISION_BITS: u32 = 5;

/// First byte of the stored form.
const FORM: u8 = 1;

/// First byte of the packed form.
const PACKED: u8 = 2;

/// A mergeable sketch of durations: how many are in each bucket that has any, in the order of buckets. A report merges tens of thousands of
/// them, which is one passage through both.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sketch(Vec<(u16, u64)>);

/// Stored bytes are not a sketch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("stored latency sketch of {0} bytes cannot be read: its form is neither {FORM} nor {PACKED}, or it is cut off")]
pub struct BadSketch(usize);

impl Sketch {
    /// Adds one duration.
    pub fn add(&mut self, millis: u64) {
        self.add_times(millis, 1);
    }

    /// Adds one duration so many times.
    pub fn add_times(&mut self, millis: u64, times: u64) {
        let bucket = bucket_of(millis);
        match self.0.binary_search_by_key(&bucket, |(bucket, _)| *bucket) {
            Ok(at) => self.0[at].1 += times,
            Err(at) => self.0.insert(at, (bucket, times)),
        }
    }

    /// Adds all of `other`.
    pub fn merge(&mut self, other: &Self) {
        // Both are in order: each bucket of the other is looked for behind the one before.
        let mut at = 0;
        for (bucket, count) in &other.0 {
            at += self.0[at..].iter().take_while(|(own, _)| own < bucket).count();
            match self.0.get_mut(at).filter(|(own, _)| own == bucket) {
                Some((_, own)) => *own += count,
                None => self.0.insert(at, (*bucket, *count)),
            }
        }
    }

    /// Takes away what is of `other`, of which nothing else is left here.
    pub fn take_away(&mut self, other: &Self) {
        for (bucket, count) in &other.0 {
            if let Ok(at) = self.0.binary_search_by_key(bucket, |(own, _)| *own) {
                self.0[at].1 = self.0[at].1.saturating_sub(*count);
            }
        }
        self.0.retain(|(_, count)| *count > 0);
    }

    /// How many durations it holds.
    #[must_use]
    pub fn count(&self) -> u64 {
        self.0.iter().map(|(_, count)| count).sum()
    }

    /// The duration that `permille` of 1000 do not pass, in milliseconds (nearest rank); `None` when empty.
    #[must_use]
    pub fn quantile_ms(&self, permille: u64) -> Option<u64> {
        let rank = (self.count() * permille).div_ceil(1000).max(1);
        let mut seen = 0;
        self.0.iter().find_map(|(bucket, count)| {
            seen += count;
            (seen >= rank).then(|| middle_of(*bucket))
        })
    }

    /// The stored form: a version byte, then bucket (2 bytes) and count (8 bytes) of each, little-endian.
    #[must_use]
    pub fn to_bytes(&self) -> Vec<u8> {
        let mut bytes = vec![FORM];
        for (bucket, count) in &self.0 {
            bytes.extend_from_slice(&bucket.to_le_bytes());
            bytes.extend_from_slice(&count.to_le_bytes());
        }
        bytes
    }

    /// The packed form, a quarter as long: a version byte, then of each how many buckets lie between it and the one before, and its count,
    /// both as unsigned LEB128.
    #[must_use]
    pub fn to_packed(&self) -> Vec<u8> {
        let mut bytes = Vec::with_capacity(1 + self.0.len() * 3);
        bytes.push(PACKED);
        let mut next = 0;
        for (bucket, count) in &self.0 {
            push_number(&mut bytes, u64::from(bucket - next));
            push_number(&mut bytes, *count);
            // The last bucket of all is far below the largest number.
            next = bucket.saturating_add(1);
        }
        bytes
    }

    /// Reads the stored or the packed form.
    ///
    /// # Errors
    /// [`BadSketch`] when the version is another one, bytes are missing, or buckets are not in order.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, BadSketch> {
        let read = match bytes.split_first() {
            Some((&FORM, pairs)) => Self::from_pairs(pairs),
            Some((&PACKED, numbers)) => Self::from_numbers(numbers),
            Some(_) | None => None,
        };
        read.ok_or(BadSketch(bytes.len()))
    }

    fn from_numbers(mut numbers: &[u8]) -> Option<Self> {
        let mut buckets = Vec::with_capacity(numbers.len() / 2);
        let mut next = 0u64;
        while !numbers.is_empty() {
            let bucket = next.checked_add(take_number(&mut numbers)?)?;
            buckets.push((u16::try_from(bucket).ok()?, take_number(&mut numbers)?));
            next = bucket + 1;
        }
        Some(Self(buckets))
    }

    fn from_pairs(pairs: &[u8]) -> Option<Self> {
        let pairs = pairs.chunks_exact(10);
        if !pairs.remainder().is_empty() {
            return None;
        }
        let read = |pair: &[u8]| {
            let (bucket, count) = pair.split_first_chunk::<2>()?;
            Some((u16::from_le_bytes(*bucket), u64::from_le_bytes(count.try_into().ok()?)))
        };
        let buckets = pairs.map(read).collect::<Option<Vec<_>>>();
        let is_in_order = |buckets: &Vec<(u16, u64)>| buckets.is_sorted_by(|one, next| one.0 < next.0);
        buckets.filter(is_in_order).map(Self)
    }
}

/// Seven bits a byte, the lowest first; all but the last have the highest bit.
fn push_number(bytes: &mut Vec<u8>, mut number: u64) {
    while let Some(low) = u8::try_from(number & 0x7f).ok().filter(|_| number > 0x7f) {
        bytes.push(low | 0x80);
        number >>= 7;
    }
    bytes.extend(u8::try_from(number));
}

fn take_number(bytes: &mut &[u8]) -> Option<u64> {
    let (mut number, mut shift) = (0u64, 0);
    loop {
        let (byte, rest) = bytes.split_first()?;
        *bytes = rest;
        let part = u64::from(byte & 0x7f);
        number |= part.checked_shl(shift).filter(|shifted| *shifted >> shift == part)?;
        if byte & 0x80 == 0 {
            return Some(number);
        }
        shift += 7;
    }
}

fn bucket_of(millis: u64) -> u16 {
    let exponent = (u64::BITS - millis.leading_zeros()).saturating_sub(PRECISION_BITS + 1);
    let mantissa = millis >> exponent;
    u16::try_from(u64::from(exponent) * (1 << PRECISION_BITS) + mantissa).expect("at most 60 doublings of 32 buckets")
}

fn middle_of(bucket: u16) -> u64 {
    let width = 1u64 << PRECISION_BITS;
    let bucket = u64::from(bucket);
    if bucket < 2 * width {
        return bucket;
    }
    let exponent = bucket / width - 1;
    let mantissa = bucket % width + width;
    (mantissa << exponent) + (1 << exponent) / 2
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn quantiles_are_near_the_exact_ones(mut values in prop::collection::vec(0u64..1_000_000, 1..300), permille in 1u64..=1000) {
            let mut sketch = Sketch::default();
            values.iter().for_each(|value| sketch.add(*value));
            values.sort_unstable();
            let rank = (values.len() * usize::try_from(permille).unwrap()).div_ceil(1000).max(1);
            let exact = values[rank - 1];
            let estimated = sketch.quantile_ms(permille).unwrap();
            prop_assert!(estimated.abs_diff(exact) * 1000 <= exact * 17, "{estimated} for {exact}");
        }

        #[test]
        fn merging_is_the_same_as_adding_all(left in prop::collection::vec(any::<u64>(), 0..50), right in prop::collection::vec(any::<u64>(), 0..50)) {
            let of = |values: &[u64]| { let mut sketch = Sketch::default(); values.iter().for_each(|value| sketch.add(*value)); sketch };
            let mut merged = of(&right);
            merged.merge(&of(&left));
            prop_assert_eq!(&merged, &of(&[&left[..], &right].concat()));
            prop_assert_eq!(Sketch::from_bytes(&merged.to_bytes()), Ok(merged.clone()));
            prop_assert_eq!(Sketch::from_bytes(&merged.to_packed()), Ok(merged.clone()));
            merged.take_away(&of(&left));
            prop_assert_eq!(merged, of(&right));
        }

        #[test]
        fn bytes_that_are_no_packed_form_are_refused_or_read_in_order(bytes in prop::collection::vec(any::<u8>(), 0..40)) {
            if let Ok(Sketch(buckets)) = Sketch::from_bytes(&[&[PACKED], &bytes[..]].concat()) {
                prop_assert!(buckets.is_sorted_by(|one, next| one.0 < next.0));
            }
        }
    }

    #[rstest::rstest]
    #[case::exact_where_buckets_are_of_one(&[(0, 0), (5, 5), (31, 31), (32, 32), (40, 40), (63, 63)])]
    #[case::the_middle_where_they_are_wider(&[(64, 65), (65, 65), (66, 67), (127, 127), (128, 130), (1_000, 1_000)])]
    fn one_value_is_told_by_its_bucket(#[case] values: &[(u64, u64)]) {
        for (value, middle) in values {
            let mut sketch = Sketch::default();
            sketch.add(*value);
            assert_eq!(sketch.quantile_ms(500), Some(*middle), "{value}");
        }
    }

    #[test]
    fn a_stored_form_that_is_not_one_is_refused() {
        let mut sketch = Sketch::default();
        sketch.add(40);
        let bytes = sketch.to_bytes();
        let another_form = [&[PACKED + 1], &bytes[1..]].concat();
        let of_bad = |bytes: &[u8]| Sketch::from_bytes(bytes).is_err();
        let twice = [&bytes[..], &bytes[1..]].concat();
        assert!(of_bad(&[]) && of_bad(&another_form) && of_bad(&bytes[..bytes.len() - 1]) && !of_bad(&bytes));
        assert!(of_bad(&twice), "buckets out of order");
        let packed = sketch.to_packed();
        assert!(!of_bad(&packed) && of_bad(&packed[..packed.len() - 1]), "a count is missing");
        let too_long = [&[PACKED][..], &[0xff; 10]].concat();
        assert!(of_bad(&too_long), "a number of more than 64 bits");
    }
}
