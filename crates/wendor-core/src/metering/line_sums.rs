//! Sums of lines by what roll-ups do not tell apart: the run, how it ended, and each label. For all teams together and for each.
//!
//! What has no run, or no such label, is in none of them: it is what the sums by end, which every line is in, have more.

use std::collections::{BTreeMap, HashMap};

use wendor_wire::worded;

use super::entry::{LedgerEntry, Record};
use super::rollup::RollUp;

worded! {
    /// What lines are summed by.
    #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
    pub enum LineBy {
        /// The app's run. A run is of one team, so that there is none for all teams together.
        Run = "run",
        /// How requests ended; what is no request stands under its kind.
        End = "end",
        /// The app's label of one name.
        Label = "label",
    }
}

/// How a line ended, as figures by end name it.
fn end_of(entry: &LedgerEntry) -> &'static str {
    match &entry.record {
        Record::Request(request) => request.end.as_str(),
        Record::Attempt(_) | Record::Check(_) | Record::Adjustment(_) => entry.record.kind().as_str(),
    }
}

/// So many sums are kept whatever there is to sum.
const FEW: u64 = 100;

/// Lines to a sum at least, where sums are more than few.
const LINES_TO_A_SUM: u64 = 4;

/// More are not held at once, whatever they are by: an app may give each of its requests a run, and a value of several labels, of its own.
const MOST: u64 = 200_000;

/// Names of labels that are summed at most: an app may make them up, too.
const MOST_LABELS: usize = 200;

/// Whether sums of lines are worth their room: read in the place of the lines they are much less, which those of a label are not that has
/// another value for each request.
fn is_worth_it(sums: u64, lines: u64) -> bool {
    sums <= FEW || sums.saturating_mul(LINES_TO_A_SUM) <= lines
}

/// Sums by one thing, by team and value; the team is empty where they are of all.
#[derive(Clone, Debug, Default)]
struct Groups {
    sums: HashMap<String, HashMap<String, RollUp>>,
    count: u64,
    lines: u64,
    is_left_out: bool,
}

impl Groups {
    /// Adds to a sum, and says how many more there are now: none or one.
    fn add(&mut self, team: &str, value: &str, lines: u64, add: impl FnOnce(&mut RollUp)) -> u64 {
        self.lines += lines;
        if self.is_left_out {
            return 0;
        }
        // Nearly always both are there already, and no name is copied.
        if let Some(sums) = self.sums.get_mut(team).and_then(|values| values.get_mut(value)) {
            add(sums);
            return 0;
        }
        let values = self.sums.entry(team.to_owned()).or_default();
        add(values.entry(value.to_owned()).or_default());
        self.count += 1;
        1
    }

    /// Adds all of `other`, and says how many more there are now.
    fn merge(&mut self, other: &Self) -> u64 {
        self.lines += other.lines;
        let pairs =
            other.sums.iter().flat_map(|(team, values)| values.iter().map(move |(value, sums)| (team, value, sums)));
        pairs.map(|(team, value, sums)| self.add(team, value, 0, |own| own.merge(sums))).sum()
    }

    /// Lets go of all of them, and says how many these were.
    fn leave_out(&mut self) -> u64 {
        self.is_left_out = true;
        self.sums = HashMap::new();
        std::mem::take(&mut self.count)
    }

    fn is_kept(&self, by: LineBy) -> bool {
        // Every line is in those by end, and ends are few.
        by == LineBy::End || (!self.is_left_out && is_worth_it(self.count, self.lines))
    }
}

/// What sums are made of: by what, and the label's name, which is empty for others.
type Summed = (LineBy, String);

/// A sum, and whose it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LineSum {
    /// By what.
    pub by: LineBy,
    /// The label's name; empty for others.
    pub label: String,
    /// Empty for all teams together.
    pub team: String,
    /// The run, the end, or the value of the label.
    pub value: String,
    /// The sums.
    pub sums: RollUp,
}

/// Sums that are not kept, as there would be too many: what they would tell is read from the lines.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct LeftOut {
    /// By what.
    pub by: LineBy,
    /// The label's name; empty for others, and where no label is summed as there are too many of them.
    pub label: String,
    /// Those by team, or those of all together.
    pub by_team: bool,
}

/// The sums of the lines of a span.
#[derive(Clone, Debug, Default)]
pub struct LineSums {
    tables: BTreeMap<Summed, [Groups; 2]>,
    labels: usize,
    held: u64,
}

