//! The way to an upstream: its name, a connection to each of its addresses, and who vouches for it.

use std::net::{IpAddr, SocketAddr};

use chrono::{DateTime, TimeDelta, Utc};

use super::finding::{Finding, FindingKind};
use super::remedy::{Change, Remedy};
use super::report::Judged;
use super::seen::{Certificate, Dial, Dialled, NotTrusted, Tls};
use crate::catalog::upstream::{Address, AddressParts, is_loopback};
use crate::name::nearest;

/// Ports on which model servers usually listen, tried where the one given is refused.
pub const USUAL_PORTS: [u16; 10] = [8000, 8080, 80, 443, 8001, 8081, 8443, 8888, 5000, 3000];

/// From when on an end of a certificate is worth a word.
const SOON: TimeDelta = TimeDelta::days(14);

/// Judges what a host's name led to. `known` are hosts that were meant before: of other upstreams, and this machine's own.
#[must_use]
pub fn judge_name(address: &Address, found: &[IpAddr], known: &[&str]) -> Judged {
    let host = address.host();
    if !found.is_empty() {
        if host.parse::<IpAddr>().is_ok() {
            return Judged::well("an address, not a name");
        }
        let list: Vec<String> = found.iter().map(ToString::to_string).collect();
        return Judged::well(format!("{host} is {}", list.join(" and ")));
    }
    let mut remedies = Vec::new();
    if let Some(near) = nearest(host, known.iter().copied()) {
        remedies.push(Remedy::address(address.with(AddressParts { host: Some(near), ..AddressParts::default() })));
    }
    remedies.push(Remedy::operator(format!(
        "Look the name up where Wendor runs (`getent hosts {host}`); names of containers and of other networks are not known there"
    )));
    let says =
        format!("The name {host} leads to no address from the machine that Wendor runs on. Is it written right?");
    Judged::found(format!("{host} is not known"), Finding::failing(FindingKind::HostUnknown, says, remedies))
}

/// Judges a host that leads to an address that nothing goes to.
#[must_use]
pub fn judge_refused(address: &Address, refused: IpAddr, why: &str) -> Judged {
    let does = "If a model server is there all the same, name its range in the service's setting `reach`.";
    let says = format!("{} leads to {refused}, {why}: nothing is sent there.", address.host());
    let finding = Finding::failing(FindingKind::AddressRefused, says, vec![Remedy::operator(does)]);
    Judged::found(format!("{refused} is refused"), finding)
}

/// Judges the connections.
#[must_use]
pub fn judge_connection(address: &Address, dialled: &Dialled) -> Judged {
    let told: Vec<String> = dialled.each.iter().map(|(to, dial)| told(*to, dial)).collect();
    let came_back = told.join("; ");
    let has = |wanted: fn(&Dial) -> bool| dialled.each.iter().any(|(_, dial)| wanted(dial));
    if let Some((good, _)) = dialled.each.iter().find(|(_, dial)| matches!(dial, Dial::Open(_))) {
        let dead: Vec<&SocketAddr> =
            dialled.each.iter().filter(|(_, dial)| !matches!(dial, Dial::Open(_))).map(|(to, _)| to).collect();
        return match dead.first() {
            None => Judged::well(came_back),
            Some(dead) => Judged::found(came_back, family_dead(address, good.ip(), dead.ip())),
        };
    }
    let finding = if has(|dial| matches!(dial, Dial::Refused)) {
        refused(address, dialled)
    } else if has(|dial| matches!(dial, Dial::TimedOut)) {
        let (host, port) = (address.host(), address.port());
        let says = format!(
            "{host} takes no connection on port {port} and says nothing. A firewall between, or another machine of that address."
        );
        let owner = format!(
            "Please let the machine that Wendor runs on reach port {port} of {host}: at the moment a firewall drops what it sends."
        );
        Finding::failing(FindingKind::BlackHole, says, vec![Remedy::owner(owner)])
    } else {
        let says = format!("There is no way to {} from the machine that Wendor runs on.", address.host());
        let does = "Is that machine switched on, and in a network that this one reaches?";
        Finding::failing(FindingKind::NoWay, says, vec![Remedy::operator(does)])
    };
    Judged::found(came_back, finding)
}

fn told(to: SocketAddr, dial: &Dial) -> String {
    match dial {
        Dial::Open(_) => format!("something listens on {to}"),
        Dial::Refused => format!("{to} refuses"),
        Dial::TimedOut => format!("{to} says nothing"),
        Dial::NoWay(why) => format!("no way to {to}: {why}"),
    }
}

fn family_dead(address: &Address, good: IpAddr, dead: IpAddr) -> Finding {
    let says = format!(
        "{} is {good} and {dead}, and only {good} answers. Every new connection may try the dead one first.",
        address.host()
    );
    let good = good.to_string();
    let use_good = Remedy::address(address.with(AddressParts { host: Some(&good), ..AddressParts::default() }));
    // A certificate is for a name, so the address would not do there.
    let remedies = match address.is_encrypted() {
        true => vec![Remedy::owner(format!(
            "Please take {dead} out of the name {}, or let the server listen there.",
            address.host()
        ))],
        false => vec![use_good],
    };
    Finding::noted(FindingKind::FamilyDead, says, remedies)
}

