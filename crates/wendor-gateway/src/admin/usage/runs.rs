//! Figures by run, of which there may be as many as requests: which of them are dearest comes first, and then the figures of those.

use std::collections::BTreeSet;
use std::sync::Arc;

use wendor_core::metering::rollup::RollUp;
use wendor_store::StoreError;
use wendor_store::usage::{Dimension, UsageQuery, Wanted};

use super::{Groups, Lines, MOST_LINES, group_lines, sum};
use crate::app::App;

/// The lines of a range and of the one before it, and the sums over all of both.
pub(super) async fn lines(
    app: &App,
    query: &UsageQuery,
    before: &UsageQuery,
) -> Result<(Lines, RollUp, RollUp), StoreError> {
    let both = [query, before];
    let dearest = app.dearest_runs(query, MOST_LINES).await?;
    let left_out = dearest.all.saturating_sub(dearest.names.len());
    let mut shown: BTreeSet<String> = dearest.names.into_iter().collect();
    let room = MOST_LINES - shown.len();
    let mut is_all = room > 0;
    // What was there before alone is shown as far as there is room.
    if is_all {
        let before = app.dearest_runs(before, MOST_LINES).await?;
        let gone: Vec<String> = before.names.into_iter().filter(|name| !shown.contains(name)).collect();
        is_all = gone.len() <= room && before.all <= MOST_LINES;
        shown.extend(gone.into_iter().take(room));
    }
    let shown = Arc::new(shown);
    let of_shown = asked(app, both, |query| query.wanted = Wanted::Of(Arc::clone(&shown)));
    // The sum of what is shown, where that is all: what comes meanwhile must not stand in one of both alone.
    let ((groups, earlier), of_all) = if is_all {
        (of_shown.await?, None)
    } else {
        // Every line has an end, and there are few of them.
        let (of_shown, of_all) = tokio::try_join!(of_shown, asked(app, both, |query| query.by = Dimension::End))?;
        (of_shown, Some(of_all))
    };
    let Lines { lines, .. } = group_lines(query, &groups, &earlier);
    let (all, all_earlier) = of_all.unwrap_or((groups, earlier));
    Ok((Lines { lines, left_out }, sum(&all), sum(&all_earlier)))
}

/// Figures of both ranges, which are asked for at once, in another way.
async fn asked(
    app: &App,
    both: [&UsageQuery; 2],
    otherwise: impl Fn(&mut UsageQuery),
) -> Result<(Groups, Groups), StoreError> {
    let [now, before] = both.map(|query| {
        let mut query = query.clone();
        otherwise(&mut query);
        query
    });
    tokio::try_join!(app.usage(&now), app.usage(&before))
}
