//! The encryption of an upstream: whether it is there, the server's certificate, and whether it requires a client certificate.

use chrono::{DateTime, TimeDelta, Utc};

use super::finding::{Finding, FindingKind};
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::seen::{Certificate, NotTrusted, Tls, Words};
use crate::catalog::upstream::{Address, AddressParts, is_loopback};

/// From when on an end of a certificate is worth a word.
const SOON: TimeDelta = TimeDelta::days(14);

/// Judges the encryption.
#[must_use]
pub fn judge(address: &Address, tls: &Tls, now: DateTime<Utc>) -> Judged {
    match tls {
        Tls::NotAskedFor if is_loopback(address.host()) => Judged::well("none, and none needed: it is on this machine"),
        Tls::NotAskedFor => Judged::well("none was asked for; prompts cross this network readable"),
        Tls::Stands { certificate, .. } => stands(certificate, now),
        Tls::WantsOurs { shown } => Judged::found("it requires a client certificate", wants_ours(address, *shown, "")),
        Tls::Old(what) => Judged::found(what.as_str(), old(address, what)),
        Tls::NotTls { words: Words::Http | Words::Http2 } => {
            let says =
                format!("Port {} of {} speaks plain HTTP, and the address says https.", address.port(), address.host());
            let plain = address.with(AddressParts { scheme: Some("http"), ..AddressParts::default() });
            let remedies = vec![Remedy::address(plain), Remedy::owner("Please let the server speak TLS.")];
            Judged::found("plain HTTP", Finding::failing(FindingKind::PortPlain, says, remedies))
        }
        Tls::NotTls { words } => match words {
            Words::Text(text) => spoke(address, text),
            Words::Nothing => failed(address, "what listens there does not answer to TLS"),
            Words::Closed | Words::Reset => failed(address, "the connection is closed at the first word of TLS"),
            Words::Tls | Words::Http | Words::Http2 | Words::Bytes => failed(address, "what came back is not TLS"),
        },
        Tls::Failed(why) => failed(address, why),
        Tls::NotTrusted { why, chain, their_clock, leads_here, is_for_other_host } => match chain.first() {
            None => failed(address, "no certificate came"),
            Some(own) => {
                let around = Around { their_clock: *their_clock, leads_here: *leads_here, now };
                let mut finding = not_trusted(address, *why, own, chain.len(), &around);
                if *is_for_other_host && *why != NotTrusted::OtherHost && own.version >= 3 {
                    finding.says.push_str(&format!(
                        " It is also issued for {}, and not for {}.",
                        named(own),
                        address.host()
                    ));
                }
                Judged::found(format!("a certificate by {} that is not accepted", own.issuer), finding)
            }
        },
    }
}

/// Something else than TLS spoke first.
fn spoke(address: &Address, text: &str) -> Judged {
    let says = format!(
        "What listens on port {} of {} does not speak TLS: it says \"{text}\".",
        address.port(),
        address.host()
    );
    let does = "Is this the port of the model server, or of another service?";
    let finding = Finding::failing(FindingKind::NotHttp, says, vec![Remedy::operator(does)]);
    Judged::found(format!("\"{text}\""), finding)
}

/// What the hosts of a certificate are.
fn named(own: &Certificate) -> String {
    if own.hosts.is_empty() { "no host at all".to_owned() } else { own.hosts.join(", ") }
}

/// The server wants a certificate of ours. `quoted` is what it says of it.
#[must_use]
pub fn wants_ours(address: &Address, shown: bool, quoted: &str) -> Finding {
    let host = address.host();
    let says = if shown {
        format!("{host} refuses Wendor's client certificate.{quoted}")
    } else {
        format!("{host} requires a client certificate, and Wendor has none for it.{quoted}")
    };
    let does = "Put a certificate that the server's owner issued, with its private key, as one PEM file into the service's folder of credentials, and name it in the upstream's setting `client_certificate`";
    let owner = format!("Please issue a client certificate for Wendor, or let {host} be asked with a key alone.");
    Finding::failing(FindingKind::ClientCertificate, says, vec![Remedy::operator(does), Remedy::owner(owner)])
}

