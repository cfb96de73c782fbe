//! A check as it runs, for whoever watches: a line of JSON for each step as it begins and as it ends, and the whole report at the end. Whoever
//! goes away ends it: the body holds the check, and is dropped with the connection.

use std::convert::Infallible;
use std::future::Future;
use std::pin::Pin;

use actix_web::HttpResponse;
use bytes::Bytes;
use futures_util::stream::unfold;
use serde::{Deserialize, Serialize};
use tokio::sync::mpsc::{UnboundedReceiver, unbounded_channel};
use utoipa::ToSchema;

use super::check_report::{CheckReport, CheckStepLine, Numbered};
use super::problem::Problem;
use crate::checks::{Progress, Subject, Watcher};

/// What a check is asked for with, to be watched.
pub const WATCHED: &str = "application/x-ndjson";

/// A line of a check that is watched.
#[derive(Clone, Debug, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum CheckLine {
    /// This step begins.
    Begins(String),
    /// It is over.
    Ended(Box<CheckStepLine>),
    /// All of it is over. The last line.
    Report(Box<CheckReport>),
    /// It could not be kept or told; why. The last line.
    Failed(String),
}

type Work = Pin<Box<dyn Future<Output = Result<CheckReport, Problem>>>>;

/// Where a watched check is.
struct Watched {
    told: UnboundedReceiver<Progress>,
    /// `None` once it is over.
    work: Option<Work>,
    last: Option<CheckLine>,
    numbered: Numbered,
}

/// The answer that tells of a check as it runs. `work` makes it, with whom it is to tell.
pub(super) fn answer<F>(subject: Subject, work: impl FnOnce(Watcher) -> F) -> HttpResponse
where
    F: Future<Output = Result<CheckReport, Problem>> + 'static,
{
    let (tell, told) = unbounded_channel();
    let watched = Watched { told, work: Some(Box::pin(work(tell))), last: None, numbered: Numbered::of(subject) };
    let lines = unfold(watched, |mut watched| async move {
        let line = watched.next().await?;
        let mut text = serde_json::to_vec(&line).unwrap_or_default();
        text.push(b'\n');
        Some((Ok::<_, Infallible>(Bytes::from(text)), watched))
    });
    HttpResponse::Ok().content_type(WATCHED).streaming(lines)
}

impl Watched {
    async fn next(&mut self) -> Option<CheckLine> {
        loop {
            let Some(work) = &mut self.work else {
                // What was told before the end comes before it.
                return match self.told.recv().await {
                    Some(told) => Some(self.line(told)),
                    None => self.last.take(),
                };
            };
            tokio::select! {
                biased;
                Some(told) = self.told.recv() => return Some(self.line(told)),
                report = work => {
                    self.work = None;
                    self.last = Some(match report {
                        Ok(report) => CheckLine::Report(Box::new(report)),
                        Err(problem) => CheckLine::Failed(problem.to_string()),
                    });
                }
            }
        }
    }

    fn line(&mut self, told: Progress) -> CheckLine {
        match told {
            Progress::Begins(step) => CheckLine::Begins(step.as_str().to_owned()),
            Progress::Ended(step) => CheckLine::Ended(Box::new(self.numbered.line(&step))),
        }
    }
}
