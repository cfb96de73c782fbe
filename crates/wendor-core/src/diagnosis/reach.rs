//! The way to an upstream: its name, and a connection to each of its addresses.

use std::net::{IpAddr, SocketAddr};

use wendor_wire::nearest::nearest;

use super::finding::{Finding, FindingKind};
use super::remedy::Remedy;
use super::report::Judged;
use super::seen::{Dial, Dialled};
use crate::catalog::upstream::{Address, AddressParts, is_loopback};

/// Ports on which model servers usually listen, tried where the one given is refused.
pub const USUAL_PORTS: [u16; 10] = [8000, 8080, 80, 443, 8001, 8081, 8443, 8888, 5000, 3000];

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
            "{host} neither takes nor refuses a connection on port {port}: a firewall drops it, the server takes no more, or no machine has that address."
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
    let good = bracketed(good);
    let use_good = Remedy::address(address.with(AddressParts { host: Some(&good), ..AddressParts::default() }));
    // A certificate is for a name, so the address would not do there.
    let remedies = if address.is_encrypted() {
        vec![Remedy::owner(format!(
            "Please take {dead} out of the name {}, or let the server listen there.",
            address.host()
        ))]
    } else {
        vec![use_good]
    };
    Finding::noted(FindingKind::FamilyDead, says, remedies)
}

fn refused(address: &Address, dialled: &Dialled) -> Finding {
    let (host, port) = (address.host(), address.port());
    if let Some(open) = dialled.open_at {
        let is_to_itself = open.is_loopback();
        let says = if is_to_itself && !is_loopback(host) {
            format!(
                "Port {port} is open on this machine, but only to itself: the server listens on {open} and not on {host}."
            )
        } else {
            format!("Port {port} is open on this machine, on {open} and not on {host}.")
        };
        let open = bracketed(open);
        let mut remedies =
            vec![Remedy::address(address.with(AddressParts { host: Some(&open), ..AddressParts::default() }))];
        if is_to_itself && !is_loopback(host) {
            remedies.push(Remedy::owner(format!(
                "Please start the server so that it listens on every address of its machine (0.0.0.0), not only on {open}, port {port}."
            )));
        }
        return Finding::failing(FindingKind::LoopbackOnly, says, remedies);
    }
    if let Some(open) = dialled.other_ports.first() {
        let says = format!("Nothing listens on port {port} of {host}, but something does on port {open}.");
        let moved = address.with(AddressParts { port: Some(*open), ..AddressParts::default() });
        return Finding::failing(FindingKind::OtherPort, says, vec![Remedy::address(moved)]);
    }
    if is_loopback(host) || dialled.is_this_machine {
        let says = format!(
            "Nothing listens on port {port} of this machine. The server is not started, or listens on another port."
        );
        let does = format!(
            "Start it, or look which port it listens on: `ss -ltn` lists them. If it runs in a container, its port {port} has to be published to this machine"
        );
        return Finding::failing(FindingKind::NothingListens, says, vec![Remedy::operator(does)]);
    }
    let says = format!(
        "{host} is there, but nothing listens on port {port}. The server is not started, listens on another port, or only to its own machine."
    );
    let owner = format!(
        "Is the model server on {host} running? From other machines port {port} refuses connections; it has to listen on 0.0.0.0, not on 127.0.0.1."
    );
    Finding::failing(FindingKind::NothingListens, says, vec![Remedy::owner(owner)])
}

/// An address as a host of a URL.
fn bracketed(address: IpAddr) -> String {
    if address.is_ipv6() { format!("[{address}]") } else { address.to_string() }
}