fn old(address: &Address, what: &str) -> Finding {
    let says =
        format!("{} speaks only {what}, which is no longer safe: Wendor speaks TLS 1.2 and 1.3.", address.authority());
    let owner =
        format!("Your server speaks only {what}; please let it speak TLS 1.2 or 1.3 with ciphers that are in use.");
    Finding::failing(FindingKind::OldEncryption, says, vec![Remedy::owner(owner)])
}

fn stands(certificate: &Certificate, now: DateTime<Utc>) -> Judged {
    let days = (certificate.until - now).num_days();
    let came_back = format!("by {}, good for {days} days", certificate.issuer);
    if certificate.until - now > SOON {
        return Judged::well(came_back);
    }
    let says = format!("The certificate is good for {days} days only.");
    let owner = format!("Your server's certificate ends on {}; please renew it.", certificate.until.format("%Y-%m-%d"));
    Judged::found(came_back, Finding::noted(FindingKind::ExpiresSoon, says, vec![Remedy::owner(owner)]))
}

fn failed(address: &Address, why: &str) -> Judged {
    let says = format!("The TLS handshake with {} fails: {why}.", address.authority());
    let owner =
        "Please look at the TLS settings of the server: it should speak TLS 1.2 or 1.3 with a certificate of its name.";
    Judged::found(why, Finding::failing(FindingKind::HandshakeFailed, says, vec![Remedy::owner(owner)]))
}

/// What is known around a certificate.
struct Around {
    /// The server's clock.
    their_clock: Option<DateTime<Utc>>,
    /// Whether a name in it leads to the same place.
    leads_here: bool,
    /// Our clock.
    now: DateTime<Utc>,
}

fn not_trusted(address: &Address, why: NotTrusted, own: &Certificate, certificates: usize, around: &Around) -> Finding {
    let Around { their_clock, leads_here, now } = *around;
    let pin = Remedy::change(
        format!(
            "Accept this one certificate ({}), after comparing it with the owner",
            shortened(own.fingerprint.as_str())
        ),
        Change::Certificate { to: own.fingerprint.clone() },
    );
    let host = address.host();
    if own.version < 3 {
        let says = format!(
            "The certificate of {host} is of X.509 version {}, which names no hosts and is no longer accepted.",
            own.version
        );
        let owner = format!("Please reissue the certificate of {host}, in version 3 and for that name.");
        return Finding::failing(FindingKind::OldCertificate, says, vec![Remedy::owner(owner)]);
    }
    match why {
        NotTrusted::Expired | NotTrusted::NotYet => out_of_time(host, own, their_clock, now),
        NotTrusted::OtherHost => other_host(address, own, leads_here),
        NotTrusted::UnknownIssuer | NotTrusted::Bad if own.is_self_signed => {
            let says = format!(
                "The certificate of {host} is self-signed: no known authority confirms that it is the right server."
            );
            Finding::failing(FindingKind::SelfSigned, says, vec![pin])
        }
        NotTrusted::UnknownIssuer | NotTrusted::Bad => {
            let add = format!(
                "If {} is your own authority, give the service its certificate (setting `authorities`), and start it again",
                own.issuer
            );
            if certificates > 1 {
                let says = format!(
                    "The certificate of {host} comes from {}, an authority that is not known here.",
                    own.issuer
                );
                return Finding::failing(FindingKind::UnknownAuthority, says, vec![Remedy::operator(add), pin]);
            }
            // With one certificate the two look the same.
            let says = format!(
                "The certificate of {host} was issued by {}, which is not known here, and the server sends nothing beside it: either that is an authority of your own, or the server leaves out the certificates up to a known one.",
                own.issuer
            );
            let owner = format!(
                "Please let the server send its whole chain of certificates: that of {} is missing.",
                own.issuer
            );
            Finding::failing(FindingKind::ChainIncomplete, says, vec![Remedy::operator(add), Remedy::owner(owner), pin])
        }
    }
}

