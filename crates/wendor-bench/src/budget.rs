//! Where the time of a whole request goes, step by step: samples of the process with their call stacks, each counted for the step that it
//! is in, so that what a step asks of the allocator, of the kernel or of a library counts for it.

use std::collections::BTreeMap;

/// A step: what it is called, and what stands in the names of its functions. Of two that a stack goes through the inner one counts, and of
/// two that fit a function the first.
type Step = (&'static str, &'static [&'static str]);

/// The steps, the narrower ones first.
const STEPS: [Step; 11] = [
    ("drain", &["spool_drain", "wendor_store::"]),
    ("spool", &["wendor_gateway::spool::"]),
    ("settle", &["data_plane::settle::", "spool_frame::write", "OpenAttempt>::answered"]),
    (
        "admit",
        &["data_plane::admit::", "data_plane::presented::", "marks::Marks", "body::collect", "data_plane::reached::"],
    ),
    ("plan", &["data_plane::plan::", "routing::plan::"]),
    (
        "make ready",
        &["launch::Launch::prepare", "serving::sending::", "data_plane::outlet::", "launch::attempt_headers"],
    ),
    ("HTTP to upstreams", &["hyper::", "hyper_util::", "data_plane::dated::"]),
    (
        "attempt",
        &[
            "data_plane::attempt::",
            "data_plane::open_attempt::",
            "data_plane::exchange::",
            "data_plane::race::",
            "data_plane::launch::",
            "data_plane::whole_reply::",
            "data_plane::beginning::",
        ],
    ),
    ("answer", &["data_plane::relay::", "data_plane::answer", "data_plane::chat_completions", "data_plane::refusal::"]),
    ("HTTP of apps", &["actix_http", "actix_web", "actix_service", "actix_server", "wendor_gateway::sockets::"]),
    ("runtime", &["tokio::"]),
];

/// What a step took of all samples.
#[derive(Clone, Copy, Debug, Default, PartialEq)]
pub struct Share {
    /// In the process itself.
    pub own: f64,
    /// In the kernel, on its behalf.
    pub kernel: f64,
}

impl Share {
    /// Both.
    pub fn all(self) -> f64 {
        self.own + self.kernel
    }
}

/// Reads the samples of `perf script`: blocks with a line a frame, the innermost first. Gives what each step took of all, the most first.
pub fn shares(samples: &str) -> Vec<(&'static str, Share)> {
    let mut shares: BTreeMap<&'static str, Share> = BTreeMap::new();
    let mut all = 0.0;
    for sample in samples.split("\n\n") {
        let frames: Vec<&str> = sample.lines().skip(1).filter(|line| !line.trim().is_empty()).collect();
        let Some(innermost) = frames.first() else { continue };
        all += 1.0;
        let share = shares.entry(step_of(&frames)).or_default();
        let is_kernel = innermost.contains("[kernel") || innermost.contains("([guest");
        *(if is_kernel { &mut share.kernel } else { &mut share.own }) += 1.0;
    }
    let part = |share: Share| Share { own: share.own / all, kernel: share.kernel / all };
    let mut shares: Vec<(&'static str, Share)> = shares.into_iter().map(|(step, share)| (step, part(share))).collect();
    shares.sort_by(|(_, a), (_, b)| b.all().total_cmp(&a.all()));
    shares
}

fn step_of(frames: &[&str]) -> &'static str {
    let of_frame = |frame: &&str| {
        let fits = |(_, parts): &&Step| parts.iter().any(|part| frame.contains(part));
        STEPS.iter().find(fits).map(|(step, _)| *step)
    };
    frames.iter().find_map(of_frame).unwrap_or("other")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_sample_counts_for_the_step_that_it_is_in() {
        let samples = "worker\n\
            1 tcp_sendmsg ([kernel.kallsyms])\n\
            2 hyper::proto::h1::io::Buffered<T,B>::poll_flush (wendor)\n\
            3 tokio::runtime::task::raw::poll (wendor)\n\n\
            worker\n\
            1 mi_malloc (wendor)\n\
            2 wendor_gateway::data_plane::settle::close (wendor)\n\
            3 wendor_gateway::data_plane::relay::answer::{{closure}} (wendor)\n\n\
            spool-sync\n\
            1 fsync ([kernel.kallsyms])\n\
            2 wendor_gateway::spool::writer::Writer::run (wendor)\n\
            3 std::sys::backtrace::__rust_begin_short_backtrace (wendor)\n\n\
            worker\n\
            1 memcpy (libc)\n\
            2 std::sys::backtrace::__rust_begin_short_backtrace (wendor)\n\n\
            worker\n\
            1 wendor_core::routing::plan::make (wendor)\n\
            2 wendor_gateway::data_plane::answer::{{closure}} (wendor)\n";
        let fifth = |is_kernel: bool| Share {
            own: if is_kernel { 0.0 } else { 0.2 },
            kernel: if is_kernel { 0.2 } else { 0.0 },
        };
        let found: BTreeMap<_, _> = shares(samples).into_iter().collect();
        let expected = [
            ("HTTP to upstreams", fifth(true)),
            ("settle", fifth(false)),
            ("spool", fifth(true)),
            ("other", fifth(false)),
            ("plan", fifth(false)),
        ];
        assert_eq!(found, expected.into());
    }
}
