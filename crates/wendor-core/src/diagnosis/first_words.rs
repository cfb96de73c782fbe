//! The first answer of a server: whether it speaks HTTP at all, or something stands in its place.

use wendor_wire::rejection::is_loading;

use super::encryption::wants_ours;
use super::finding::{Finding, FindingKind};
use super::refusal::{self, is_header_limit, quoted};
use super::remedy::Remedy;
use super::report::Judged;
use super::seen::{Answered, Heard, NotHeard, Words};
use crate::catalog::upstream::{Address, AddressParts};

/// What is known of a server beside its first answer.
#[derive(Clone, Copy, Debug, Default)]
pub struct Known<'a> {
    /// How long ago it answered a request, in words, where it did not long ago.
    pub has_answered: Option<&'a str>,
    /// Whether it asked for a certificate of ours.
    pub asks_for_ours: bool,
    /// Whether Wendor showed one.
    pub shows_ours: bool,
    /// How long the first answer took, in milliseconds.
    pub took_ms: u64,
}

/// Judges the first answer, to a request without the credential at `path`.
#[must_use]
pub fn judge(address: &Address, path: &str, answered: &Answered, known: Known<'_>) -> Judged {
    let heard = match answered {
        Ok(heard) => heard,
        Err(not) => return Judged::found("no HTTP answer", unheard(address, not, known)),
    };
    let answer_words = heard.told();
    match stands_in_the_way(address, path, heard, known) {
        Some(finding) => Judged::found(answer_words, finding),
        None => Judged::well(match &heard.server {
            Some(server) => format!("speaks HTTP: {answer_words}, by {}", server.chars().take(40).collect::<String>()),
            None => format!("speaks HTTP: {answer_words}"),
        }),
    }
}

fn stands_in_the_way(address: &Address, path: &str, heard: &Heard, known: Known<'_>) -> Option<Finding> {
    let host = address.host();
    let speaks_of_certificates = || String::from_utf8_lossy(&heard.body).to_ascii_lowercase().contains("certificate");
    match heard.status {
        400 | 403 | 495 | 496 if known.asks_for_ours && speaks_of_certificates() => {
            Some(wants_ours(address, known.shows_ours, &quoted(heard)))
        }
        300..=399 => Some(redirected(address, path, heard)),
        407 => Some(proxy_sign_in(host, heard)),
        502 => Some(bad_gateway(host, heard)),
        503 => Some(not_ready(host, heard)),
        504 => Some(refusal::gives_up(host, known.took_ms)),
        _ if is_header_limit(heard) => Some(refusal::header_limit(host, heard)),
        _ => None,
    }
}

/// What it means that no answer came.
#[must_use]
pub fn unheard(address: &Address, not: &NotHeard, known: Known<'_>) -> Finding {
    let (host, port) = (address.host(), address.port());
    let failing = |kind, says: String, remedy| Finding::failing(kind, says, vec![remedy]);
    let which = || Remedy::operator("Is this the port of the model server, or of another service?");
    match not {
        NotHeard::NotHttp(Words::Tls) => {
            let encrypted = address.with(AddressParts { scheme: Some("https"), ..AddressParts::default() });
            let says = format!("Port {port} of {host} speaks TLS, and the address says http.");
            failing(FindingKind::PortEncrypted, says, Remedy::address(encrypted))
        }
        NotHeard::NotHttp(Words::Http2) => {
            let says = format!("Port {port} of {host} speaks only HTTP/2, without TLS. Wendor speaks HTTP/1.1.");
            let owner = format!("Please let port {port} of {host} speak HTTP/1.1 too.");
            failing(FindingKind::Http2Only, says, Remedy::owner(owner))
        }
        NotHeard::NotHttp(Words::Text(text)) => {
            let says = format!("What listens on port {port} of {host} does not speak HTTP: it says \"{text}\".");
            failing(FindingKind::NotHttp, says, which())
        }
        NotHeard::TimedOut(millis) => silent(host, *millis, known),
        NotHeard::Busy(answers) => {
            let answers = if *answers == 1 { "an answer".to_owned() } else { format!("{answers} answers") };
            let says = format!(
                "{host} is busy with {answers} of Wendor's. A check could end that on a server that serves one request at a time, so it waited until its time limit."
            );
            let does = "Check again in a moment. If the server serves several requests at once, say so (`streams`): then checks do not wait";
            failing(FindingKind::Busy, says, Remedy::operator(does))
        }
        NotHeard::Closed | NotHeard::Reset => {
            let how = if *not == NotHeard::Reset { "resets" } else { "closes" };
            let says = format!(
                "{host} accepts the connection and {how} it at the first request without an answer: what listens on port {port} does not speak HTTP, or is a balancer with no server behind it."
            );
            let owner = format!(
                "Connections to port {port} of {host} are closed without an answer; is a model server running behind it?"
            );
            Finding::failing(FindingKind::ClosedUnanswered, says, vec![which(), Remedy::owner(owner)])
        }
        NotHeard::NotHttp(_) | NotHeard::Broke | NotHeard::NoConnection => failing(
            FindingKind::NotHttp,
            format!("What listens on port {port} of {host} does not speak HTTP."),
            which(),
        ),
    }
}

