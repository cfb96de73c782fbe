//! What a request allocates, counted: the same on every machine, in every build. Alone in its process, since the allocator counts all
//! of it; the service runs in it, the database beside it, and the two ends of each connection allocate nothing while it is counted.
//!
//! - [`service`]: the service, in this process
//! - [`lockstep`]: an app and a model's server that go on one step at a time
//! - [`allocations`]: the count

mod allocations;
mod lockstep;
mod service;

#[cfg(test)]
mod tests {
    use std::io::Write;

    use wendor_core::catalog::key::{KeyKind, KeyText, RANDOM_BYTES};

    use super::allocations::{Count, counted};
    use super::lockstep::{App, Question};
    use super::service::Counted;

    /// Requests, or events, over which is counted: enough that what happens now and then does not show.
    const REQUESTS: usize = 2_000;
    const EVENTS: usize = 1_000;

    /// What is counted, with its bounds: allocations, and bytes, each of one.
    struct Row {
        what: &'static str,
        count: Count,
        most: f64,
        most_bytes: f64,
    }

    fn row(what: &'static str, (most, most_bytes): (f64, f64), count: Count) -> Row {
        Row { what, count, most, most_bytes }
    }

    /// Of a whole request, with what comes after it: settling, spool, drain.
    fn whole_request(service: &Counted, key: &str) -> Count {
        let mut app = App::connect(service.address());
        let question = Question::whole(key);
        (0..REQUESTS / 4).for_each(|_| app.ask(&question, 200));
        app.wait_until_drained();
        let all = counted(|| {
            (0..REQUESTS).for_each(|_| app.ask(&question, 200));
            app.wait_until_drained();
        });
        all.each(REQUESTS)
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

    #[test]
    fn what_is_allocated_stays_within_its_bounds() {
        let service = Counted::begin();
        let key = service.key().to_owned();
        let rows = [
            row("a whole request, drain included", (60.0, 60_000.0), whole_request(&service, &key)),
            row("a refusal of an unknown key", (60.0, 60_000.0), refusal(&service)),
            row("an event that passes", (0.0, 0.0), event(&service, &Question::streamed(&key))),
            row("an event that is translated", (10.0, 1_000.0), event(&service, &Question::translated(&key))),
        ];
        let mut out = std::io::stdout().lock();
        for Row { what, count, most, most_bytes } in &rows {
            let Count { allocations, bytes } = count;
            writeln!(
                out,
                "{what:<36} {allocations:>7.1} allocations (at most {most}), {bytes:>8.0} bytes (at most {most_bytes})"
            )
            .unwrap();
        }
        let above = rows.iter().filter(|row| row.count.allocations > row.most || row.count.bytes > row.most_bytes);
        assert_eq!(above.map(|row| row.what).collect::<Vec<_>>(), Vec::<&str>::new());
    }
}
