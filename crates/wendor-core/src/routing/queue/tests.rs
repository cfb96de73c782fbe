use std::collections::BTreeMap;

use proptest::prelude::*;
use rstest::rstest;

use super::*;

fn ask(who: u8, tokens: u64) -> Ask<u8> {
    Ask { who, tokens, weight: 1, lane: Lane::Interactive }
}

fn now() -> DateTime<Utc> {
    DateTime::UNIX_EPOCH
}

/// The next that is served.
fn admit<Who: Ord + Clone>(room: &mut Room<Who>, limits: Limits) -> Option<(WaitId, Ask<Who>)> {
    match room.admit(limits, now()) {
        Next::Served(id, ask) => Some((id, ask)),
        Next::In(_) | Next::Nobody => None,
    }
}

fn limits(streams: u64) -> Limits {
    Limits { streams: Some(streams), tokens: None, queue: 1_000, teams: 1, a_minute: MinuteLimits::default() }
}

/// Fills all streams; what has them is given back one by one.
fn full(streams: u64) -> Room<u8> {
    let mut room = Room::default();
    (0..streams).for_each(|_| room.take_anyway(&ask(0, 0), limits(streams), now()));
    room
}

/// Serves `count` that wait, each in the place of one that ends; who they were.
fn serve(room: &mut Room<u8>, count: usize, limits: Limits) -> Vec<u8> {
    let mut served = Vec::new();
    let mut under_way = ask(0, 0);
    for _ in 0..count {
        room.leave(&under_way, 0, now());
        let Some((_, next)) = admit(room, limits) else { break };
        served.push(next.who);
        under_way = next;
    }
    served
}

#[rstest]
#[case::many_requests_get_no_more(&[(1, 512, 6), (2, 512, 2)], &[1, 2, 1, 2, 1, 1])]
#[case::long_ones_come_seldom(&[(1, 1_536, 2), (2, 512, 6)], &[2, 2, 1, 2, 2, 2])]
#[case::alone_it_has_all(&[(1, 9_000, 3)], &[1, 1, 1])]
fn teams_take_turns_by_what_they_use(#[case] waiting: &[(u8, u64, usize)], #[case] served: &[u8]) {
    let limits = Limits { streams: Some(1), tokens: None, queue: 1_000, teams: 0, a_minute: MinuteLimits::default() };
    let mut room = full(1);
    for (who, tokens, count) in waiting {
        for _ in 0..*count {
            room.enter(&ask(*who, *tokens), limits).unwrap();
        }
    }
    assert_eq!(admit(&mut room, limits), None, "there is no room");
    assert_eq!(serve(&mut room, served.len(), limits), served);
}

#[test]
fn a_weight_of_three_gets_three_times_as_much() {
    let limits = Limits { teams: 0, ..limits(1) };
    let mut room = full(1);
    for _ in 0..400 {
        room.enter(&Ask { weight: 3, ..ask(1, 600) }, limits).unwrap();
        room.enter(&ask(2, 600), limits).unwrap();
    }
    let served = serve(&mut room, 400, limits);
    let heavy = served.iter().filter(|who| **who == 1).count();
    assert!((295..=305).contains(&heavy), "{heavy} of 400");
}

#[test]
fn tokens_are_room_too_and_a_long_request_is_not_overtaken_for_ever() {
    let limits =
        Limits { streams: None, tokens: Some(10_000), queue: 100, teams: 0, a_minute: MinuteLimits::default() };
    let mut room: Room<u8> = Room::default();
    let first = ask(1, 6_000);
    assert_eq!(room.look(&first, limits, now()), Ok(()));
    room.take_anyway(&first, limits, now());
    let long = room.enter(&ask(2, 8_000), limits).unwrap();
    assert_eq!(admit(&mut room, limits), None);
    // Its team's credit grows with the turns of the short ones, until it is its turn; then they wait for it.
    let mut overtaken = 0;
    for _ in 0..100 {
        room.enter(&ask(1, 1_000), limits).unwrap();
        let Some((_, next)) = admit(&mut room, limits) else { break };
        overtaken += 1;
        room.leave(&next, 0, now());
    }
    assert!(overtaken < 20, "{overtaken}");
    room.leave(&first, 0, now());
    assert_eq!(admit(&mut room, limits).map(|(id, _)| id), Some(long));
    room.leave(&ask(2, 8_000), 0, now());
    room.enter(&ask(3, 50_000), limits).unwrap();
    while let Some((_, next)) = admit(&mut room, limits) {
        room.leave(&next, 0, now());
    }
    assert_eq!((room.waiting(), room.tokens()), (0, 0), "one that is larger than all is served alone");
}

