//! One figure, wherever it is read: the console's pages and the command line agree to the last digit.

use chrono::{Days, NaiveTime, Utc};
use rust_decimal::Decimal;
use serde_json::Value;
use wendor_e2e::browser::Browser;
use wendor_e2e::ferry::Ferry;

use super::{open, signed_in, with_past};

/// A line of a page's last table: name, exact cost, requests, the rest as shown.
async fn lines(browser: &Browser, table: &str) -> Vec<Vec<String>> {
    let read = format!(
        "return [...document.querySelector('{table}').querySelectorAll('tbody tr')].map(line =>
            [...line.children].map(cell => cell.querySelector('[title]')?.title ?? cell.innerText.trim()))"
    );
    serde_json::from_value(browser.script(&read).await).unwrap()
}

async fn usage(ferry: &Ferry, args: &[&str]) -> Value {
    let ran = ferry.wendor(&[&["usage", "--json"], args].concat()).await;
    assert_eq!(ran.status, 0, "{}", ran.err);
    serde_json::from_str(&ran.out).unwrap()
}

/// Every line of the command line, and its sum, stands on the page with the same cost, requests and share not answered.
fn agree(page: &[Vec<String>], usage: &Value, cost: usize, requests: usize, failed: usize) {
    let mut lines: Vec<&Value> = usage["lines"].as_array().unwrap().iter().collect();
    assert!(lines.len() > 1, "there is something to compare");
    lines.push(&usage["together"]);
    for line in lines {
        let name = line["name"].as_str().unwrap();
        let shown =
            page.iter().find(|cells| cells[0] == name).unwrap_or_else(|| panic!("{name} is not on the page: {page:?}"));
        let exact: Decimal = shown[cost].split(' ').next().unwrap().parse().unwrap();
        assert_eq!(exact, line["cost"].as_str().unwrap().parse::<Decimal>().unwrap(), "cost of {name}");
        let count: u64 = shown[requests].replace(',', "").parse().unwrap();
        assert_eq!(count, line["requests"].as_u64().unwrap(), "requests of {name}");
        let share = line["not_answered"].as_u64().unwrap() * 10_000 / count.max(1);
        let on_page: Decimal = shown[failed].trim_end_matches('%').parse().unwrap();
        assert!(
            (on_page * Decimal::from(100) - Decimal::from(share)).abs() <= Decimal::ONE,
            "not answered of {name}: {on_page}"
        );
    }
}

#[tokio::test]
async fn now_and_usage_show_what_the_command_line_says() {
    let ferry = with_past(16).await;
    let browser = signed_in(&ferry, "operator", None).await;
    let today = Utc::now().date_naive();
    let yesterday = today - Days::new(1);
    let of_yesterday = usage(&ferry, &["--from", &yesterday.to_string(), "--to", &today.to_string()]).await;
    agree(&lines(&browser, "table").await, &of_yesterday, 1, 3, 4);

    for by in ["team", "route", "offer", "key"] {
        let (from, to) = (today - Days::new(9), today);
        let at =
            |day: chrono::NaiveDate| day.and_time(NaiveTime::MIN).and_utc().format("%Y-%m-%dT%H:%M:%SZ").to_string();
        open(&browser, &ferry, &format!("/usage?by={by}&from={}&to={}", at(from), at(to))).await;
        browser.see("requests cost").await;
        assert!(browser.wait_for("document.querySelector('tbody tr')").await);
        let mut printed = usage(&ferry, &["--by", by, "--from", &from.to_string(), "--to", &to.to_string()]).await;
        // A page shows a key by what it is for, and an offer that nobody tried by words.
        for line in printed["lines"].as_array_mut().unwrap() {
            let name = match (line["label"].as_str(), line["name"].as_str().unwrap()) {
                (Some(label), id) => format!("{label} ({id})"),
                (None, "") => "(no offer tried)".to_owned(),
                (None, name) => name.to_owned(),
            };
            line["name"] = Value::String(name);
        }
        if printed["lines"].as_array().unwrap().len() > 1 {
            agree(&lines(&browser, "table").await, &printed, 1, 3, 4);
        }
    }

    // Over time: the columns sum to the total, and each leads to the requests of its day.
    open(&browser, &ferry, "/usage?range=7d&show=requests").await;
    browser.see("requests cost").await;
    assert!(browser.wait_for("document.querySelectorAll('svg a').length === 7").await);
    let shown =
        browser.script("return [...document.querySelectorAll('svg a')].map(a => a.getAttribute('aria-label'))").await;
    let shown: Vec<String> = serde_json::from_value(shown).unwrap();
    let of = |words: &str| {
        words.split(": ").nth(1).unwrap().split(' ').next().unwrap().replace(',', "").parse::<u64>().unwrap()
    };
    let week = usage(&ferry, &["--last", "7d", "--by", "day"]).await;
    let figures: Vec<u64> =
        week["lines"].as_array().unwrap().iter().map(|line| line["requests"].as_u64().unwrap()).collect();
    assert_eq!(shown.iter().map(|words| of(words)).collect::<Vec<_>>(), figures);
}

/// A list is sorted by its heads and narrowed by a word, by keyboard alone; its sum stays that of all. Why it cost more is told beside it.
#[tokio::test]
async fn figures_are_sorted_narrowed_and_told_why() {
    let ferry = with_past(16).await;
    let browser = signed_in(&ferry, "operator", None).await;
    open(&browser, &ferry, "/usage?by=team&range=7d").await;
    browser.see("freight-desk").await;
    let names = || async {
        let cells = lines(&browser, "main table:last-of-type").await;
        cells.into_iter().map(|cells| cells[0].clone()).collect::<Vec<_>>()
    };
    let head = "[...document.querySelectorAll('th button')].find(head => head.innerText.startsWith('team'))";
    assert!(browser.wait_for(head).await, "the head is there");
    for order in [["freight-desk", "timetables"], ["timetables", "freight-desk"]] {
        browser.script(&format!("{head}.focus()")).await;
        browser.press(thirtyfour::Key::Enter).await;
        assert_eq!(names().await, [order[0], order[1], "together"]);
    }
    assert_eq!(browser.script(&format!("return {head}.parentElement.ariaSort")).await, "descending");
    browser.click("Why?").await;
    browser.see("than the previous period: ").await;
    browser.see("more or fewer tokens, of the same mix at the same rates").await;
    // All lines behind it, for a spreadsheet, as the browser gets them with its session.
    let exported = "return await fetch(document.querySelector('a[download]').href).then(answer => answer.text())";
    let exported = browser.script(exported).await;
    let text = exported.as_str().unwrap();
    assert!(text.starts_with("at,kind,entry,") && text.contains(",freight-desk,"), "{text:.200}");
    // The heads of the list of runs lead to requests, and a label is named.
    open(&browser, &ferry, "/usage?by=label:feature&range=24h").await;
    browser.see("(no feature)").await;
}
