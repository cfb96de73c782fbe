//! The rhythm of a stream: whether its pieces come as they are made, or something on the way collects them.

use super::heard::AnswerSeen;

/// A first piece that comes later than this, in microseconds, tells a stream that was held back from one that is only quick.
const HELD_FROM_US: u64 = 400_000;

/// Pieces from which on a rhythm can be told.
const RHYTHM_PIECES: usize = 8;

/// A pause of so many microseconds parts one lump from the next.
const LUMP_GAP_US: u64 = 100_000;

/// Microseconds within which what is there is heard.
const AT_ONCE_US: u64 = 2_000;

/// Pieces of a lump, on average, from which on they were collected: servers that decode several tokens at once send fewer.
const LUMP_PIECES: usize = 6;

/// How a stream was collected.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Collected {
    /// All of it came at once, after so many microseconds.
    Whole(u64),
    /// It came in so many lumps, of so many pieces altogether.
    Lumps(usize, usize),
}

/// Whether a stream was collected on the way. `whole_us` is how long a whole answer took: a stream that came at once in no more time was only
/// quick.
#[must_use]
pub fn collected(stream: &AnswerSeen, whole_us: u64) -> Option<Collected> {
    let first = stream.first_us?;
    let is_long = stream.pieces >= RHYTHM_PIECES || (stream.pieces == 1 && stream.text().len() > 40);
    if !is_long {
        return None;
    }
    let spread = stream.last_us.saturating_sub(first);
    if first >= HELD_FROM_US && spread < first / 20 && whole_us >= first / 2 {
        return Some(Collected::Whole(first));
    }
    let lumps = lumps(stream);
    // Pieces that are made one after the other stand apart; those of a lump were written at once.
    let is_at_once = longest(stream, &lumps) < LUMP_GAP_US / 5;
    (lumps.len() > 1 && is_at_once && stream.pieces >= LUMP_PIECES * lumps.len())
        .then_some(Collected::Lumps(lumps.len(), stream.pieces))
}

/// For how long, in microseconds, whoever listened was held up, where that hides how the pieces of a stream came in
/// which nothing else was found.
#[must_use]
pub fn unheard(stream: &AnswerSeen) -> Option<u64> {
    let held_up = stream.last_us - heard_of(stream, 0, stream.last_us);
    let is_hidden = held_up >= LUMP_GAP_US / 2 && longest(stream, &lumps(stream)) < LUMP_GAP_US;
    (is_hidden && stream.pieces >= RHYTHM_PIECES).then_some(held_up)
}

/// When the last piece came at the earliest: one that is heard as soon as nobody is held up any more may have come at any time before.
#[must_use]
pub fn last_at_the_earliest(stream: &AnswerSeen) -> u64 {
    let before = |held: &&(u64, u64)| held.0 < stream.last_us && held.1 + AT_ONCE_US >= stream.last_us;
    stream.held_up.iter().find(before).map_or(stream.last_us, |held| held.0)
}

/// For how long the longest lump was heard.
fn longest(stream: &AnswerSeen, lumps: &[(u64, u64)]) -> u64 {
    lumps.iter().map(|(from, to)| heard_of(stream, *from, *to)).max().unwrap_or_default()
}

/// When each lump began and ended. A pause in which nobody listened may be our own, so a part of each has to be heard.
fn lumps(stream: &AnswerSeen) -> Vec<(u64, u64)> {
    let mut lumps: Vec<(u64, u64)> = Vec::new();
    let is_pause = |from: u64, to: u64| to - from >= LUMP_GAP_US && heard_of(stream, from, to) >= LUMP_GAP_US / 2;
    for at in &stream.times {
        match lumps.last_mut() {
            Some((_, last)) if !is_pause(*last, *at) => *last = *at,
            Some(_) | None => lumps.push((*at, *at)),
        }
    }
    lumps
}

