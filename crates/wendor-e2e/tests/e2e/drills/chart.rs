//! The picture of an outage: requests by second and upstream, attempts beyond the first, and the slowest first token, from what was recorded.

use super::outage::{Event, Line, seconds};

const COLOURS: [(&str, &str); 3] = [("quayside", "#1f6f8b"), ("quayside-b", "#7fb7c9"), ("quarry", "#c99846")];

/// Left and right edge, and the foot of each of the three parts.
const LEFT: f64 = 60.0;
const WIDTH: f64 = 900.0;
const FEET: [f64; 3] = [240.0, 300.0, 395.0];

/// Points that a request takes.
const A_REQUEST: f64 = 2.6;

struct Picture {
    svg: String,
    length: f64,
}

impl Picture {
    fn x(&self, second: f64) -> f64 {
        LEFT + second / self.length * WIDTH
    }

    fn bar(&mut self, second: usize, foot: f64, height: f64, colour: &str) {
        let (x, width, y) = (self.x(second as f64), WIDTH / self.length - 0.6, foot - height);
        self.svg.push_str(&format!(
            "<rect x=\"{x:.1}\" y=\"{y:.1}\" width=\"{width:.1}\" height=\"{height:.1}\" fill=\"{colour}\"/>\n"
        ));
    }

    fn words(&mut self, x: f64, y: f64, says: &str) {
        self.svg.push_str(&format!("<text x=\"{x:.1}\" y=\"{y:.1}\" fill=\"#4a4a48\">{says}</text>\n"));
    }

    fn second(&mut self, second: usize, within: &[&Line]) {
        let mut foot = FEET[0];
        for (name, colour) in COLOURS {
            let height = within.iter().filter(|line| line.upstream == name).count() as f64 * A_REQUEST;
            self.bar(second, foot, height, colour);
            foot -= height;
        }
        let extra: u64 = within.iter().map(|line| line.attempts.saturating_sub(1)).sum();
        self.bar(second, FEET[1], extra as f64 * A_REQUEST, "#b3402e");
        let slowest = within.iter().filter_map(|line| line.first_token_ms).max().unwrap_or(0);
        self.bar(second, FEET[2], (slowest as f64 / 3_200.0 * 70.0).min(75.0), "#4a4a48");
    }
}

pub(super) fn chart(lines: &[Line], events: &[Event]) -> String {
    let (begin, end) = (lines[0].at, lines[lines.len() - 1].at);
    let svg = "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 1000 430\" font-family=\"sans-serif\" font-size=\"12\">\n\
               <rect width=\"1000\" height=\"430\" fill=\"#fbfaf7\"/>\n";
    let mut picture = Picture { svg: svg.to_owned(), length: seconds(begin, end).ceil() };
    for second in 0..picture.length as usize {
        let within: Vec<&Line> = lines.iter().filter(|line| seconds(begin, line.at) as usize == second).collect();
        picture.second(second, &within);
    }
    for (number, event) in events.iter().enumerate() {
        let (x, y) = (picture.x(seconds(begin, event.at)), 34.0 + (number % 3) as f64 * 16.0);
        picture.svg.push_str(&format!("<path d=\"M{x:.1} {y}V395\" stroke=\"#2b2b29\" stroke-dasharray=\"2 3\"/>\n"));
        picture.words(x + 4.0, y, event.says);
    }
    for (number, (name, colour)) in COLOURS.into_iter().enumerate() {
        let x = LEFT + number as f64 * 110.0;
        picture.svg.push_str(&format!("<rect x=\"{x}\" y=\"4\" width=\"11\" height=\"11\" fill=\"{colour}\"/>\n"));
        picture.words(x + 16.0, 14.0, name);
    }
    for (y, says) in [
        (120.0, "requests"),
        (134.0, "a second"),
        (284.0, "extra"),
        (298.0, "attempts"),
        (350.0, "slowest"),
        (364.0, "first"),
        (378.0, "token"),
    ] {
        picture.words(4.0, y, says);
    }
    picture.words(965.0, 325.0, "3.2 s");
    for second in (0..picture.length as usize).step_by(20) {
        let x = picture.x(second as f64);
        picture.words(x - 8.0, 415.0, &format!("{second} s"));
    }
    picture.svg.push_str("</svg>\n");
    picture.svg
}
