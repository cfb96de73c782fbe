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
    let says = format!("The name {host} does not resolve on the machine that Wendor runs on. Check the spelling.");
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

/// Says of each address that was dialled whether it answered, and why not.
#[must_use]
pub fn judge_connection(address: &Address, dialled: &Dialled) -> Judged {
    let lines: Vec<String> = dialled.each.iter().map(|(to, dial)| told(*to, dial)).collect();
    let came_back = lines.join("; ");
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
            "{host} does not respond on port {port}: a firewall drops the connection, the server accepts no more, or no machine has that address."
        );
        let owner = format!(
            "Please let the machine that Wendor runs on reach port {port} of {host}: at the moment a firewall drops what it sends."
        );
        Finding::failing(FindingKind::BlackHole, says, vec![Remedy::owner(owner)])
    } else {
        let says = format!("There is no network route to {} from the machine that Wendor runs on.", address.host());
        let does = "Is that machine switched on, and in a network that this one reaches?";
        Finding::failing(FindingKind::NoWay, says, vec![Remedy::operator(does)])
    };
    Judged::found(came_back, finding)
}

fn told(to: SocketAddr, dial: &Dial) -> String {
    match dial {
        Dial::Open(_) => format!("something listens on {to}"),
        Dial::Refused => format!("{to} refuses"),
        Dial::TimedOut => format!("{to} does not respond"),
        Dial::NoWay(why) => format!("no route to {to}: {why}"),
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
        let open = open.to_string();
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
            "Start it, or look which port it listens on: `ss -ltn` lists them. If it runs in a container, its port {port} must be published to this machine"
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

#[cfg(test)]
mod tests {
    use super::super::sketch;
    use super::*;
    use rstest::rstest;

    fn address(text: &str) -> Address {
        Address::parse(text).unwrap()
    }

    fn dialled(each: &[(&str, Dial)]) -> Dialled {
        let each = each.iter().map(|(to, dial)| (to.parse().unwrap(), dial.clone())).collect();
        Dialled { each, ..Dialled::default() }
    }

    fn refused() -> Dialled {
        dialled(&[("10.20.0.7:8000", Dial::Refused)])
    }

    const FOUR: &str = "10.20.0.7:8000";
    const SIX: &str = "[fd00::7]:8000";

    #[rstest]
    #[case::found("http://quayside:8000", &["10.20.0.7"], "-")]
    #[case::an_address("http://10.20.0.7:8000", &["10.20.0.7"], "-")]
    #[case::nearly_another("http://quaysied:8000", &[], r#"host-unknown failing: {"setting":"address","to":"http://quayside:8000"}, operator"#)]
    #[case::like_none("http://lighthouse:8000", &[], "host-unknown failing: operator")]
    fn what_a_name_led_to(#[case] url: &str, #[case] found: &[&str], #[case] expected: &str) {
        let addresses: Vec<IpAddr> = found.iter().map(|one| one.parse().unwrap()).collect();
        let judged = judge_name(&address(url), &addresses, &["quayside", "chartroom"]);
        assert_eq!(sketch::of(&judged), expected);
        assert_eq!(judged.came_back == "an address, not a name", url.contains("10.20"));
    }

    #[test]
    fn an_address_that_nothing_is_sent_to_is_named() {
        let judged =
            judge_refused(&address("http://metadata:80"), "169.254.1.1".parse().unwrap(), "a link-local address");
        assert_eq!(sketch::of(&judged), "address-refused failing: operator");
        assert!(judged.findings[0].says.contains("169.254.1.1, a link-local address"), "{judged:?}");
    }

    #[rstest]
    #[case::open("http://quayside:8000", dialled(&[(FOUR, Dial::Open(700))]), "-")]
    #[case::one_of_two("http://quayside:8000", dialled(&[(SIX, Dial::TimedOut), (FOUR, Dial::Open(700))]), r#"family-dead noted: {"setting":"address","to":"http://10.20.0.7:8000"}"#)]
    #[case::the_other_of_two("http://quayside:8000", dialled(&[(SIX, Dial::Open(700)), (FOUR, Dial::Refused)]), r#"family-dead noted: {"setting":"address","to":"http://[fd00::7]:8000"}"#)]
    #[case::one_of_two_encrypted("https://quayside:8000", dialled(&[(SIX, Dial::TimedOut), (FOUR, Dial::Open(700))]), "family-dead noted: owner")]
    #[case::dropped("http://quayside:8000", dialled(&[(FOUR, Dial::TimedOut)]), "black-hole failing: owner")]
    #[case::no_way("http://quayside:8000", dialled(&[(FOUR, Dial::NoWay("no route".to_owned()))]), "no-way failing: operator")]
    #[case::refused_elsewhere("http://quayside:8000", refused(), "nothing-listens failing: owner")]
    #[case::refused_here("http://127.0.0.1:8000", refused(), "nothing-listens failing: operator")]
    #[case::refused_here_by_name("http://quayside:8000", Dialled { is_this_machine: true, ..refused() }, "nothing-listens failing: operator")]
    #[case::another_port("http://quayside:8000", Dialled { other_ports: vec![8080, 80], ..refused() }, r#"other-port failing: {"setting":"address","to":"http://quayside:8080"}"#)]
    #[case::to_itself_alone("http://quayside:8000", Dialled { open_at: Some([127, 0, 0, 1].into()), ..refused() }, r#"loopback-only failing: {"setting":"address","to":"http://127.0.0.1:8000"}, owner"#)]
    #[case::the_other_loopback("http://127.0.0.1:8000", Dialled { open_at: Some("::1".parse().unwrap()), ..refused() }, r#"loopback-only failing: {"setting":"address","to":"http://[::1]:8000"}"#)]
    #[case::another_address_of_it("http://127.0.0.1:8000", Dialled { open_at: Some([10, 20, 0, 7].into()), ..refused() }, r#"loopback-only failing: {"setting":"address","to":"http://10.20.0.7:8000"}"#)]
    fn how_connections_went(#[case] url: &str, #[case] dialled: Dialled, #[case] expected: &str) {
        assert_eq!(sketch::of(&judge_connection(&address(url), &dialled)), expected);
    }

    #[rstest]
    #[case::to_itself("http://quayside:8000", [127, 0, 0, 1], "only to itself")]
    #[case::not_where_it_was_looked("http://quayside:8000", [10, 20, 0, 7], "on 10.20.0.7 and not on quayside")]
    fn where_the_port_is_open_is_said(#[case] url: &str, #[case] open: [u8; 4], #[case] words: &str) {
        let judged = judge_connection(&address(url), &Dialled { open_at: Some(open.into()), ..refused() });
        assert!(judged.findings[0].says.contains(words), "{judged:?}");
    }

    #[test]
    fn what_each_address_does_is_told() {
        let each = [(SIX, Dial::TimedOut), (FOUR, Dial::Refused)];
        let came_back = judge_connection(&address("http://quayside:8000"), &dialled(&each)).came_back;
        assert_eq!(came_back, "[fd00::7]:8000 does not respond; 10.20.0.7:8000 refuses");
        let each = [(FOUR, Dial::NoWay("no route".to_owned()))];
        let came_back = judge_connection(&address("http://quayside:8000"), &dialled(&each)).came_back;
        assert_eq!(came_back, "no route to 10.20.0.7:8000: no route");
    }
}