fn refused(address: &Address, dialled: &Dialled) -> Finding {
    let (host, port) = (address.host(), address.port());
    if dialled.is_open_to_itself {
        let says = format!(
            "Port {port} is open on this machine, but only to itself: the server listens on 127.0.0.1 and not on {host}."
        );
        let local = address.with(AddressParts { host: Some("127.0.0.1"), ..AddressParts::default() });
        let owner = format!(
            "Please start the server so that it listens on every address of its machine (0.0.0.0), not only on 127.0.0.1, port {port}."
        );
        return Finding::failing(FindingKind::LoopbackOnly, says, vec![Remedy::address(local), Remedy::owner(owner)]);
    }
    if let Some(open) = dialled.other_ports.first() {
        let says = format!("Nothing listens on port {port} of {host}, but something does on port {open}.");
        let moved = address.with(AddressParts { port: Some(*open), ..AddressParts::default() });
        return Finding::failing(FindingKind::OtherPort, says, vec![Remedy::address(moved)]);
    }
    let says = format!(
        "{host} is there, but nothing listens on port {port}. The server is not started, listens on another port, or only to its own machine."
    );
    let owner = format!(
        "Is the model server on {host} running? From other machines port {port} refuses connections; it has to listen on 0.0.0.0, not on 127.0.0.1."
    );
    Finding::failing(FindingKind::NothingListens, says, vec![Remedy::owner(owner)])
}

/// Judges the encryption.
#[must_use]
pub fn judge_encryption(address: &Address, tls: &Tls, now: DateTime<Utc>) -> Judged {
    match tls {
        Tls::NotAskedFor if is_loopback(address.host()) => Judged::well("none, and none needed: it is on this machine"),
        Tls::NotAskedFor => Judged::well("none was asked for; prompts cross this network readable"),
        Tls::Stands(certificate) => stands(certificate, now),
        Tls::NotTls { speaks_http: true } => {
            let says =
                format!("Port {} of {} speaks plain HTTP, and the address says https.", address.port(), address.host());
            let plain = address.with(AddressParts {
                scheme: Some("http"),
                port: Some(address.port()),
                ..AddressParts::default()
            });
            let remedies = vec![Remedy::address(plain), Remedy::owner("Please let the server speak TLS.")];
            Judged::found("plain HTTP", Finding::failing(FindingKind::PortPlain, says, remedies))
        }
        Tls::NotTls { speaks_http: false } => failed(address, "what came back is no TLS"),
        Tls::Failed(why) => failed(address, why),
        Tls::NotTrusted { why, chain, their_clock, leads_here } => match chain.first() {
            None => failed(address, "no certificate came"),
            Some(own) => {
                let finding = not_trusted(address, *why, (own, chain.len()), (*their_clock, *leads_here, now));
                Judged::found(format!("a certificate by {} that is not accepted", own.issuer), finding)
            }
        },
    }
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
    let says = format!("No encrypted connection with {} comes about: {why}.", address.authority());
    let owner =
        "Please look at the TLS settings of the server: it should speak TLS 1.2 or 1.3 with a certificate of its name.";
    Judged::found(why, Finding::failing(FindingKind::HandshakeFailed, says, vec![Remedy::owner(owner)]))
}

fn not_trusted(
    address: &Address,
    why: NotTrusted,
    (own, certificates): (&Certificate, usize),
    (their_clock, leads_here, now): (Option<DateTime<Utc>>, bool, DateTime<Utc>),
) -> Finding {
    let pin = Remedy::change(
        format!(
            "Accept this one certificate ({}), after comparing it with the owner",
            shortened(own.fingerprint.as_str())
        ),
        Change::Certificate { to: own.fingerprint.clone() },
    );
    let host = address.host();
    match why {
        NotTrusted::Expired | NotTrusted::NotYet => out_of_time(host, own, their_clock, now),
        NotTrusted::OtherHost => other_host(address, own, leads_here),
        NotTrusted::UnknownIssuer | NotTrusted::Bad if own.is_self_signed => {
            let says = format!(
                "{host} vouches for itself: its certificate is signed by itself, and nobody known says that it is the right server."
            );
            Finding::failing(FindingKind::SelfSigned, says, vec![pin])
        }
        NotTrusted::UnknownIssuer | NotTrusted::Bad if certificates == 1 => {
            let says = format!(
                "{host} sends its own certificate alone; that of its issuer, {}, is missing, so the way to a known authority is not to be found.",
                own.issuer
            );
            let owner = format!(
                "Please let the server send its whole chain of certificates: that of {} is missing.",
                own.issuer
            );
            Finding::failing(FindingKind::ChainIncomplete, says, vec![Remedy::owner(owner), pin])
        }
        NotTrusted::UnknownIssuer | NotTrusted::Bad => {
            let says =
                format!("The certificate of {host} comes from {}, an authority that is not known here.", own.issuer);
            let add = "Give the service that authority's certificate (setting `authorities`), and start it again";
            Finding::failing(FindingKind::UnknownAuthority, says, vec![Remedy::operator(add), pin])
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
        let does = "Look at the clock of the machine that Wendor runs on (`date -u`); if it is right, wait or have the certificate issued anew";
        return Finding::failing(FindingKind::ClockOff, says, vec![Remedy::operator(does)]);
    }
    let says = format!("The certificate of {host} has expired on {}.", day(own.until));
    let owner = format!("The certificate of your server {host} has expired on {}; please renew it.", day(own.until));
    Finding::failing(FindingKind::Expired, says, vec![Remedy::owner(owner)])
}

fn other_host(address: &Address, own: &Certificate, leads_here: bool) -> Finding {
    let hosts = if own.hosts.is_empty() { "no host at all".to_owned() } else { own.hosts.join(", ") };
    let says = format!("The certificate is for {hosts}, and the address says {}.", address.host());
    let mut remedies = Vec::new();
    if let Some(named) = own.hosts.iter().find(|host| !host.starts_with('*')).filter(|_| leads_here) {
        remedies.push(Remedy::address(address.with(AddressParts { host: Some(named), ..AddressParts::default() })));
    }
    remedies.push(Remedy::owner(format!("Please have a certificate issued that is for {} too.", address.host())));
    Finding::failing(FindingKind::OtherHost, says, remedies)
}
