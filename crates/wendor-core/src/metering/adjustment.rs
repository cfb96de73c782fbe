//! What lines of the ledger should have cost at another rate, and by how much that differs from what they did.
//!
//! Lines of one offer enter, corrections of before among them; a [`Correction`] for each request whose cost differs leaves. So a correction
//! that was recorded is not made twice.

use std::collections::BTreeMap;

use wendor_wire::images::Images;

use super::entry::{LedgerEntry, Record};
use super::money::Money;
use super::rate::{Cost, Rate, price};

/// By how much a request was priced wrongly.
#[derive(Clone, Debug)]
pub struct Correction {
    /// The first of its lines at the offer.
    pub line: LedgerEntry,
    /// What all of them cost, corrections of before included.
    pub before: Money,
    /// What is missing, by kind; less than nothing where it was too dear.
    pub difference: Cost,
}

/// The corrections of `lines`, at `rate`. Images are left as they are where the rate has none for them.
#[must_use]
pub fn corrections(lines: &[LedgerEntry], rate: &Rate) -> Vec<Correction> {
    let mut requests: BTreeMap<&str, Correction> = BTreeMap::new();
    for line in lines {
        let was = line.cost.unwrap_or_default();
        let should = match &line.record {
            // What it corrects is priced with its own line.
            Record::Adjustment(_) => Cost::default(),
            Record::Request(_) | Record::Attempt(_) | Record::Check(_) => {
                let tokens = price(line.tokens, Images::default(), rate).unwrap_or_default();
                let images = price(line.tokens, line.images, rate).map_or(was.images, |cost| cost.images);
                Cost { images, ..tokens }
            }
        };
        let difference = less(should, was);
        let correction = requests.entry(line.request.as_str()).or_insert_with(|| Correction {
            line: line.clone(),
            before: Money::ZERO,
            difference: Cost::default(),
        });
        correction.before = correction.before + was.total();
        correction.difference = plus(correction.difference, difference);
    }
    requests.into_values().filter(|correction| correction.difference != Cost::default()).collect()
}

fn plus(one: Cost, other: Cost) -> Cost {
    Cost {
        input: one.input + other.input,
        input_cached: one.input_cached + other.input_cached,
        cache_written: one.cache_written + other.cache_written,
        output: one.output + other.output,
        images: one.images + other.images,
    }
}

fn less(one: Cost, other: Cost) -> Cost {
    let minus = |money: Money| Money::new(-money.amount());
    let other = Cost {
        input: minus(other.input),
        input_cached: minus(other.input_cached),
        cache_written: minus(other.cache_written),
        output: minus(other.output),
        images: minus(other.images),
    };
    plus(one, other)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::metering::entry::AdjustmentRecord;
    use crate::name::Name;
    use crate::request_id::RequestId;
    use chrono::{DateTime, NaiveDate};
    use proptest::prelude::*;
    use rust_decimal::Decimal;
    use wendor_wire::usage::TokenCounts;

    fn rate(input: i64, output: i64, image: Option<i64>) -> Rate {
        Rate {
            effective_on: NaiveDate::MIN,
            input: Decimal::from(input),
            input_cached: None,
            cache_written: None,
            output: Decimal::from(output),
            image: image.map(Decimal::from),
            image_sizes: BTreeMap::new(),
        }
    }

    fn line(number: u32, input: u64, output: u64, images: usize, priced_at: &Rate) -> LedgerEntry {
        let at = DateTime::UNIX_EPOCH;
        let name = |text: &str| Name::parse(text).unwrap();
        let (tokens, images) = (TokenCounts { input, output, ..TokenCounts::default() }, Images::of(images, None));
        LedgerEntry {
            tokens,
            images,
            cost: price(tokens, images, priced_at),
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, number), name("timetables"), name("manifests"))
        }
    }

    /// As it stands in the ledger once it is recorded.
    fn recorded(correction: &Correction) -> LedgerEntry {
        LedgerEntry {
            tokens: TokenCounts::default(),
            images: Images::default(),
            cost: Some(correction.difference),
            record: Record::Adjustment(AdjustmentRecord { reason: "priced anew".to_owned() }),
            ..correction.line.clone()
        }
    }

    #[test]
    fn images_stay_where_the_rate_has_none_and_unpriced_lines_get_a_price() {
        let right = rate(2, 4, None);
        let wrong = line(1, 1_000_000, 0, 3, &rate(1, 4, Some(5)));
        let unpriced = line(2, 1_000_000, 0, 3, &rate(1, 4, None));
        assert_eq!(unpriced.cost, None);
        let found = corrections(&[wrong, unpriced], &right);
        let told: Vec<(String, String)> =
            found.iter().map(|one| (one.before.to_string(), one.difference.total().to_string())).collect();
        assert_eq!(told, [("16".to_owned(), "1".to_owned()), ("0".to_owned(), "2".to_owned())]);
    }

    proptest! {
        /// Corrected, each request costs what it should, and there is nothing more to correct.
        #[test]
        fn what_is_corrected_costs_what_it_should(
            uses in prop::collection::vec((0u32..4, 0u64..2_000_000, 0u64..2_000_000), 1..12),
            was in (0i64..20, 0i64..20),
            should in (0i64..20, 0i64..20),
        ) {
            let (was, right) = (rate(was.0, was.1, None), rate(should.0, should.1, None));
            let mut lines: Vec<LedgerEntry> =
                uses.iter().map(|(number, input, output)| line(*number, *input, *output, 0, &was)).collect();
            let found = corrections(&lines, &right);
            lines.extend(found.iter().map(recorded));
            let sum: Money = lines.iter().filter_map(|line| line.cost).map(Cost::total).sum();
            let all = lines.iter().filter_map(|line| price(line.tokens, Images::default(), &right)).map(Cost::total);
            prop_assert_eq!(sum, all.sum::<Money>());
            prop_assert!(corrections(&lines, &right).is_empty());
        }
    }
}
