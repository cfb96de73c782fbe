//! Figures by run, of which there may be as many as requests: what each cost comes first, and then the figures of those that are shown.

use std::sync::Arc;

use wendor_core::metering::rollup::RollUp;
use wendor_store::StoreError;
use wendor_store::usage::{Dimension, UsageQuery, Wanted};

use super::{Groups, Lines, MOST_LINES, by_cost, group_lines, sum};
use crate::app::App;

/// The lines of a range and of the one before it, and the sums over all of both.
pub(super) async fn lines(
    app: &App,
    query: &UsageQuery,
    before: &UsageQuery,
) -> Result<(Lines, RollUp, RollUp), StoreError> {
    let both = [query, before];
    let (groups, earlier) = asked(app, both, |query| query.wanted = Wanted::Costs).await?;
    let names = by_cost(&groups, &earlier);
    let left_out = names.len().saturating_sub(MOST_LINES);
    let shown = Arc::new(names.into_iter().take(MOST_LINES).cloned().collect());
    let (groups, earlier) = asked(app, both, |query| query.wanted = Wanted::Of(Arc::clone(&shown))).await?;
    let Lines { lines, .. } = group_lines(query, &groups, &earlier);
    // The sum of what is shown, where that is all: what comes meanwhile must not stand in one of both alone.
    let (all, all_earlier) = match left_out {
        0 => (groups, earlier),
        // Every line has an end, and there are few of them.
        _ => asked(app, both, |query| query.by = Dimension::End).await?,
    };
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
