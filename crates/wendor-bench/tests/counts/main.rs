//! What a request allocates, counted: the same on every machine, in every build. Alone in its process, since the allocator counts all
//! of it; the service runs in it, the database beside it, and the two ends of each connection allocate nothing while it is counted.
//!
//! - [`service`]: the service, in this process
//! - [`lockstep`]: an app and a model's server that go on one step at a time
//! - [`allocations`]: the count

#[cfg(test)]
mod allocations;
#[cfg(test)]
mod lockstep;
#[cfg(test)]
mod service;

#[cfg(test)]
mod tests {
    use std::io::Write;

    use chrono::{DateTime, Utc};
    use wendor_core::catalog::key::{KeyKind, KeyText, RANDOM_BYTES};
    use wendor_core::metering::detail::{Attempt, RequestDetail};
    use wendor_core::metering::entry::{LedgerEntry, Settled, Spooled};
    use wendor_core::metering::spool_frame;
    use wendor_core::name::{Name, OfferName};
    use wendor_core::request_id::RequestId;

    use super::allocations::{Count, counted, kept};
    use super::lockstep::{App, OpenStream, Question};
    use super::service::Counted;

    /// Requests, or events, over which is counted: enough that what happens now and then does not show.
    const REQUESTS: usize = 2_000;
    const EVENTS: usize = 1_000;
    const STREAMS: usize = 200;

    /// What is counted, with its bounds: allocations, and bytes, each of one.
    struct Row {
        what: &'static str,
        count: Count,
        bound: Count,
    }

    impl Row {
        fn is_within(&self) -> bool {
            self.count.allocations <= self.bound.allocations && self.count.bytes <= self.bound.bytes
        }
    }

    /// Counts until one is within the bound, at most so often.
    const TRIES: usize = 4;

    /// What the service does beside requests (looking at upstreams, summing up) is counted with them and only ever adds, so one count within
    /// the bound shows it: what each request or event costs is in every count.
    fn row(what: &'static str, bound: Count, mut count: impl FnMut() -> Count) -> Row {
        let mut row = Row { what, count: count(), bound };
        for _ in 1..TRIES {
            if row.is_within() {
                break;
            }
            row.count = count();
        }
        row
    }

    fn at_most(allocations: f64, bytes: f64) -> Count {
        Count { allocations, bytes }
    }

    /// Of a whole request, with what comes after it: settling, spool, drain. The drain waits until all have been asked: what a batch costs
    /// depends little on what it holds, and how many come together would depend on the machine.
    fn whole_request(service: &Counted, key: &str) -> Count {
        let mut app = App::connect(service.address());
        let question = Question::whole(key);
        (0..REQUESTS / 4).for_each(|_| app.ask(&question, 200));
        app.wait_until_drained();
        let held = service.hold_ledger();
        let asked = counted(|| (0..REQUESTS).for_each(|_| app.ask(&question, 200)));
        let drained = counted(|| {
            service.let_go(held);
            app.wait_until_drained();
        });
        asked.and(drained).each(REQUESTS)
    }

    fn refusal(service: &Counted) -> Count {
        let mut app = App::connect(service.address());
        let (unknown, _) = KeyText::mint(KeyKind::App, &[7; RANDOM_BYTES]);
        let question = Question::whole(unknown.expose());
        (0..REQUESTS / 4).for_each(|_| app.ask(&question, 401));
        counted(|| (0..REQUESTS).for_each(|_| app.ask(&question, 401))).each(REQUESTS)
    }

    /// Of one event more, where each comes alone.
    fn event(service: &Counted, question: &Question) -> Count {
        let mut app = App::connect(service.address());
        let mut of = |events: usize| {
            service.server().will_send(events);
            app.ask_stream(question, events, service.server());
            // What comes after a stream is not of its events.
            app.wait_until_drained();
            counted(|| {
                service.server().will_send(events);
                app.ask_stream(question, events, service.server());
            })
        };
        let (few, many) = (of(EVENTS / 10), of(EVENTS / 10 + EVENTS));
        many.beyond(few).each(EVENTS)
    }

