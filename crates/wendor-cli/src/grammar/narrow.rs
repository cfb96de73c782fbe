//! What figures and lists are narrowed by: a range of time, and names. Shared by every command that shows some.

use clap::Args;

/// A range of time.
#[derive(Clone, Debug, Default, Args)]
pub struct RangeArgs {
    /// The last hours or whole days up to today, UTC: `24h`, `7d`.
    #[arg(long, value_name = "TIME", conflicts_with_all = ["from", "to", "month"])]
    pub last: Option<String>,
    /// A calendar month, UTC: `2026-10`; `this` and `last` for that of today and the one before.
    #[arg(long, value_name = "MONTH", conflicts_with_all = ["from", "to"])]
    pub month: Option<String>,
    /// From this day or instant on: `2026-11-01`, `2026-11-01T08:00:00Z`.
    #[arg(long, value_name = "TIME")]
    pub from: Option<String>,
    /// Up to, and without, this day or instant.
    #[arg(long, value_name = "TIME")]
    pub to: Option<String>,
}

/// What narrows figures and lists.
#[derive(Clone, Debug, Default, Args)]
pub struct NarrowArgs {
    /// Only this team.
    #[arg(long, value_name = "NAME")]
    pub team: Option<String>,
    /// Only this route.
    #[arg(long, value_name = "NAME")]
    pub route: Option<String>,
    /// Only this offer, as `upstream/model`.
    #[arg(long, value_name = "OFFER")]
    pub offer: Option<String>,
    /// Only offers of this upstream.
    #[arg(long, value_name = "NAME")]
    pub upstream: Option<String>,
    /// Only the key of this id.
    #[arg(long, value_name = "ID")]
    pub key: Option<String>,
}
