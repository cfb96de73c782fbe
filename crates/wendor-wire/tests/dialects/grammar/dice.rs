//! What decides between the forms: everything that is made in a case follows from the number of the case.

use rand::rngs::SmallRng;
use rand::{RngExt, SeedableRng};

/// The pieces that texts are made of: letters of one to four bytes, and what some framing or escaping could trip over.
const PIECES: [&str; 18] = [
    "Berth", " ", "2", ".", "é", "潮", "🌊", "\"", "\\", "\n", "\r\n", "\u{2028}", "data: ", "[DONE]", "{", "}", "/",
    "\u{7f}",
];

/// One case's decisions.
pub struct Dice(SmallRng);

impl Dice {
    pub fn of(case: u64) -> Self {
        Self(SmallRng::seed_from_u64(case))
    }

    /// A number below `end`.
    pub fn below(&mut self, end: usize) -> usize {
        self.0.random_range(0..end.max(1))
    }

    /// True in so many cases of a hundred.
    pub fn in_hundred(&mut self, cases: usize) -> bool {
        self.below(100) < cases
    }

    /// Whether, as likely as not.
    pub fn coin(&mut self) -> bool {
        self.below(2) == 0
    }

    /// `make`, or nothing.
    pub fn maybe<T>(&mut self, make: impl FnOnce(&mut Self) -> T) -> Option<T> {
        if self.coin() { Some(make(self)) } else { None }
    }

    /// One of them.
    pub fn one_of<'a, T>(&mut self, all: &'a [T]) -> &'a T {
        &all[self.below(all.len())]
    }

    /// From `least` to `most` of what `make` makes.
    pub fn several<T>(&mut self, least: usize, most: usize, mut make: impl FnMut(&mut Self) -> T) -> Vec<T> {
        let count = least + self.below(most - least + 1);
        (0..count).map(|_| make(self)).collect()
    }

    /// A text that says something.
    pub fn text(&mut self) -> String {
        let pieces = self.several(0, 6, |dice| *dice.one_of(&PIECES));
        format!("Sails{}", pieces.concat())
    }

    /// `text` in one to four pieces, none of them empty.
    pub fn pieces(&mut self, text: &str) -> Vec<String> {
        let letters: Vec<char> = text.chars().collect();
        let (mut pieces, mut from) = (Vec::new(), 0);
        while from < letters.len() {
            let end = if pieces.len() == 3 { letters.len() } else { from + 1 + self.below(letters.len() - from) };
            pieces.push(letters[from..end].iter().collect());
            from = end;
        }
        pieces
    }
}