/// How much of a time somebody listened, in microseconds.
fn heard_of(stream: &AnswerSeen, from: u64, to: u64) -> u64 {
    let missed = |held: &(u64, u64)| held.1.min(to).saturating_sub(held.0.max(from));
    (to - from).saturating_sub(stream.held_up.iter().map(missed).sum())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn stream(times: Vec<u64>) -> AnswerSeen {
        AnswerSeen {
            first_us: times.first().copied(),
            last_us: times.last().copied().unwrap_or_default(),
            pieces: times.len(),
            times,
            ..AnswerSeen::default()
        }
    }

    fn bursts(starts: &[u64], pieces: u64, between: u64) -> AnswerSeen {
        stream(starts.iter().flat_map(|start| (0..pieces).map(move |piece| start + piece * between)).collect())
    }

    /// Whether pieces that came 20 ms apart, or in three lumps 200 ms apart, are heard as lumps by whoever was held up then.
    #[rstest]
    #[case::ours(&[(30_000, 200_000), (210_000, 400_000), (410_000, 600_000)], 20_000, false, true)]
    #[case::one_of_them(&[(30_000, 200_000)], 20_000, false, false)]
    #[case::theirs(&[], 200_000, true, false)]
    #[case::a_part_of_each(&[(60_000, 200_000), (250_000, 395_000)], 200_000, true, true)]
    #[case::within_a_lump(&[(200_000, 260_000)], 200_000, true, true)]
    #[case::nearly_all_of_one(&[(40_000, 200_000)], 200_000, false, true)]
    fn our_own_pauses_are_told_from_the_servers(
        #[case] held: &[(u64, u64)],
        #[case] apart: u64,
        #[case] lumps: bool,
        #[case] is_hidden: bool,
    ) {
        let sent = (0..30).map(|piece| piece * 20_000 / apart * apart);
        let heard = |at: u64| held.iter().find(|held| (held.0..held.1).contains(&at)).map_or(at, |held| held.1);
        let seen = AnswerSeen { held_up: held.to_vec(), ..stream(sent.map(heard).collect()) };
        assert_eq!(collected(&seen, 1_000_000), lumps.then_some(Collected::Lumps(3, 30)));
        let all: u64 = held.iter().map(|held| held.1 - held.0).sum();
        assert_eq!(unheard(&seen), is_hidden.then_some(all));
    }

    #[rstest]
    #[case::one_after_the_other(bursts(&[50_000], 40, 12_000), None)]
    #[case::slow_ones(bursts(&[0, 300_000, 600_000, 900_000, 1_200_000, 1_500_000, 1_800_000, 2_100_000], 1, 0), None)]
    #[case::quick(bursts(&[3_000], 40, 50), None)]
    #[case::a_pause_in_the_middle(bursts(&[0, 700_000], 20, 8_000), None)]
    #[case::several_tokens_at_once(bursts(&[0, 150_000, 300_000, 450_000], 4, 100), None)]
    #[case::a_first_piece_and_then_lumps(bursts(&[10_000, 500_000, 1_000_000], 20, 100), Some(Collected::Lumps(3, 60)))]
    #[case::all_at_the_end(bursts(&[900_000], 30, 100), Some(Collected::Whole(900_000)))]
    fn a_collected_stream_is_told_by_its_lumps(#[case] stream: AnswerSeen, #[case] expected: Option<Collected>) {
        assert_eq!(collected(&stream, 900_000), expected);
    }

    /// One piece of so many letters.
    fn one_piece(letters: usize) -> AnswerSeen {
        let body = serde_json::json!({ "choices": [{ "index": 0, "finish_reason": "stop", "message": { "role": "assistant", "content": "t".repeat(letters) } }] });
        let seen =
            super::super::heard::whole(wendor_wire::dialect::Dialect::ChatCompletions, body.to_string().as_bytes(), 0);
        AnswerSeen { answer: seen.answer, ..stream(vec![900_000]) }
    }

    #[rstest]
    #[case::a_long_piece(one_piece(41), Some(Collected::Whole(900_000)))]
    #[case::a_short_one(one_piece(40), None)]
    #[case::two_long_ones(AnswerSeen { pieces: 2, ..one_piece(41) }, None)]
    #[case::spread_by_a_twentieth(bursts(&[900_000], 10, 5_000), None)]
    #[case::lumps_as_long_as_may_be(bursts(&[10_000, 500_000], 21, 1_000), None)]
    #[case::lumps_a_little_shorter(bursts(&[10_000, 500_000], 20, 1_000), Some(Collected::Lumps(2, 40)))]
    #[case::the_least_pause(bursts(&[10_000, 111_900], 20, 100), Some(Collected::Lumps(2, 40)))]
    #[case::held_up_in_most_of_a_pause(AnswerSeen { held_up: vec![(61_900, 500_000)], ..bursts(&[10_000, 500_000], 20, 100) }, Some(Collected::Lumps(2, 40)))]
    #[case::in_more_of_it(AnswerSeen { held_up: vec![(61_899, 500_000)], ..bursts(&[10_000, 500_000], 20, 100) }, None)]
    fn where_one_rhythm_ends_and_another_begins(#[case] stream: AnswerSeen, #[case] expected: Option<Collected>) {
        assert_eq!(collected(&stream, 900_000), expected);
    }
}
