use super::*;
use rstest::rstest;
use wendor_core::name::Name;
use wendor_store::usage::UsageFilter;

fn at(text: &str) -> DateTime<Utc> {
    text.parse().unwrap()
}

fn query(by: Dimension, team: Option<&str>) -> UsageQuery {
    let filter = UsageFilter { team: team.map(|team| Name::parse(team).unwrap()), ..UsageFilter::default() };
    UsageQuery::of(at("2026-11-01T00:00:00Z"), at("2026-11-02T08:30:00.5Z"), by, filter)
}

fn groups(costs: &[(&str, &str)]) -> Groups {
    let group = |cost: &str| RollUp { cost: Money::parse(cost).unwrap(), requests: 1, ..RollUp::default() };
    costs.iter().map(|(name, cost)| ((*name).to_owned(), group(cost))).collect()
}

#[rstest]
#[case::team(Dimension::Team, None, "freight-desk", "&team=freight-desk")]
#[case::offer_of_a_team(
    Dimension::Offer,
    Some("timetables"),
    "quarry/fulmar-large",
    "&team=timetables&offer=quarry/fulmar-large"
)]
#[case::run(Dimension::Run, None, "night & day", "&run=night%20%26%20day")]
#[case::end(Dimension::End, None, "cut-off", "&end=cut-off")]
#[case::what_has_no_end(Dimension::End, None, "attempt", "")]
#[case::label(Dimension::Label, None, "search", "&label=feature%3Dsearch")]
#[case::without_a_label(Dimension::Label, None, "", "")]
fn each_line_leads_to_its_requests(
    #[case] by: Dimension,
    #[case] team: Option<&str>,
    #[case] name: &str,
    #[case] rest: &str,
) {
    let query = UsageQuery { label: Some("feature".to_owned()), ..query(by, team) };
    let lines = group_lines(&query, &groups(&[(name, "1")]), &Groups::new()).lines;
    assert_eq!(
        lines[0].requests_query,
        format!("from=2026-11-01T00:00:00Z&to=2026-11-02T08:30:00.500Z&tried=last{rest}")
    );
}

#[test]
fn the_dearest_stands_first_and_what_is_used_no_more_last() {
    let (now, before) = (groups(&[("a", "1"), ("b", "2")]), groups(&[("b", "1"), ("gone", "9")]));
    let lines = group_lines(&query(Dimension::Team, None), &now, &before).lines;
    let pairs: Vec<_> =
        lines.iter().map(|line| (line.name.as_str(), line.figures.requests, line.before.cost.as_str())).collect();
    assert_eq!(pairs, [("b", 1, "1"), ("a", 1, "0"), ("gone", 0, "9")]);
}

#[test]
fn every_day_has_a_line_beside_the_one_in_its_place_before() {
    let query = query(Dimension::Day, Some("timetables"));
    let (now, before) = (groups(&[("2026-11-02", "3")]), groups(&[("2026-10-30", "7"), ("2026-10-31", "4")]));
    let lines = step_lines(&query, Dimension::Day.step().unwrap(), shift_of(query.from, query.to), &now, &before).lines;
    let totals: Vec<_> =
        lines.iter().map(|line| (line.name.as_str(), line.figures.cost.as_str(), line.before.cost.as_str())).collect();
    assert_eq!(totals, [("2026-11-01", "0", "7"), ("2026-11-02", "3", "4")]);
    assert_eq!(
        lines[1].requests_query,
        "from=2026-11-02T00:00:00Z&to=2026-11-02T08:30:00.500Z&tried=last&team=timetables"
    );
}

#[rstest]
#[case::a_week_so_far("2026-11-17T00:00:00Z", "2026-11-23T08:30:00Z", 7 * 24 * 60)]
#[case::whole_days("2026-11-17T00:00:00Z", "2026-11-20T00:00:00Z", 3 * 24 * 60)]
#[case::hours("2026-11-17T08:00:00Z", "2026-11-17T10:20:00Z", 3 * 60)]
#[case::a_month("2026-10-01T00:00:00Z", "2026-11-01T00:00:00Z", 30 * 24 * 60)]
#[case::a_month_after_a_shorter_one("2026-03-01T00:00:00Z", "2026-04-01T00:00:00Z", 28 * 24 * 60)]
#[case::the_first_of_a_year("2026-01-01T00:00:00Z", "2026-02-01T00:00:00Z", 31 * 24 * 60)]
#[case::a_month_and_a_day("2026-10-01T00:00:00Z", "2026-11-02T00:00:00Z", 32 * 24 * 60)]
#[case::an_odd_range("2026-11-17T08:10:00Z", "2026-11-17T10:20:00Z", 130)]
fn a_range_is_compared_with_the_same_time_before(#[case] from: &str, #[case] to: &str, #[case] minutes: i64) {
    assert_eq!(shift_of(at(from), at(to)), TimeDelta::minutes(minutes));
}

#[rstest]
#[case::whole(
    "2026-10-01T00:00:00Z",
    "2026-11-01T00:00:00Z",
    "2026-12-01T00:00:00Z",
    "2026-09-01T00:00:00Z",
    "2026-10-01T00:00:00Z"
)]
#[case::so_far(
    "2026-11-01T00:00:00Z",
    "2026-12-01T00:00:00Z",
    "2026-11-11T08:00:00Z",
    "2026-10-01T00:00:00Z",
    "2026-10-11T08:00:00Z"
)]
#[case::longer_than_the_one_before(
    "2026-03-01T00:00:00Z",
    "2026-04-01T00:00:00Z",
    "2026-03-30T00:00:00Z",
    "2026-02-01T00:00:00Z",
    "2026-03-01T00:00:00Z"
)]
#[case::to_come(
    "2027-03-01T00:00:00Z",
    "2027-04-01T00:00:00Z",
    "2026-11-11T08:00:00Z",
    "2027-02-01T00:00:00Z",
    "2027-02-01T00:00:00Z"
)]
fn as_much_of_the_previous_period_is_compared_as_has_passed(
    #[case] from: &str,
    #[case] to: &str,
    #[case] now: &str,
    #[case] before_from: &str,
    #[case] before_to: &str,
) {
    let query = UsageQuery { from: at(from), to: at(to), ..query(Dimension::Team, None) };
    let before = previous_period(&query, shift_of(query.from, query.to), at(now));
    assert_eq!((before.from, before.to), (at(before_from), at(before_to)));
}

#[rstest]
#[case::a_week(Dimension::Day, 7, 7)]
#[case::a_month(Dimension::Day, 31, 28)]
#[case::a_short_month(Dimension::Day, 30, 28)]
#[case::five_weeks_are_nearer(Dimension::Day, 33, 35)]
#[case::some_days(Dimension::Day, 3, 3)]
#[case::by_hour(Dimension::Hour, 31, 31)]
fn a_day_is_compared_with_the_same_weekday(#[case] by: Dimension, #[case] days: i64, #[case] back: i64) {
    assert_eq!(same_weekday(by, TimeDelta::days(days)), TimeDelta::days(back));
}