fn silent(host: &str, millis: u64, known: Known<'_>) -> Finding {
    let waited = format!("{}.{} s", millis / 1_000, millis % 1_000 / 100);
    if let Some(ago) = known.has_answered {
        let says = format!(
            "{host} accepts the connection and answers nothing for {waited}. It answered a request {ago}, so it is busy, most likely with a long answer to somebody else."
        );
        let does = "Check again in a moment, or with more time: `--timeout 2m`";
        return Finding::failing(FindingKind::Busy, says, vec![Remedy::operator(does)]);
    }
    let says = format!(
        "{host} accepts the connection and then answers nothing for {waited}: it is busy with a long answer, still loading, or stuck."
    );
    let owner = "Your model server accepts connections and does not answer; is it busy, still loading, or stuck?";
    let does = "Check again with more time: `--timeout 2m`";
    Finding::failing(FindingKind::Silent, says, vec![Remedy::operator(does), Remedy::owner(owner)])
}

/// Whether an answer leads to another page of the same server.
#[must_use]
pub fn leads_to_itself(address: &Address, heard: &Heard) -> bool {
    let to = heard.location.as_deref().unwrap_or_default();
    let is_path = to.starts_with('/') && !to.starts_with("//");
    let is_same = || {
        Address::parse(to.split(['?', '#']).next().unwrap_or_default())
            .is_ok_and(|to| to.authority() == address.authority() && to.is_encrypted() == address.is_encrypted())
    };
    (300..400).contains(&heard.status) && (is_path || is_same())
}

/// Words by which servers say that they have no room.
const BUSY: [&str; 6] = ["busy", "no slot", "overloaded", "at capacity", "queue is full", "too many"];

fn not_ready(host: &str, heard: &Heard) -> Finding {
    let quoted = quoted(heard);
    if is_loading(&heard.body) {
        let says = format!("{host} is loading its model and does not answer yet.{quoted}");
        let does = "Check again in a moment; a stage's `loading` says how long requests are held meanwhile";
        return Finding::failing(FindingKind::NotReady, says, vec![Remedy::operator(does)]);
    }
    let small = quoted.to_ascii_lowercase();
    if BUSY.iter().any(|word| small.contains(word)) {
        let says = format!("{host} is busy and accepts no more requests at the moment (503).{quoted}");
        return Finding::failing(FindingKind::Busy, says, vec![Remedy::operator("Check again in a moment")]);
    }
    let says =
        format!("{host} says that it is not available (503): it, or the server behind it, is not ready.{quoted}");
    let owner = format!("{host} answers 503; is the model server running and done with loading?");
    Finding::failing(FindingKind::NotReady, says, vec![Remedy::owner(owner)])
}

fn bad_gateway(host: &str, heard: &Heard) -> Finding {
    let says = format!(
        "A proxy answers instead of the server (502): it cannot reach the server behind it, or gets no answer from it.{}",
        quoted(heard)
    );
    let owner = format!(
        "The proxy on {host} answers 502: is the model server behind it running, and at the address that the proxy has?"
    );
    Finding::failing(FindingKind::BadGateway, says, vec![Remedy::owner(owner)])
}

fn proxy_sign_in(host: &str, heard: &Heard) -> Finding {
    let says = format!("A proxy before {host} requires signing in (407).{}", quoted(heard));
    let owner =
        format!("Please let the machine that Wendor runs on through the proxy before {host} without signing in.");
    Finding::failing(FindingKind::ProxySignIn, says, vec![Remedy::owner(owner)])
}