fn shortened(fingerprint: &str) -> &str {
    fingerprint.get(..23).unwrap_or(fingerprint)
}

fn out_of_time(host: &str, own: &Certificate, theirs: Option<DateTime<Utc>>, now: DateTime<Utc>) -> Finding {
    let day = |at: DateTime<Utc>| at.format("%Y-%m-%d %H:%M").to_string();
    if let Some(theirs) = theirs.filter(|theirs| (own.from..=own.until).contains(theirs)) {
        let says = format!(
            "By the server's clock ({}) the certificate is good; by this machine's ({}) it is not. One of the two clocks is wrong.",
            day(theirs),
            day(now)
        );
        let does =
            "Look at the clock of the machine that Wendor runs on (`date -u`), and turn on its time synchronisation";
        return Finding::failing(FindingKind::ClockOff, says, vec![Remedy::operator(does)]);
    }
    if own.from > now {
        let says = format!(
            "The certificate of {host} is good only from {} on. The clock here says {}.",
            day(own.from),
            day(now)
        );
        let does = "Look at the clock of the machine that Wendor runs on (`date -u`); if it is right, wait or have the certificate reissued";
        return Finding::failing(FindingKind::ClockOff, says, vec![Remedy::operator(does)]);
    }
    let says = format!("The certificate of {host} expired on {}.", day(own.until));
    let owner = format!("The certificate of your server {host} expired on {}; please renew it.", day(own.until));
    Finding::failing(FindingKind::Expired, says, vec![Remedy::owner(owner)])
}

fn other_host(address: &Address, own: &Certificate, leads_here: bool) -> Finding {
    let says = format!("The certificate is for {}, and the address says {}.", named(own), address.host());
    let mut remedies = Vec::new();
    if let Some(named) = own.hosts.iter().find(|host| !host.starts_with('*')).filter(|_| leads_here) {
        remedies.push(Remedy::address(address.with(AddressParts { host: Some(named), ..AddressParts::default() })));
    }
    remedies.push(Remedy::owner(format!("Please have a certificate issued that is for {} too.", address.host())));
    Finding::failing(FindingKind::OtherHost, says, remedies)
}

#[cfg(test)]
mod tests {
    use super::super::sketch;
    use super::*;
    use crate::catalog::upstream::Fingerprint;
    use rstest::rstest;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn now() -> DateTime<Utc> {
        at("2026-11-01T12:00:00Z")
    }

    fn certificate() -> Certificate {
        Certificate {
            hosts: vec!["*.quarry.example".to_owned(), "www.quarry.example".to_owned()],
            from: at("2026-01-01T00:00:00Z"),
            until: at("2027-01-01T00:00:00Z"),
            is_self_signed: false,
            version: 3,
            issuer: "Harbour Authority".to_owned(),
            fingerprint: Fingerprint::parse(&format!("sha256:{}", "ab".repeat(32))).unwrap(),
        }
    }

    fn stands(until: &str) -> Tls {
        Tls::Stands { certificate: Certificate { until: at(until), ..certificate() }, asks_for_ours: false }
    }

    fn not_trusted(why: NotTrusted, chain: Vec<Certificate>) -> Tls {
        Tls::NotTrusted { why, chain, their_clock: None, leads_here: false, is_for_other_host: false }
    }

    fn by_clock(why: NotTrusted, own: Certificate, theirs: &str) -> Tls {
        let their_clock = Some(at(theirs));
        Tls::NotTrusted { why, chain: vec![own], their_clock, leads_here: false, is_for_other_host: false }
    }

