//! The last waits for a first token at one offer: what is usual there, and what is slow.

/// Waits that are kept.
const KEPT: usize = 64;

/// From so many on something can be said about what is usual.
pub const ENOUGH: usize = 8;

/// How many times the usual wait is slow.
const SLOW_TIMES: u64 = 4;

/// What a slow wait is longer by than the usual one at least, in milliseconds: a quick server that takes a moment longer is not slow.
const SLOW_AT_LEAST_MS: u64 = 500;

/// The last waits, in milliseconds.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Waits {
    kept: Vec<u32>,
    next: usize,
}

impl Waits {
    /// A first token came after so long.
    pub fn add(&mut self, millis: u64) {
        let millis = u32::try_from(millis).unwrap_or(u32::MAX);
        match self.kept.get_mut(self.next) {
            Some(oldest) => *oldest = millis,
            None => self.kept.push(millis),
        }
        self.next = (self.next + 1) % KEPT;
    }

    /// The wait that `permille` of 1000 do not pass (nearest rank); `None` before there are any.
    #[must_use]
    pub fn quantile_ms(&self, permille: usize) -> Option<u64> {
        let mut room = [0_u32; KEPT];
        let sorted = room.get_mut(..self.kept.len())?;
        sorted.copy_from_slice(&self.kept);
        sorted.sort_unstable();
        let rank = (sorted.len() * permille).div_ceil(1_000).max(1);
        sorted.get(rank - 1).map(|millis| u64::from(*millis))
    }

    /// The usual wait: the median.
    #[must_use]
    pub fn usual_ms(&self) -> Option<u64> {
        self.quantile_ms(500)
    }

    /// From which wait on an answer is slow here, once enough is known.
    #[must_use]
    pub fn slow_ms(&self) -> Option<u64> {
        if self.kept.len() < ENOUGH {
            return None;
        }
        self.usual_ms().map(|usual| (usual * SLOW_TIMES).max(usual + SLOW_AT_LEAST_MS))
    }

    /// The wait that one in twenty passes, once enough is known.
    #[must_use]
    pub fn p95_ms(&self) -> Option<u64> {
        if self.kept.len() < ENOUGH { None } else { self.quantile_ms(950) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_usual_and_slow_is_told_from_the_last_ones() {
        let mut waits = Waits::default();
        assert_eq!((waits.usual_ms(), waits.slow_ms()), (None, None));
        (0..ENOUGH - 1).for_each(|_| waits.add(300));
        assert_eq!((waits.usual_ms(), waits.slow_ms()), (Some(300), None), "too few to call any slow");
        waits.add(300);
        assert_eq!(waits.slow_ms(), Some(1_200));
        assert_eq!(waits.p95_ms(), Some(300));
        (0..KEPT).for_each(|_| waits.add(20));
        assert_eq!((waits.usual_ms(), waits.slow_ms()), (Some(20), Some(520)), "the old ones are forgotten");
        (0..4).for_each(|_| waits.add(900));
        assert_eq!((waits.usual_ms(), waits.p95_ms()), (Some(20), Some(900)));
        assert!(waits.kept.len() == KEPT);
    }
}