fn redirected(address: &Address, path: &str, heard: &Heard) -> Finding {
    let target = heard.location.clone().unwrap_or_default();
    let whole = if target.starts_with('/') && !target.starts_with("//") {
        address.with(AddressParts { prefix: Some(""), ..AddressParts::default() }).as_str().to_owned() + &target
    } else {
        target.clone()
    };
    let bare = whole.split(['?', '#']).next().unwrap_or_default();
    let is_slash_added = bare.strip_suffix('/') == Some(address.endpoint(path).as_str());
    if is_slash_added {
        let says = format!(
            "Asked for {path}, the server redirects to the same path with a slash at its end: it is a folder of web pages, or a proxy that rewrites paths."
        );
        let owner = format!("Please let the API at {} be asked without slashes at the end of paths.", address.as_str());
        return Finding::failing(FindingKind::Moved, says, vec![Remedy::owner(owner)]);
    }
    let bare = bare.trim_end_matches('/');
    let moved = bare.strip_suffix(path).and_then(|base| Address::parse(base).ok()).filter(|base| base != address);
    if let Some(base) = moved {
        let is_other = !base.host().eq_ignore_ascii_case(address.host());
        let why = if is_other {
            "That is another host: nothing is sent there until you confirm it."
        } else {
            "Wendor follows no redirection, since a key would go along."
        };
        let says = format!("The server redirects to {}. {why}", base.as_str());
        return Finding::failing(FindingKind::Moved, says, vec![Remedy::address(base)]);
    }
    let to = bare.chars().filter(|each| !each.is_control()).take(120).collect::<String>();
    let says = format!("Instead of an answer there is a redirect to another page ({to}): a sign-in page for people.");
    let owner = format!(
        "Please let the machine that Wendor runs on reach the API at {} without the sign-in page, by a key of its own.",
        address.as_str()
    );
    Finding::failing(FindingKind::SignInPage, says, vec![Remedy::owner(owner)])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn heard(status: u16, body: &str) -> Heard {
        Heard { status, content_type: "application/json".into(), body: body.to_owned().into(), ..Heard::default() }
    }

    fn judged(answered: &Answered, known: Known<'_>) -> Finding {
        let address = Address::parse("http://quarry.example").unwrap();
        judge(&address, "/v1/models", answered, known).findings.first().cloned().unwrap()
    }

    #[rstest]
    #[case::loads(
        503,
        r#"{"error":{"message":"Loading model","code":503}}"#,
        FindingKind::NotReady,
        "is loading its model"
    )]
    #[case::behind_a_proxy(502, "<html>Bad Gateway</html>", FindingKind::BadGateway, "instead of the server (502)")]
    #[case::busy(503, r#"{"error":"all slots are busy"}"#, FindingKind::Busy, r#"It says: "all slots are busy""#)]
    #[case::gives_up(504, "<html></html>", FindingKind::GivesUp, "after 1.0 s")]
    #[case::proxy(407, "", FindingKind::ProxySignIn, "(407)")]
    #[case::headers(431, "<html></html>", FindingKind::HeaderLimit, "(431)")]
    fn what_stands_in_its_place_is_told_apart(
        #[case] status: u16,
        #[case] body: &str,
        #[case] kind: FindingKind,
        #[case] words: &str,
    ) {
        let finding = judged(&Ok(heard(status, body)), Known { took_ms: 1_020, ..Known::default() });
        assert!(finding.kind == kind && finding.says.contains(words), "{}", finding.says);
    }

    #[rstest]
    #[case::login("/login?next=%2Fv1%2Fmodels", FindingKind::SignInPage, None)]
    #[case::https("https://quarry.example/v1/models", FindingKind::Moved, Some("https://quarry.example"))]
    #[case::another_host("https://elsewhere.example/v1/models", FindingKind::Moved, Some("https://elsewhere.example"))]
    #[case::a_slash("/v1/models/", FindingKind::Moved, None)]
    #[case::below_a_path("/serve/v1/models", FindingKind::Moved, Some("http://quarry.example/serve"))]
    fn where_a_redirection_leads(#[case] to: &str, #[case] kind: FindingKind, #[case] remedy: Option<&str>) {
        let finding = judged(&Ok(Heard { location: Some(to.to_owned()), ..heard(302, "") }), Known::default());
        let change = finding.remedies.iter().find_map(|remedy| match remedy.as_change() {
            Some(super::super::remedy::Change::Address { to }) => Some(to.as_str().to_owned()),
            Some(_) | None => None,
        });
        assert_eq!((finding.kind, change.as_deref()), (kind, remedy), "{}", finding.says);
    }

    #[rstest]
    #[case::unknown(NotHeard::TimedOut(4_000), None, FindingKind::Silent)]
    #[case::answered_lately(NotHeard::TimedOut(4_000), Some("40 s ago"), FindingKind::Busy)]
    #[case::own_answers(NotHeard::Busy(1), None, FindingKind::Busy)]
    #[case::closed(NotHeard::Closed, None, FindingKind::ClosedUnanswered)]
    #[case::a_banner(NotHeard::NotHttp(Words::of(b"220 quay ready\r\n")), None, FindingKind::NotHttp)]
    #[case::second_version(NotHeard::NotHttp(Words::of(&[0, 0, 18, 4, 0, 0, 0, 0, 0, 0])), None, FindingKind::Http2Only)]
    #[case::tls(NotHeard::NotHttp(Words::of(&[0x15, 3, 1, 0, 2])), None, FindingKind::PortEncrypted)]
    fn silence_and_other_words(#[case] not: NotHeard, #[case] has_answered: Option<&str>, #[case] kind: FindingKind) {
        let finding = judged(&Err(not), Known { has_answered, ..Known::default() });
        assert_eq!(finding.kind, kind, "{}", finding.says);
    }

    #[rstest]
    #[case::asked_for(true, "No required SSL certificate was sent", true)]
    #[case::not_asked_for(false, "No required SSL certificate was sent", false)]
    #[case::of_something_else(true, "Forbidden", false)]
    fn a_certificate_of_ours_is_wanted_by_who_asked_for_one(
        #[case] asks_for_ours: bool,
        #[case] body: &str,
        #[case] is_wanted: bool,
    ) {
        let address = Address::parse("https://quarry.example").unwrap();
        let known = Known { asks_for_ours, ..Known::default() };
        let judged = judge(&address, "/v1/models", &Ok(heard(403, body)), known);
        let kinds: Vec<_> = judged.findings.iter().map(|finding| finding.kind).collect();
        assert_eq!(kinds == [FindingKind::ClientCertificate], is_wanted, "{judged:?}");
    }

    #[rstest]
    #[case::well(200, "{}")]
    #[case::not_there(404, "<html>header too large</html>")]
    fn an_answer_that_nothing_stands_in_the_way_of(#[case] status: u16, #[case] body: &str) {
        let address = Address::parse("http://quarry.example").unwrap();
        assert_eq!(judge(&address, "/v1/models", &Ok(heard(status, body)), Known::default()).findings, []);
    }

    #[rstest]
    #[case::resets(NotHeard::Reset, "and resets it at the first request")]
    #[case::closes(NotHeard::Closed, "and closes it at the first request")]
    #[case::one(NotHeard::Busy(1), "busy with an answer of")]
    #[case::some(NotHeard::Busy(3), "busy with 3 answers of")]
    fn how_it_is_said(#[case] not: NotHeard, #[case] words: &str) {
        let finding = judged(&Err(not), Known::default());
        assert!(finding.says.contains(words), "{}", finding.says);
    }

    #[test]
    fn another_scheme_keeps_the_port() {
        let address = Address::parse("http://quarry.example:8443/serve").unwrap();
        let finding = unheard(&address, &NotHeard::NotHttp(Words::Tls), Known::default());
        let change = serde_json::to_value(finding.remedies[0].as_change()).unwrap();
        assert_eq!(change["to"], "https://quarry.example:8443/serve");
    }

    #[rstest]
    #[case::a_path(302, Some("/login"), true)]
    #[case::the_same_server(302, Some("http://quarry.example:8000/login?next=/"), true)]
    #[case::another_port(302, Some("http://quarry.example/login"), false)]
    #[case::another_scheme(302, Some("https://quarry.example:8000/login"), false)]
    #[case::another_host_by_its_path(302, Some("//elsewhere.example/login"), false)]
    #[case::nowhere(302, None, false)]
    #[case::no_redirection(200, Some("/login"), false)]
    #[case::no_address(302, Some("login"), false)]
    fn a_server_may_lead_to_itself(#[case] status: u16, #[case] to: Option<&str>, #[case] expected: bool) {
        let address = Address::parse("http://quarry.example:8000").unwrap();
        let heard = Heard { location: to.map(str::to_owned), ..heard(status, "") };
        assert_eq!(leads_to_itself(&address, &heard), expected);
    }

    #[rstest]
    #[case::to_the_root("/login", "(http://quarry.example/login)")]
    #[case::with_letters_that_nobody_sees("/log\u{7}in", "(http://quarry.example/login)")]
    #[case::another_host("https://elsewhere.example/v1/models", "That is another host")]
    #[case::the_same_host("https://QUARRY.example/v1/models", "Wendor follows no redirection")]
    fn where_it_leads_is_said(#[case] to: &str, #[case] words: &str) {
        let address = Address::parse("http://quarry.example/serve").unwrap();
        let heard = Heard { location: Some(to.to_owned()), ..heard(302, "") };
        let finding = redirected(&address, "/v1/models", &heard);
        assert!(finding.says.contains(words), "{}", finding.says);
    }
}