#[test]
fn batch_is_served_when_nobody_waits_and_leaves_some_streams() {
    let limits = Limits { streams: Some(32), tokens: None, queue: 100, teams: 0, a_minute: MinuteLimits::default() };
    let mut room: Room<u8> = Room::default();
    let batch = Ask { lane: Lane::Batch, ..ask(1, 100) };
    for _ in 0..40 {
        room.enter(&batch, limits).unwrap();
    }
    let served = std::iter::from_fn(|| admit(&mut room, limits)).count();
    assert_eq!((served, room.batch_streams()), (30, 30));
    let urgent: Vec<_> = (0..4).map(|_| room.enter(&ask(2, 100), limits).unwrap()).collect();
    let at_once: Vec<_> = std::iter::from_fn(|| admit(&mut room, limits)).map(|(id, _)| id).collect();
    assert_eq!(at_once, urgent[..2]);
    room.leave(&batch, 0, now());
    assert_eq!(admit(&mut room, limits).map(|(id, _)| id), Some(urgent[2]), "what is released goes to who waits");
    (0..20).for_each(|_| room.leave(&batch, 0, now()));
    assert_eq!(admit(&mut room, limits).map(|(id, _)| id), Some(urgent[3]));
    assert_eq!(admit(&mut room, limits).map(|(_, ask)| ask.lane), Some(Lane::Batch));
}

#[test]
fn a_place_in_the_queue_is_kept_for_others() {
    let limits = Limits { queue: 8, teams: 2, ..limits(1) };
    let mut room = full(1);
    let had = (0..20).filter(|_| room.enter(&ask(1, 1), limits).is_ok()).count();
    assert_eq!(had, 7);
    assert_eq!(room.enter(&ask(1, 1), limits), Err(QueueFull { waiting: 7 }));
    let other = room.enter(&ask(2, 1), limits).unwrap();
    assert_eq!(room.place(other), Some(2), "one of the other team is served before it at most");
    assert!(room.give_up(other) && !room.give_up(other));
    assert_eq!(room.waiting(), 7);
}

