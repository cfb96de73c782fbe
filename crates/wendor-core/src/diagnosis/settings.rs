//! What can be seen of an upstream without asking it: its address, and whether its credential is there and looks like one.

use wendor_wire::dialect::Dialect;

use super::finding::{Finding, FindingKind};
use super::pasted;
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::seen::{CredentialSeen, Oddity};
use crate::catalog::upstream::{AddressParts, Upstream};

/// Beginnings and parts of texts that stand for a key in examples.
const PLACEHOLDERS: [&str; 12] = [
    "your-",
    "your_",
    "yourkey",
    "changeme",
    "change-me",
    "placeholder",
    "replace",
    "example",
    "insert",
    "todo",
    "dummy",
    "xxxx",
];

/// How a credential begins that is a whole value of its header: user and password, in the form of RFC 7617.
pub use crate::catalog::upstream::BASIC;

/// What is odd about a credential's text, if anything.
#[must_use]
pub fn oddity(text: &str) -> Option<Oddity> {
    let text = text.trim();
    let small = text.to_ascii_lowercase();
    if small.starts_with("bearer ") || small.starts_with("authorization:") {
        return Some(Oddity::Scheme);
    }
    if text.len() > 1 && ["\"", "'", "`"].iter().any(|quote| text.starts_with(quote) && text.ends_with(quote)) {
        return Some(Oddity::Quotes);
    }
    if is_placeholder(&small) {
        return Some(Oddity::Placeholder);
    }
    // The word belongs to what is sent.
    let text = text.strip_prefix(BASIC).unwrap_or(text);
    if text.chars().any(char::is_whitespace) {
        return Some(Oddity::WhiteSpace);
    }
    (!text.bytes().all(|byte| byte.is_ascii_graphic())).then_some(Oddity::NotSendable)
}

fn is_placeholder(small: &str) -> bool {
    let is_framed = [("<", ">"), ("${", "}"), ("{{", "}}"), ("[", "]"), ("%", "%")]
        .iter()
        .any(|(open, close)| small.starts_with(open) && small.ends_with(close));
    let is_filler = small.len() > 2 && small.bytes().all(|byte| b"x*.-_".contains(&byte));
    is_framed || is_filler || PLACEHOLDERS.iter().any(|word| small.contains(word))
}

/// The credential without what was pasted along with it.
#[must_use]
pub fn cleaned(text: &str) -> String {
    let mut text = text.trim();
    for scheme in ["authorization:", "bearer "] {
        if text.get(..scheme.len()).is_some_and(|start| start.eq_ignore_ascii_case(scheme)) {
            text = text.get(scheme.len()..).unwrap_or_default().trim();
        }
    }
    for quote in ['"', '\'', '`'] {
        text = text.strip_prefix(quote).and_then(|rest| rest.strip_suffix(quote)).unwrap_or(text);
    }
    let basic = text.get(..BASIC.len()).is_some_and(|start| start.eq_ignore_ascii_case(BASIC));
    let (word, rest) = if basic { (BASIC, text.get(BASIC.len()..).unwrap_or_default()) } else { ("", text) };
    word.chars().chain(rest.chars().filter(|each| !each.is_whitespace())).collect()
}

/// Judges what can be seen without a request.
#[must_use]
pub fn judge(upstream: &Upstream, stated: Option<Dialect>, credential: &CredentialSeen) -> Judged {
    let address = &upstream.address;
    let judged = |finding| Judged::found("", finding);
    if let Ok(pasted) = pasted::read(address.as_str())
        && let Some(endpoint) = pasted.endpoint
    {
        let says = format!(
            "The address ends in `{endpoint}`, which is an endpoint. Wendor adds endpoint paths itself: use the base address of the server."
        );
        return judged(Finding::failing(FindingKind::EndpointPasted, says, vec![Remedy::address(pasted.address)]));
    }
    if let CredentialSeen::Missing(why) = credential {
        let does = "Set it where the service runs, and start the service again if it is a variable; or let Wendor keep the key: \
                    `wendor upstream credential NAME`";
        let says = format!("The credential is missing: {why}.");
        return judged(Finding::failing(FindingKind::CredentialMissing, says, vec![Remedy::operator(does)]));
    }
    if let CredentialSeen::There { place, oddity: Some(oddity) } = credential {
        return judged(odd(place, *oddity));
    }
    if upstream.exposes_credential() {
        return judged(exposed(upstream));
    }
    let key = match credential {
        CredentialSeen::None => "no key is sent".to_owned(),
        CredentialSeen::Missing(_) => String::new(),
        CredentialSeen::There { place, .. } => format!("the key is in {place}"),
    };
    let dialect = stated.map_or_else(|| "dialect to be detected".to_owned(), |stated| stated.to_string());
    Judged::well(format!("{dialect}, {key}"))
}

/// What settings were taken out of, in words, where it was more than an address.
#[must_use]
pub fn taken_from(parts: &[String]) -> Option<String> {
    (!parts.is_empty()).then(|| format!("taken from what was pasted: {}", parts.join(", ")))
}

/// The certificate by which Wendor says who it is cannot be found.
#[must_use]
pub fn identity_missing(why: &str) -> Finding {
    let does = "Put one PEM file with the certificate and its private key into the service's folder of credentials, under that name";
    Finding::failing(FindingKind::CredentialMissing, format!("It is missing: {why}."), vec![Remedy::operator(does)])
}

