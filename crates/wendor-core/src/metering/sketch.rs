//! Many durations as one small sketch that can be merged without loss: the source of "typical" and "slow".
//!
//! Milliseconds enter; counts by bucket are kept. Buckets are exact below 32 ms and then 32 to each doubling (the
//! log-linear layout described by Gil Tene for high-dynamic-range histograms), so a quantile is at most 1.6% off.
//! Whole numbers only: equal inputs give equal sketches on every machine, in whatever order they were merged.

/// Buckets to a doubling, as a power of two.
const PRECISION_BITS: u32 = 5;

/// First byte of the stored form.
const FORM: u8 = 1;

/// A mergeable sketch of durations: how many are in each bucket that has any, in the order of buckets. A report merges tens of thousands of
/// them, which is one passage through both.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Sketch(Vec<(u16, u64)>);

/// Stored bytes are not a sketch.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("stored latency sketch of {0} bytes cannot be read: its form is not {FORM}")]
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

    /// Reads the stored form.
    ///
    /// # Errors
    /// [`BadSketch`] when the version is another one, bytes are missing, or buckets are not in order.
    pub fn from_bytes(bytes: &[u8]) -> Result<Self, BadSketch> {
        let (form, pairs) = bytes.split_first().ok_or(BadSketch(0))?;
        let pairs = pairs.chunks_exact(10);
        if *form != FORM || !pairs.remainder().is_empty() {
            return Err(BadSketch(bytes.len()));
        }
        let read = |pair: &[u8]| {
            let (bucket, count) = pair.split_first_chunk::<2>()?;
            Some((u16::from_le_bytes(*bucket), u64::from_le_bytes(count.try_into().ok()?)))
        };
        let buckets = pairs.map(read).collect::<Option<Vec<_>>>();
        let is_in_order = |buckets: &Vec<(u16, u64)>| buckets.is_sorted_by(|one, next| one.0 < next.0);
        buckets.filter(is_in_order).map(Self).ok_or(BadSketch(bytes.len()))
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
            prop_assert_eq!(&merged, &of(&[left, right].concat()));
            prop_assert_eq!(Sketch::from_bytes(&merged.to_bytes()), Ok(merged));
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
        let another_form = [&[bytes[0] + 1], &bytes[1..]].concat();
        let of_bad = |bytes: &[u8]| Sketch::from_bytes(bytes).is_err();
        let twice = [&bytes[..], &bytes[1..]].concat();
        assert!(of_bad(&[]) && of_bad(&another_form) && of_bad(&bytes[..bytes.len() - 1]) && !of_bad(&bytes));
        assert!(of_bad(&twice), "buckets out of order");
    }
}