    /// What is kept while a stream is open, both its connections included.
    fn open_stream(service: &Counted, question: &Question) -> Count {
        let mut buffer = [0; 16 * 1024];
        let mut of = |streams: usize| {
            service.server().will_send(2);
            let mut open = Vec::with_capacity(streams);
            let opened =
                || open.extend((0..streams).map(|_| OpenStream::open(service.address(), question, &mut buffer)));
            let kept = kept(opened);
            service.server().may_end();
            open.into_iter().for_each(|stream| stream.end(&mut buffer));
            App::connect(service.address()).wait_until_drained();
            kept
        };
        // One alone before, for what is kept once: its connection to the upstream is one of the next.
        of(1);
        of(STREAMS).each(STREAMS)
    }

    /// Entries as requests leave them.
    fn settled(numbers: std::ops::Range<u32>) -> Vec<Settled> {
        let at: DateTime<Utc> = "2026-11-25T08:10:00Z".parse().unwrap();
        let name = |text: &str| Name::parse(text).unwrap();
        let offer = OfferName::parse("quayside/dunlin-70b").unwrap();
        let attempt = |offer: &OfferName| Attempt {
            offer: offer.clone(),
            began_ms: 1,
            ended_ms: 40,
            failure: None,
            spent: None,
            served_from: None,
        };
        let of = |number: u32| {
            let id = RequestId::mint(at, 7, number);
            let entry = LedgerEntry {
                key: "3f9k2mq7".into(),
                offer: Some(offer.clone()),
                ..LedgerEntry::of_request(at, id, name("timetables"), name("harbour"))
            };
            let detail = Some(RequestDetail { attempts: vec![attempt(&offer)], ..RequestDetail::default() });
            Settled { entry, detail, quotas: Vec::new() }
        };
        numbers.map(of).collect()
    }

    /// An entry as its frame.
    fn settled_entry() -> Count {
        let (entries, mut frame) = (settled(0..1_000), Vec::with_capacity(4_096));
        let all = counted(|| {
            for entry in &entries {
                frame.clear();
                spool_frame::write_settled(entry, &mut frame);
            }
        });
        all.each(entries.len())
    }

    /// An entry into the database, where many come together.
    fn drained_entry(service: &Counted) -> Count {
        let entries: Vec<Spooled> = settled(0..2_000).iter().map(Settled::spooled).collect();
        let (first, second) = entries.split_at(1_000);
        service.drain(first);
        counted(|| service.drain(second)).each(second.len())
    }

    #[test]
    fn what_is_allocated_stays_within_its_bounds() {
        let service = Counted::begin();
        let key = service.key().to_owned();
        let rows = [
            // What is below stands for what is reached, and must not grow; 60 of a whole request are wanted.
            row("a whole request, drain included", at_most(55.0, 36_000.0), || whole_request(&service, &key)),
            row("a refusal of an unknown key", at_most(29.0, 12_600.0), || refusal(&service)),
            // Less than one in fifty is what others do meanwhile.
            row("an event that passes", at_most(0.02, 20.0), || event(&service, &Question::streamed(&key))),
            row("an event that is translated", at_most(14.5, 1_250.0), || event(&service, &Question::translated(&key))),
            row("an open stream, kept", at_most(40.0, 46_000.0), || open_stream(&service, &Question::streamed(&key))),
            row("a settled entry", at_most(1.5, 1_200.0), settled_entry),
            row("a drained entry, of a thousand", at_most(1.6, 2_600.0), || drained_entry(&service)),
        ];
        let mut out = std::io::stdout().lock();
        for Row { what, count, bound } in &rows {
            let (Count { allocations, bytes }, Count { allocations: most, bytes: most_bytes }) = (count, bound);
            writeln!(
                out,
                "{what:<36} {allocations:>7.1} allocations (at most {most}), {bytes:>8.0} bytes (at most {most_bytes})"
            )
            .unwrap();
        }
        let above = rows.iter().filter(|row| !row.is_within());
        assert_eq!(above.map(|row| row.what).collect::<Vec<_>>(), Vec::<&str>::new());
    }
}