    fn for_another(leads_here: bool, hosts: &[&str]) -> Tls {
        let hosts = hosts.iter().map(|host| (*host).to_owned()).collect();
        let chain = vec![Certificate { hosts, ..certificate() }];
        Tls::NotTrusted { why: NotTrusted::OtherHost, chain, their_clock: None, leads_here, is_for_other_host: true }
    }

    fn not_tls(words: Words) -> Tls {
        Tls::NotTls { words }
    }

    fn judged(address: &str, tls: &Tls) -> Judged {
        judge(&Address::parse(address).unwrap(), tls, now())
    }

    fn own() -> Certificate {
        Certificate { is_self_signed: true, ..certificate() }
    }

    fn first_version() -> Certificate {
        Certificate { version: 1, ..certificate() }
    }

    fn ended() -> Certificate {
        Certificate { until: at("2026-10-01T00:00:00Z"), ..certificate() }
    }

    fn to_come() -> Certificate {
        Certificate { from: at("2026-12-01T00:00:00Z"), ..certificate() }
    }

    const PIN: &str =
        r#"{"setting":"certificate","to":"sha256:abababababababababababababababababababababababababababababababab"}"#;

    #[rstest]
    #[case::good(&stands("2027-01-01T00:00:00Z"), "-")]
    #[case::a_day_more_than_two_weeks(&stands("2026-11-16T12:00:00Z"), "-")]
    #[case::two_weeks(&stands("2026-11-15T12:00:00Z"), "expires-soon noted: owner")]
    #[case::ours_wanted(&Tls::WantsOurs { shown: false }, "client-certificate failing: operator, owner")]
    #[case::ours_refused(&Tls::WantsOurs { shown: true }, "client-certificate failing: operator, owner")]
    #[case::old(&Tls::Old("TLS 1.0".to_owned()), "old-encryption failing: owner")]
    #[case::plain(&not_tls(Words::Http), r#"port-plain failing: {"setting":"address","to":"http://quarry.example:443"}, owner"#)]
    #[case::plain_second_version(&not_tls(Words::Http2), r#"port-plain failing: {"setting":"address","to":"http://quarry.example:443"}, owner"#)]
    #[case::a_banner(&not_tls(Words::Text("220 quay".to_owned())), "not-http failing: operator")]
    #[case::silence(&not_tls(Words::Nothing), "handshake-failed failing: owner")]
    #[case::closed(&not_tls(Words::Closed), "handshake-failed failing: owner")]
    #[case::noise(&not_tls(Words::Bytes), "handshake-failed failing: owner")]
    #[case::failed(&Tls::Failed("no cipher in common".to_owned()), "handshake-failed failing: owner")]
    #[case::no_certificate(&not_trusted(NotTrusted::Bad, vec![]), "handshake-failed failing: owner")]
    #[case::first_version(&not_trusted(NotTrusted::Bad, vec![first_version()]), "old-certificate failing: owner")]
    #[case::ended(&not_trusted(NotTrusted::Expired, vec![ended()]), "expired failing: owner")]
    #[case::to_come(&not_trusted(NotTrusted::NotYet, vec![to_come()]), "clock-off failing: operator")]
    #[case::good_by_their_clock(&by_clock(NotTrusted::Expired, ended(), "2026-09-30T00:00:00Z"), "clock-off failing: operator")]
    #[case::ended_by_their_clock_too(&by_clock(NotTrusted::Expired, ended(), "2026-10-02T00:00:00Z"), "expired failing: owner")]
    #[case::another_host(&for_another(false, &["www.quarry.example"]), "other-host failing: owner")]
    #[case::another_name_of_it(&for_another(true, &["*.quarry.example", "www.quarry.example"]), r#"other-host failing: {"setting":"address","to":"https://www.quarry.example"}, owner"#)]
    #[case::no_name_at_all(&for_another(true, &[]), "other-host failing: owner")]
    #[case::by_itself(&not_trusted(NotTrusted::UnknownIssuer, vec![own()]), &format!("self-signed failing: {PIN}"))]
    #[case::alone(&not_trusted(NotTrusted::UnknownIssuer, vec![certificate()]), &format!("chain-incomplete failing: operator, owner, {PIN}"))]
    #[case::with_its_chain(&not_trusted(NotTrusted::UnknownIssuer, vec![certificate(), own()]), &format!("unknown-authority failing: operator, {PIN}"))]
    fn what_is_the_matter_with_the_encryption(#[case] tls: &Tls, #[case] expected: &str) {
        assert_eq!(sketch::of(&judged("https://quarry.example", tls)), expected);
    }