fn odd(place: &str, oddity: Oddity) -> Finding {
    let again = |what: &str| vec![Remedy::operator(format!("Set {place} again, {what}"))];
    let wrapped = |says: String, what: &str| Finding::failing(FindingKind::KeyWrapped, says, again(what));
    match oddity {
        Oddity::Scheme => wrapped(
            format!("The key in {place} begins with the word `Bearer`, which Wendor puts before it itself."),
            "with the key alone",
        ),
        Oddity::Quotes => {
            wrapped(format!("The key in {place} stands in quotes, which would be sent along."), "without the quotes")
        }
        Oddity::WhiteSpace => {
            wrapped(format!("The key in {place} has a line break or a space within."), "in one line without spaces")
        }
        Oddity::NotSendable => wrapped(
            format!("The key in {place} has a character that no header can hold."),
            "copied again from where it was issued",
        ),
        Oddity::Placeholder => Finding::failing(
            FindingKind::KeyPlaceholder,
            format!("The key in {place} is an example that was never replaced."),
            again("with the key that the service issued"),
        ),
    }
}

fn exposed(upstream: &Upstream) -> Finding {
    let host = upstream.address.host();
    let port = match upstream.address.port() {
        80 => Some(443),
        _ => None,
    };
    let encrypted = upstream.address.with(AddressParts { scheme: Some("https"), port, ..AddressParts::default() });
    let says = format!("The key would go to {host} over plain HTTP, readable by everyone on the way. It is not sent.");
    let allow = Remedy::change("Send it all the same, on this network", Change::PlainHttp);
    Finding::failing(FindingKind::KeyExposed, says, vec![Remedy::address(encrypted), allow])
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::upstream::{Address, CredentialSource, Hosting};
    use rstest::rstest;

    #[rstest]
    #[case::a_key("qry-2f9k-Zm9n", None)]
    #[case::scheme("Bearer qry-2f9k", Some(Oddity::Scheme))]
    #[case::quotes("\"qry-2f9k\"", Some(Oddity::Quotes))]
    #[case::two_lines("qry-\n2f9k", Some(Oddity::WhiteSpace))]
    #[case::frame("<QUARRY_KEY>", Some(Oddity::Placeholder))]
    #[case::variable("${QUARRY_KEY}", Some(Oddity::Placeholder))]
    #[case::filler("xxxxxxxx", Some(Oddity::Placeholder))]
    #[case::words("your-api-key-here", Some(Oddity::Placeholder))]
    #[case::other_letters("qry-ä", Some(Oddity::NotSendable))]
    fn oddities_of_keys(#[case] text: &str, #[case] expected: Option<Oddity>) {
        assert_eq!(oddity(text), expected);
    }

    #[rstest]
    #[case("Bearer qry-2f9k\n", "qry-2f9k")]
    #[case("Authorization: Bearer qry-2f9k", "qry-2f9k")]
    #[case("'qry-2f9k'", "qry-2f9k")]
    #[case("qry-\n 2f9k", "qry-2f9k")]
    fn what_was_pasted_along_goes(#[case] text: &str, #[case] key: &str) {
        assert_eq!(cleaned(text), key);
        assert_eq!(oddity(&cleaned(text)), None);
    }

    #[rstest]
    #[case::beyond_loopback("http://quarry.example", false, Some(FindingKind::KeyExposed))]
    #[case::allowed("http://quarry.example", true, None)]
    #[case::encrypted("https://quarry.example", false, None)]
    #[case::this_machine("http://127.0.0.1:7501", false, None)]
    #[case::endpoint("https://quarry.example/v1/messages", false, Some(FindingKind::EndpointPasted))]
    fn what_can_be_seen_without_asking(
        #[case] address: &str,
        #[case] allowed: bool,
        #[case] expected: Option<FindingKind>,
    ) {
        let mut upstream = Upstream::at(Address::parse(address).unwrap(), Dialect::ChatCompletions, Hosting::Hosted);
        upstream.credential = Some(CredentialSource::Env("WENDOR_UPSTREAM_QUARRY".into()));
        upstream.allows_plain_http = allowed;
        let there = CredentialSeen::There { place: "the variable".into(), oddity: None };
        let judged = judge(&upstream, None, &there);
        assert_eq!(judged.findings.first().map(|finding| finding.kind), expected);
    }

    #[test]
    fn what_was_taken_from_a_paste_is_said_where_there_is_something() {
        assert_eq!(taken_from(&[]), None);
        assert_eq!(taken_from(&["its key".to_owned()]).as_deref(), Some("taken from what was pasted: its key"));
    }

    #[rstest]
    #[case::one_quote("\"", None)]
    #[case::a_quote_at_its_beginning("\"qry-2f9k", None)]
    #[case::half_a_frame("<qry-2f9k", None)]
    #[case::two_letters("xx", None)]
    #[case::three_letters("xxx", Some(Oddity::Placeholder))]
    #[case::a_long_key_of_other_letters("abc", None)]
    fn what_is_only_nearly_odd(#[case] text: &str, #[case] expected: Option<Oddity>) {
        assert_eq!(oddity(text), expected);
    }

    #[rstest]
    #[case::the_usual_port("http://quarry.example", "https://quarry.example")]
    #[case::a_port_of_its_own("http://quarry.example:8080/serve", "https://quarry.example:8080/serve")]
    fn a_key_is_kept_by_encryption(#[case] address: &str, #[case] to: &str) {
        let upstream = Upstream::at(Address::parse(address).unwrap(), Dialect::ChatCompletions, Hosting::Hosted);
        let change = serde_json::to_value(exposed(&upstream).remedies[0].as_change()).unwrap();
        assert_eq!(change["to"], to);
    }
}