impl LineSums {
    /// Adds a line.
    pub fn add(&mut self, entry: &LedgerEntry) {
        let run = entry.run.as_deref().map(|run| (LineBy::Run, "", run));
        let labels = entry.labels.iter().map(|(label, value)| (LineBy::Label, label.as_str(), value.as_str()));
        for (by, label, value) in labels.chain(run).chain([(LineBy::End, "", end_of(entry))]) {
            let Some([of_all, by_team]) = self.table(by, label) else { continue };
            let mut more = by_team.add(entry.team.as_str(), value, 1, |sums| sums.add(entry));
            if by != LineBy::Run {
                more += of_all.add("", value, 1, |sums| sums.add(entry));
            }
            self.hold(more, MOST);
        }
    }

    /// Adds all of `other`.
    pub fn merge(&mut self, other: &Self) {
        if other.labels > MOST_LABELS {
            self.leave_labels_out();
        }
        for ((by, label), [of_all, by_team]) in &other.tables {
            let Some([own_of_all, own_by_team]) = self.table(*by, label) else { continue };
            let mut let_go = 0;
            for (own, other) in [(&mut *own_of_all, of_all), (&mut *own_by_team, by_team)] {
                if other.is_left_out {
                    let_go += own.leave_out();
                }
            }
            let more = own_of_all.merge(of_all) + own_by_team.merge(by_team);
            self.held -= let_go;
            self.hold(more, MOST);
        }
    }

    /// Holds so many more: if these are too many, those that are most are let go of.
    fn hold(&mut self, more: u64, most: u64) {
        self.held += more;
        while self.held > most {
            let others = self.tables.iter_mut().filter(|((by, _), _)| *by != LineBy::End);
            let Some(largest) = others.flat_map(|(_, tables)| tables).max_by_key(|groups| groups.count) else { return };
            let let_go = largest.leave_out();
            if let_go == 0 {
                return;
            }
            self.held -= let_go;
        }
    }

    /// The sums by one thing; nothing for labels once there are too many of them.
    fn table(&mut self, by: LineBy, label: &str) -> Option<&mut [Groups; 2]> {
        let of = (by, label.to_owned());
        if by == LineBy::Label && !self.tables.contains_key(&of) {
            self.labels += 1;
            if self.labels > MOST_LABELS {
                self.leave_labels_out();
                return None;
            }
        }
        Some(self.tables.entry(of).or_default())
    }

    fn leave_labels_out(&mut self) {
        self.labels = MOST_LABELS + 1;
        self.tables.retain(|(by, _), _| *by != LineBy::Label);
        self.held = self.tables.values().flatten().map(|groups| groups.count).sum();
    }