proptest! {
    /// Whatever comes and goes: room is never exceeded, nothing is lost or served twice, and as long as there is room nobody waits.
    #[test]
    fn room_is_kept_and_nobody_is_forgotten(
        steps in proptest::collection::vec((0_u8..4, 0_u8..4, 1_u64..4_000), 1..300),
    ) {
        let limits = Limits { streams: Some(6), tokens: Some(12_000), queue: 40, teams: 4, a_minute: MinuteLimits::default() };
        let mut room: Room<u8> = Room::default();
        let (mut waiting, mut under_way): (BTreeMap<WaitId, Ask<u8>>, Vec<Ask<u8>>) = (BTreeMap::new(), Vec::new());
        for (step, who, tokens) in steps {
            match step {
                0 | 1 => {
                    let lane = if who == 3 { Lane::Batch } else { Lane::Interactive };
                    let asked = Ask { lane, weight: u32::from(who) + 1, ..ask(who, tokens) };
                    if let Ok(id) = room.enter(&asked, limits) {
                        waiting.insert(id, asked);
                    }
                }
                2 => {
                    if !under_way.is_empty() {
                        let ended = under_way.swap_remove(usize::from(who) % under_way.len());
                        room.leave(&ended, 0, now());
                    }
                }
                _ => {
                    if let Some(id) = waiting.keys().nth(usize::from(who)).copied() {
                        prop_assert!(room.give_up(id));
                        waiting.remove(&id);
                    }
                }
            }
            while let Some((id, served)) = admit(&mut room, limits) {
                prop_assert_eq!(waiting.remove(&id), Some(served.clone()), "who is served has waited");
                under_way.push(served);
            }
            let tokens: u64 = under_way.iter().map(|ask| ask.tokens).sum();
            prop_assert_eq!((room.streams(), room.tokens()), (under_way.len() as u64, tokens));
            prop_assert_eq!(room.waiting(), waiting.len() as u64);
            prop_assert!(room.streams() <= 6 && (tokens <= 12_000 || under_way.len() == 1));
        }
        // All end: all that wait are served.
        while !under_way.is_empty() || !waiting.is_empty() {
            under_way.pop().into_iter().for_each(|ask| room.leave(&ask, 0, now()));
            while let Some((id, served)) = admit(&mut room, limits) {
                waiting.remove(&id);
                under_way.push(served);
            }
            prop_assert!(!under_way.is_empty() || waiting.is_empty(), "{waiting:?} wait while nothing is under way");
        }
    }

    /// Two teams that always want get streams by their weight, however long their requests are.
    #[test]
    fn parts_are_by_weight(a in 100_u64..3_000, b in 100_u64..3_000, weight in 1_u32..5) {
        let limits = Limits { streams: Some(1), tokens: None, queue: 10_000, teams: 0, a_minute: MinuteLimits::default() };
        let mut room = full(1);
        for _ in 0..4_000 {
            room.enter(&Ask { weight, ..ask(1, a) }, limits).unwrap();
            room.enter(&ask(2, b), limits).unwrap();
        }
        let served = serve(&mut room, 2_000, limits);
        let tokens = |who: u8, each: u64| served.iter().filter(|other| **other == who).count() as u64 * each;
        let (of_a, of_b) = (tokens(1, a), tokens(2, b) * u64::from(weight));
        let (more, less) = (of_a.max(of_b), of_a.min(of_b));
        prop_assert!(more - less <= less / 10 + 20_000, "{of_a} and {of_b}");
    }
}

#[test]
fn the_usual_lane_is_the_one_where_somebody_waits() {
    assert!(Lane::Interactive.is_usual() && !Lane::Batch.is_usual());
}

fn sixty_a_minute() -> Limits {
    Limits { a_minute: MinuteLimits { requests: Some(60), tokens: None }, ..limits(100) }
}

#[test]
fn a_look_is_no_request_and_no_limit_by_the_minute_is_about_it() {
    let mut room = Room::default();
    (0..9).for_each(|_| room.take_anyway(&ask(1, 0), sixty_a_minute(), now()));
    assert_eq!(room.look(&ask(1, 10), sixty_a_minute(), now()), Ok(()), "looks use nothing up");
    (0..5).for_each(|_| room.take_anyway(&ask(1, 10), sixty_a_minute(), now()));
    assert!(matches!(room.look(&ask(1, 10), sixty_a_minute(), now()), Err(NoRoom::Paced(_))));
    assert_eq!(room.look(&ask(1, 0), sixty_a_minute(), now()), Ok(()));
}

#[test]
fn batch_leaves_of_a_minute_what_interactive_may_use() {
    let mut room = Room::default();
    (0..3).for_each(|_| room.take_anyway(&ask(1, 10), sixty_a_minute(), now()));
    assert_eq!(room.look(&ask(1, 10), sixty_a_minute(), now()), Ok(()));
    let batch = Ask { lane: Lane::Batch, ..ask(1, 10) };
    assert!(matches!(room.look(&batch, sixty_a_minute(), now()), Err(NoRoom::Paced(_))));
}

