//! Whether the name that an app asks for is one to keep: routes are renamed and retire on a day. Until then the app is told with every
//! answer; from then on it is refused, with the name to use instead.

use chrono::{NaiveDate, NaiveTime};

use super::route::Route;
use crate::name::Name;

/// How the name of a route stands on a day.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Standing {
    /// It is the route's own, and nothing is planned.
    Kept,
    /// It is served still, and will not be for ever.
    Leaving(Leaving),
    /// It is served no more.
    Gone(Gone),
}

/// A name that is to be left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leaving {
    /// The first day on which it is served no more, where one is set.
    pub until: Option<NaiveDate>,
    /// What an app is told, in ASCII, as it stands in a header.
    pub words: String,
}

impl Leaving {
    /// From when on it is served no more, as the header `sunset` has it (RFC 8594).
    #[must_use]
    pub fn sunset(&self) -> Option<String> {
        let at = self.until?.and_time(NaiveTime::MIN);
        Some(at.format("%a, %d %b %Y %H:%M:%S GMT").to_string())
    }
}

/// A name that is served no more.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Gone {
    /// The first day on which it was not.
    pub since: NaiveDate,
    /// The route to ask instead, if there is one.
    pub instead: Option<Name>,
    /// Whether the route is there under another name.
    pub is_renamed: bool,
}

/// How `asked`, which leads to `route` of that name, stands on a day.
#[must_use]
pub fn standing(name: &Name, route: &Route, asked: &str, today: NaiveDate) -> Standing {
    let former = route.former.iter().find(|former| former.name.as_str() == asked && name.as_str() != asked);
    let has_passed = |day: &NaiveDate| *day <= today;
    if let Some(since) = route.retires_on.filter(has_passed) {
        return Standing::Gone(Gone { since, instead: route.successor.clone(), is_renamed: false });
    }
    if let Some(since) = former.and_then(|former| former.until).filter(has_passed) {
        return Standing::Gone(Gone { since, instead: Some(name.clone()), is_renamed: true });
    }
    let renamed = former.map(|former| {
        let until = former.until.map_or_else(String::new, |day| format!("; `{asked}` is served until {day}"));
        format!("route: `{asked}` is called `{name}` now{until}")
    });
    let retires = route.retires_on.map(|day| {
        let instead = route.successor.as_ref().map_or_else(String::new, |other| format!("; use `{other}` instead"));
        format!("route: `{name}` retires on {day}{instead}")
    });
    let until = former.and_then(|former| former.until).into_iter().chain(route.retires_on).min();
    let words: Vec<String> = renamed.into_iter().chain(retires).collect();
    if words.is_empty() { Standing::Kept } else { Standing::Leaving(Leaving { until, words: words.join("; ") }) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::route::FormerName;
    use rstest::rstest;

    #[rstest]
    #[case::kept("cargo", None, None, "kept")]
    #[case::renamed("manifests", None, None, "leaving -: route: `manifests` is called `cargo` now")]
    #[case::renamed_for_a_while(
        "manifests",
        Some("2026-12-31"),
        None,
        "leaving 2026-12-31: route: `manifests` is called `cargo` now; `manifests` is served until 2026-12-31"
    )]
    #[case::renamed_long_ago("manifests", Some("2026-11-28"), None, "gone 2026-11-28, renamed: cargo")]
    #[case::retires(
        "cargo",
        None,
        Some("2027-01-01"),
        "leaving 2027-01-01: route: `cargo` retires on 2027-01-01; use `freight` instead"
    )]
    #[case::retired_today("cargo", None, Some("2026-11-28"), "gone 2026-11-28: freight")]
    #[case::the_first_day_counts(
        "manifests",
        Some("2027-02-01"),
        Some("2027-01-01"),
        "leaving 2027-01-01: route: `manifests` is called `cargo` now; `manifests` is served until 2027-02-01; route: `cargo` retires on 2027-01-01; use `freight` instead"
    )]
    #[case::a_retired_one_by_its_former_name("manifests", None, Some("2026-01-01"), "gone 2026-01-01: freight")]
    fn a_name_stands_so(
        #[case] asked: &str,
        #[case] until: Option<&str>,
        #[case] retires: Option<&str>,
        #[case] expected: &str,
    ) {
        let day = |text: &str| text.parse::<NaiveDate>().unwrap();
        let name = |text: &str| Name::parse(text).unwrap();
        let route = Route {
            retires_on: retires.map(day),
            successor: Some(name("freight")),
            former: vec![FormerName { name: name("manifests"), until: until.map(day) }],
            ..Route::of(Vec::new())
        };
        let told = match standing(&name("cargo"), &route, asked, day("2026-11-28")) {
            Standing::Kept => "kept".to_owned(),
            Standing::Leaving(Leaving { until, words }) => {
                format!("leaving {}: {words}", until.map_or_else(|| "-".to_owned(), |day| day.to_string()))
            }
            Standing::Gone(Gone { since, instead, is_renamed }) => {
                let renamed = if is_renamed { ", renamed" } else { "" };
                format!("gone {since}{renamed}: {}", instead.map(String::from).unwrap_or_default())
            }
        };
        assert_eq!(told, expected);
    }
}