    /// What is worth keeping, and what is not.
    #[must_use]
    pub fn kept(self) -> (Vec<LineSum>, Vec<LeftOut>) {
        let (mut kept, mut left_out) = (Vec::new(), Vec::new());
        if self.labels > MOST_LABELS {
            let no_label = |by_team| LeftOut { by: LineBy::Label, label: String::new(), by_team };
            left_out.extend([false, true].map(no_label));
        }
        for ((by, label), tables) in self.tables {
            for (groups, by_team) in tables.into_iter().zip([false, true]) {
                if !groups.is_kept(by) {
                    left_out.push(LeftOut { by, label: label.clone(), by_team });
                    continue;
                }
                for (team, values) in groups.sums {
                    let sum = |(value, sums)| LineSum { by, label: label.clone(), team: team.clone(), value, sums };
                    kept.extend(values.into_iter().map(sum));
                }
            }
        }
        (kept, left_out)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::name::Name;
    use crate::request_id::RequestId;
    use chrono::{DateTime, TimeDelta};
    use proptest::prelude::*;
    use rstest::rstest;

    fn line(number: u32, team: u8, run: Option<u8>, label: Option<u8>) -> LedgerEntry {
        let at = DateTime::UNIX_EPOCH + TimeDelta::seconds(i64::from(number));
        let team = Name::parse(["timetables", "freight-desk"][usize::from(team % 2)]).unwrap();
        LedgerEntry {
            run: run.map(|run| format!("run-{run}")),
            labels: label.map(|value| ("feature".to_owned(), format!("f{value}"))).into_iter().collect(),
            ..LedgerEntry::of_request(at, RequestId::mint(at, 1, number), team, Name::parse("manifests").unwrap())
        }
    }

    fn of(lines: &[LedgerEntry]) -> LineSums {
        let mut sums = LineSums::default();
        lines.iter().for_each(|line| sums.add(line));
        sums
    }

    fn in_order(sums: LineSums) -> Vec<LineSum> {
        let (mut kept, left_out) = sums.kept();
        assert_eq!(left_out, []);
        kept.sort_by(|a, b| (a.by, &a.label, &a.team, &a.value).cmp(&(b.by, &b.label, &b.team, &b.value)));
        kept
    }

    proptest! {
        /// However lines are batched, the sums are the same, and of each kind those by team sum to those of all.
        #[test]
        fn batches_do_not_matter(
            lines in prop::collection::vec((0u8..2, prop::option::of(0u8..4), prop::option::of(0u8..3)), 0..60),
            cut in 0usize..60,
        ) {
            let lines: Vec<LedgerEntry> = (0u32..).zip(lines).map(|(number, (team, run, label))| line(number, team, run, label)).collect();
            let (first, second) = lines.split_at(cut.min(lines.len()));
            let mut merged = of(first);
            merged.merge(&of(second));
            let whole = in_order(of(&lines));
            prop_assert_eq!(&in_order(merged), &whole);
            let requests = |by: LineBy, by_team: bool| -> u64 {
                whole.iter().filter(|sum| sum.by == by && sum.team.is_empty() != by_team).map(|sum| sum.sums.requests).sum()
            };
            let count = |is_in: fn(&LedgerEntry) -> bool| lines.iter().filter(|line| is_in(line)).count() as u64;
            prop_assert_eq!([requests(LineBy::End, false), requests(LineBy::End, true)], [lines.len() as u64; 2]);
            prop_assert_eq!([requests(LineBy::Run, false), requests(LineBy::Run, true)], [0, count(|line| line.run.is_some())]);
            prop_assert_eq!([requests(LineBy::Label, false), requests(LineBy::Label, true)], [count(|line| !line.labels.is_empty()); 2]);
        }
    }

    #[rstest]
    #[case::few_are_kept_whatever_they_sum(100, 100, true)]
    #[case::a_label_with_a_value_for_each_request(101, 101, false)]
    #[case::a_quarter(101, 404, true)]
    #[case::more_than_a_quarter(101, 403, false)]
    fn sums_are_kept_where_they_are_much_less_than_lines(#[case] sums: u64, #[case] lines: u64, #[case] is_kept: bool) {
        assert_eq!(is_worth_it(sums, lines), is_kept);
    }

    #[test]
    fn what_would_be_as_many_sums_as_lines_is_left_out() {
        let lines: Vec<LedgerEntry> = (0..150)
            .map(|number| LedgerEntry { run: Some(format!("run-{number}")), ..line(number, 0, None, Some(1)) })
            .collect();
        let (kept, left_out) = of(&lines).kept();
        assert_eq!(left_out, [LeftOut { by: LineBy::Run, label: String::new(), by_team: true }]);
        assert_eq!(kept.len(), 4, "an end and a label, of all and of a team: {kept:?}");
        assert!(kept.iter().all(|sum| sum.by != LineBy::Run && sum.sums.requests == 150));
    }

    /// Whoever makes names of labels up leaves all labels to be read from the lines, and nothing else.
    #[test]
    fn more_labels_than_are_summed_are_left_out_together() {
        let with_label = |number: u32| {
            let labels = [(format!("l{number}"), "x".to_owned()), ("feature".to_owned(), "search".to_owned())];
            LedgerEntry { labels: labels.into(), ..line(number, 0, Some(1), None) }
        };
        let lines: Vec<LedgerEntry> = (0..250).map(with_label).collect();
        let mut merged = of(&lines[..20]);
        merged.merge(&of(&lines[20..]));
        merged.add(&lines[0]);
        let (kept, left_out) = merged.kept();
        let no_label = |by_team| LeftOut { by: LineBy::Label, label: String::new(), by_team };
        assert_eq!(left_out, [no_label(false), no_label(true)]);
        let kinds: Vec<_> = kept.iter().map(|sum| (sum.by, sum.sums.requests)).collect();
        assert_eq!(kinds, [(LineBy::Run, 251), (LineBy::End, 251), (LineBy::End, 251)]);
    }

    /// Of too many those that are most go, and stay away; the others are as they were.
    #[test]
    fn more_than_can_be_held_are_left_out_and_held_no_longer() {
        let lines: Vec<LedgerEntry> = (0..30)
            .map(|number| LedgerEntry { run: Some(format!("run-{number}")), ..line(number, 0, None, Some(1)) })
            .collect();
        let mut sums = of(&lines);
        assert_eq!(sums.held, 34, "runs, and of all and of a team an end and a label");
        sums.hold(0, 33);
        assert_eq!(sums.held, 4);
        let mut merged = of(&lines[..5]);
        merged.merge(&sums);
        merged.add(&lines[6]);
        assert_eq!(merged.held, 4, "what one part has let go of, the whole has not");
        let (kept, left_out) = merged.kept();
        assert_eq!(left_out, [LeftOut { by: LineBy::Run, label: String::new(), by_team: true }]);
        assert!(kept.len() == 4 && kept.iter().all(|sum| sum.sums.requests == 36), "{kept:?}");
    }
}
