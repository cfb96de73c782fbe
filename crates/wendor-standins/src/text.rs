//! What stand-ins say: sentences of a ferry operator, chosen by a seed, in pieces as a model would make them.
//!
//! Equal seeds give equal texts, so that a test can say beforehand what an answer will be.

use rand::rngs::SmallRng;
use rand::seq::IndexedRandom;
use rand::{RngExt, SeedableRng};

const PLACES: [&str; 8] = [
    "Farhythe",
    "Stack Isle",
    "Port Arrel",
    "Great Skerry",
    "Lantern Bay",
    "Sandhythe",
    "the North Quay",
    "Gull Sound",
];

const SENTENCES: [&str; 16] = [
    "The last boat from {a} to {b} leaves at {t}.",
    "On Sundays the crossing to {b} takes {n} minutes longer because of the tide.",
    "Vehicle deck two has room for {n} more cars on the {t} sailing.",
    "A grey suitcase was handed in at {a} at {t} and waits at the counter.",
    "Bookings for lorries over {n} metres must be made the day before.",
    "The tide window at {b} opens at {t} and closes two hours later.",
    "Please be at the pier in {a} at least {n} minutes before departure.",
    "Deck plan B shows {n} wheelchair places beside the forward lift.",
    "The {t} sailing to {b} is expected to leave on time.",
    "Dangerous goods are carried on the {t} sailing only, at most {n} units.",
    "Foot passengers board through gate {n} at {a}.",
    "The manifest for {b} lists {n} pallets and no livestock.",
    "If the wind passes force eight, the {t} sailing turns back to {a}.",
    "Lost umbrellas are kept for {n} weeks and then given away.",
    "The ship's café closes {n} minutes before {b}.",
    "Return tickets between {a} and {b} are valid for {n} days.",
];

/// An answer of whole sentences in pieces, each a word with its space, at least `tokens` of them.
#[must_use]
pub fn pieces(seed: u64, tokens: usize) -> Vec<String> {
    let mut random = SmallRng::seed_from_u64(seed);
    let mut pieces: Vec<String> = Vec::with_capacity(tokens + 20);
    while pieces.len() < tokens {
        if let Some(last) = pieces.last_mut() {
            last.push(' ');
        }
        pieces.extend(sentence(&mut random).split_inclusive(' ').map(str::to_owned));
    }
    pieces
}

/// A place that a seed chooses.
#[must_use]
pub fn place(seed: u64) -> &'static str {
    let places = u64::try_from(PLACES.len()).unwrap_or(1);
    PLACES.get(usize::try_from(seed % places).unwrap_or(0)).copied().unwrap_or("Farhythe")
}

fn sentence(random: &mut SmallRng) -> String {
    let time = format!("{:02}:{:02}", random.random_range(5..23), random.random_range(0..12) * 5);
    let pick = |random: &mut SmallRng, from: &'static [&'static str]| *from.choose(random).unwrap_or(&"");
    let template = pick(random, &SENTENCES);
    let (a, b) = (pick(random, &PLACES), pick(random, &PLACES));
    let number = random.random_range(2..28).to_string();
    template.replace("{a}", a).replace("{b}", b).replace("{t}", &time).replace("{n}", &number)
}

/// Questions as the teams of the ferry operator ask them.
pub const QUESTIONS: [&str; 8] = [
    "When does the last boat to Stack Isle leave on Sundays?",
    "Which sailings take lorries of sixteen metres?",
    "Summarise this cargo manifest and name what is missing.",
    "A passenger lost a green rucksack between Farhythe and Port Arrel. Draft an answer.",
    "How wide is the tide window at Sandhythe tomorrow morning?",
    "Where on deck plan B are the wheelchair places?",
    "Rewrite the delay notice for the 21:40 sailing in a friendly tone.",
    "List the bookings on vehicle deck two that overlap.",
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_seed_says_the_same_every_time_and_as_long_as_asked() {
        for length in [1, 7, 300] {
            let answer = pieces(7, length);
            assert!((length..length + 20).contains(&answer.len()) && answer.concat().ends_with('.'), "{answer:?}");
        }
        assert_eq!(pieces(7, 40), pieces(7, 40));
        assert_ne!(pieces(7, 40), pieces(8, 40));
    }
}
