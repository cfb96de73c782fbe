//! What a stream may take of memory, counted by the allocator: alone in its process, since the count is of all of it.

#[cfg(test)]
mod tests {
    use chrono::DateTime;
    use peak_alloc::PeakAlloc;
    use wendor_wire::codec::AnswerHead;
    use wendor_wire::conversation::{FunctionForm, UsageFrame};
    use wendor_wire::dialect::Dialect;
    use wendor_wire::passage::{Passage, Step};
    use wendor_wire::seal::SealDomain;

    #[global_allocator]
    static ALLOCATOR: PeakAlloc = PeakAlloc;

    /// One event of eight megabytes, its parts while it is translated, and the room that a buffer takes while it grows.
    const CAP_MB: f32 = 80.0;

    fn head() -> AnswerHead {
        AnswerHead {
            request: "01JDF3-7QK2M0XZ4T".to_owned(),
            model: "night-sailings".to_owned(),
            at: DateTime::UNIX_EPOCH,
            usage_frame: UsageFrame::Asked,
            functions: FunctionForm::Tools,
            input_estimate: 1,
            estimates_usage: false,
            seals: SealDomain::named("farlight"),
        }
    }

    /// A line of 50 MB that never ends, and one event as large as one may be, through every pair of dialects.
    #[test]
    fn no_stream_takes_more_than_the_cap() {
        let megabyte = vec![b'x'; 1024 * 1024];
        for from in Dialect::ALL {
            for to in Dialect::ALL {
                ALLOCATOR.reset_peak_usage();
                let before = ALLOCATOR.current_usage_as_mb();
                let mut endless = Passage::new(from, to, head());
                assert!((0..50).any(|_| endless.push(&megabyte).is_err()), "{from} to {to}");
                drop(endless);
                let mut large = Passage::new(from, to, head());
                let text = "x".repeat(7 * 1024 * 1024);
                let frame = match from {
                    Dialect::ChatCompletions => {
                        format!("data: {{\"choices\":[{{\"index\":0,\"delta\":{{\"content\":\"{text}\"}}}}]}}\n\n")
                    }
                    Dialect::Responses => {
                        format!("data: {{\"type\":\"response.output_text.delta\",\"delta\":\"{text}\"}}\n\n")
                    }
                    Dialect::Messages => format!(
                        "data: {{\"type\":\"content_block_delta\",\"index\":0,\"delta\":{{\"type\":\"text_delta\",\"text\":\"{text}\"}}}}\n\n"
                    ),
                    Dialect::GenerateContent => format!(
                        "data: {{\"candidates\":[{{\"content\":{{\"parts\":[{{\"text\":\"{text}\"}}]}}}}]}}\n\n"
                    ),
                    Dialect::LocalChat => {
                        format!("{{\"message\":{{\"role\":\"assistant\",\"content\":\"{text}\"}},\"done\":false}}\n")
                    }
                };
                large.push(frame.as_bytes()).unwrap();
                assert!(matches!(large.step(), Step::Send(_)), "{from} to {to}");
                let peak = ALLOCATOR.peak_usage_as_mb() - before;
                assert!(peak < CAP_MB, "{from} to {to}: {peak} MB");
            }
        }
    }
}