#[test]
fn whoever_comes_stands_behind_those_who_wait() {
    let mut room = full(1);
    room.enter(&ask(1, 1), limits(1)).unwrap();
    room.leave(&ask(0, 0), 0, now());
    assert_eq!(room.look(&ask(2, 1), limits(1), now()), Err(NoRoom::ForWaiting));
    assert!(admit(&mut room, limits(1)).is_some());
}

#[test]
fn tokens_may_fill_their_room_to_the_last() {
    let limits = Limits { tokens: Some(100), ..limits(10) };
    let mut room = Room::default();
    room.take_anyway(&ask(1, 60), limits, now());
    assert_eq!(room.look(&ask(1, 40), limits, now()), Ok(()));
    assert_eq!(room.look(&ask(1, 41), limits, now()), Err(NoRoom::Tokens { under_way: 60, of: 100, asked: 41 }));
}

#[test]
fn the_only_stream_that_there_is_serves_batch_too() {
    assert_eq!(Room::default().look(&Ask { lane: Lane::Batch, ..ask(1, 1) }, limits(1), now()), Ok(()));
}

#[rstest]
#[case(1, Ok(()))]
#[case(3, Err(NoRoom::ForInteractive))]
#[case(4, Err(NoRoom::Full))]
fn batch_leaves_streams_to_the_interactive_lane(#[case] open: u32, #[case] seen: Result<(), NoRoom>) {
    let mut room = Room::default();
    (0..open).for_each(|_| room.take_anyway(&ask(1, 1), limits(4), now()));
    assert_eq!(room.look(&Ask { lane: Lane::Batch, ..ask(1, 1) }, limits(4), now()), seen);
}

#[test]
fn batch_streams_are_counted_by_themselves() {
    let (mut room, batch) = (Room::default(), Ask { lane: Lane::Batch, ..ask(1, 1) });
    room.take_anyway(&batch, limits(9), now());
    room.take_anyway(&ask(1, 1), limits(9), now());
    room.leave(&ask(1, 1), 0, now());
    assert_eq!((room.batch_streams(), room.streams()), (1, 1));
    room.leave(&batch, 0, now());
    assert_eq!((room.batch_streams(), room.streams()), (0, 0));
}

#[test]
fn a_limit_that_is_told_holds_from_then_on() {
    let mut room = Room::<u8>::default();
    assert!(!room.pace().is_told());
    let paced = wendor_wire::told_limits::Paced::Requests;
    room.told(ToldLimit { paced, limit: 10, left: 0, whole_in: None }, now());
    assert!(room.pace().is_told());
    assert!(matches!(room.look(&ask(1, 5), limits(9), now()), Err(NoRoom::Paced(_))));
}

#[test]
fn a_queue_without_places_lets_one_pass_through() {
    let (mut room, limits) = (full(1), Limits { queue: 0, ..limits(1) });
    assert!(room.enter(&ask(1, 1), limits).is_ok());
    assert_eq!(room.enter(&ask(1, 1), limits), Err(QueueFull { waiting: 1 }));
}

#[test]
fn a_place_counts_those_who_are_served_before() {
    let limits = Limits { teams: 0, ..limits(1) };
    let mut room = full(1);
    let ids: Vec<WaitId> = [1, 1, 2].iter().map(|who| room.enter(&ask(*who, 1), limits).unwrap()).collect();
    let places: Vec<Option<usize>> = ids.iter().map(|id| room.place(*id)).collect();
    assert_eq!(places, [Some(2), Some(3), Some(2)], "one of each team goes in turn");
    assert_eq!(room.place(99), None);
    assert!(room.give_up(ids[2]) && room.place(ids[1]) == Some(2));
}

/// A turn gives 2,048 tokens of credit to a weight of four and 512 to one.
#[test]
fn the_fewest_turns_decide_and_a_weight_makes_them_fewer() {
    let limits = Limits { teams: 0, ..limits(1) };
    let mut room = full(1);
    room.enter(&ask(1, 1_024), limits).unwrap();
    room.enter(&Ask { weight: 4, ..ask(2, 2_048) }, limits).unwrap();
    assert_eq!(serve(&mut room, 2, limits), [2, 1]);
}