    #[rstest]
    #[case::here("http://127.0.0.1:8000", "none needed")]
    #[case::elsewhere("http://quayside:8000", "readable")]
    fn none_is_judged_by_where_the_server_is(#[case] address: &str, #[case] words: &str) {
        let judged = judged(address, &Tls::NotAskedFor);
        assert!(judged.findings.is_empty() && judged.came_back.contains(words), "{judged:?}");
    }

    #[rstest]
    #[case::no_cipher(&Tls::Failed("no cipher in common".to_owned()), &["no cipher in common", "quarry.example"])]
    #[case::silence(&not_tls(Words::Nothing), &["does not answer to TLS"])]
    #[case::closed(&not_tls(Words::Reset), &["at the first word of TLS"])]
    #[case::days_left(&stands("2026-11-15T12:00:00Z"), &["14 days"])]
    #[case::refused(&Tls::WantsOurs { shown: true }, &["refuses Wendor's client certificate"])]
    #[case::wanted(&Tls::WantsOurs { shown: false }, &["Wendor has none"])]
    #[case::begins(&not_trusted(NotTrusted::NotYet, vec![to_come()]), &["2026-12-01 00:00", "2026-11-01 12:00"])]
    #[case::no_host(&for_another(false, &[]), &["for no host at all"])]
    #[case::mark_of_the_pin(&not_trusted(NotTrusted::UnknownIssuer, vec![own()]), &["is self-signed"])]
    fn what_is_said_names_what_was_seen(#[case] tls: &Tls, #[case] words: &[&str]) {
        let judged = judged("https://quarry.example", tls);
        let says = &judged.findings[0].says;
        assert!(words.iter().all(|word| says.contains(word)), "{says}");
    }

    #[rstest]
    #[case::ended(NotTrusted::Expired, ended(), true)]
    #[case::already_said(NotTrusted::OtherHost, certificate(), false)]
    #[case::a_form_without_names(NotTrusted::Expired, Certificate { version: 1, ..ended() }, false)]
    fn another_host_is_said_beside_another_matter(
        #[case] why: NotTrusted,
        #[case] own: Certificate,
        #[case] is_said: bool,
    ) {
        let chain = vec![own];
        let tls = Tls::NotTrusted { why, chain, their_clock: None, leads_here: false, is_for_other_host: true };
        let says = judged("https://pier.example", &tls).findings[0].says.clone();
        assert_eq!(says.contains("*.quarry.example, www.quarry.example, and not for pier.example"), is_said, "{says}");
    }

    #[test]
    fn a_pin_shows_the_beginning_of_the_fingerprint() {
        let judged = judged("https://quarry.example", &not_trusted(NotTrusted::UnknownIssuer, vec![own()]));
        assert!(judged.findings[0].remedies[0].says.contains("(sha256:abababababababab)"), "{judged:?}");
    }

    #[test]
    fn a_certificate_is_good_from_its_first_moment_on() {
        let own = Certificate { from: now(), until: now(), ..certificate() };
        assert_eq!(out_of_time("quarry.example", &own, None, now()).kind, FindingKind::Expired);
        let later = Certificate { from: at("2026-11-01T12:00:01Z"), ..own };
        assert_eq!(out_of_time("quarry.example", &later, None, now()).kind, FindingKind::ClockOff);
    }
}
