//! Which call a fragment of a stream belongs to. Servers differ: some count calls from 1, or leave the index out, or begin each call at
//! index 0; some say id and name with every fragment. The id tells calls apart: a fragment with another one begins another call.

use std::collections::BTreeMap;

/// The most calls of one choice that are told apart.
pub(crate) const MAX_CALLS: u32 = 4_096;

/// What is known of a call.
#[derive(Clone, Debug, Default)]
struct Known {
    id: Option<String>,
    name: Option<String>,
}

/// What a fragment says of its call.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct Fragment<'a> {
    /// Index, from 0.
    pub choice: u64,
    /// The index that it came with, or its place among the calls of its frame.
    pub index: u64,
    /// The call's id, if it is told.
    pub id: Option<&'a str>,
    /// The function's name, if it is told.
    pub name: Option<&'a str>,
}

/// Where a fragment belongs.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Place {
    /// The call, counted from 0 in the order in which calls began.
    pub call: u32,
    /// Whether it begins it.
    pub begins: bool,
    /// Whether it says the id again.
    pub repeats_id: bool,
    /// Whether it says the name again.
    pub repeats_name: bool,
}

/// The calls of a stream so far.
#[derive(Clone, Debug, Default)]
pub(crate) struct Calls {
    /// By choice.
    known: BTreeMap<u64, Vec<Known>>,
    /// The call that an index of a choice stands for now.
    current: BTreeMap<(u64, u64), u32>,
}

impl Calls {
    /// Where a fragment belongs; `None` when there are too many calls.
    pub fn place(&mut self, fragment: Fragment<'_>) -> Option<Place> {
        let Fragment { choice, index, .. } = fragment;
        let non_empty = |text: Option<&str>| text.filter(|text| !text.is_empty()).map(str::to_owned);
        let (id, name) = (non_empty(fragment.id), non_empty(fragment.name));
        let calls = self.known.entry(choice).or_default();
        if let Some(call) = self.current.get(&(choice, index)).copied()
            && let Some(known) = usize::try_from(call).ok().and_then(|call| calls.get_mut(call))
        {
            let is_another = id.is_some() && known.id.is_some() && known.id != id;
            if !is_another {
                let place = Place {
                    call,
                    begins: false,
                    repeats_id: id.is_some() && known.id == id,
                    repeats_name: name.is_some() && known.name == name,
                };
                known.id = known.id.take().or(id);
                known.name = known.name.take().or(name);
                return Some(place);
            }
        }
        let call = u32::try_from(calls.len()).ok().filter(|call| *call < MAX_CALLS)?;
        calls.push(Known { id, name });
        self.current.insert((choice, index), call);
        Some(Place { call, begins: true, repeats_id: false, repeats_name: false })
    }

    /// How many calls of a choice have begun.
    pub fn count(&self, choice: u64) -> u32 {
        self.known.get(&choice).map_or(0, |calls| u32::try_from(calls.len()).unwrap_or(MAX_CALLS))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    type TestFragment = (u64, &'static str, &'static str);

    #[rstest]
    #[case::as_promised(&[(0, "a", "f"), (0, "", ""), (1, "b", "g"), (1, "", "")], &[0, 0, 1, 1])]
    #[case::id_and_name_each_time(&[(0, "a", "f"), (0, "a", "f"), (0, "a", "f")], &[0, 0, 0])]
    #[case::every_call_at_index_0(&[(0, "a", "f"), (0, "", ""), (0, "b", "g"), (0, "", "")], &[0, 0, 1, 1])]
    #[case::counted_from_1(&[(1, "a", "f"), (2, "b", "g"), (1, "", "")], &[0, 1, 0])]
    #[case::interleaved(&[(0, "a", "f"), (1, "b", "g"), (0, "", ""), (1, "", "")], &[0, 1, 0, 1])]
    #[case::id_comes_later(&[(0, "", "f"), (0, "a", ""), (0, "b", "g")], &[0, 0, 1])]
    fn fragments_find_their_call(#[case] fragments: &[TestFragment], #[case] expected: &[u32]) {
        let mut calls = Calls::default();
        let place = |(index, id, name): &TestFragment| {
            calls.place(Fragment { choice: 0, index: *index, id: Some(id), name: Some(name) }).unwrap().call
        };
        assert_eq!(fragments.iter().map(place).collect::<Vec<_>>(), expected);
    }

    #[test]
    fn only_what_equals_is_a_repeat() {
        let mut calls = Calls::default();
        let mut place =
            |id, name| calls.place(Fragment { choice: 0, index: 0, id: Some(id), name: Some(name) }).unwrap();
        assert!(place("a", "f").begins);
        let again = place("a", "f");
        assert!(again.repeats_id && again.repeats_name && !again.begins);
        let name_in_pieces = place("", "_departures");
        assert!(!name_in_pieces.repeats_id && !name_in_pieces.repeats_name);
    }

    #[test]
    fn calls_have_an_end() {
        let mut calls = Calls::default();
        let mut place = |index| calls.place(Fragment { index, ..Fragment::default() });
        assert!((0..u64::from(MAX_CALLS)).all(|index| place(index).is_some()));
        assert_eq!(place(u64::from(MAX_CALLS)), None);
    }
}
