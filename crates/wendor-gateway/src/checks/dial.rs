//! A connection to each address of a host, all at once, and what can be seen around a port that refuses.

use std::io::ErrorKind;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::{Duration, Instant};

use futures_util::future::join_all;
use tokio::net::TcpStream;
use tokio::time::timeout;
use wendor_core::diagnosis::reach::USUAL_PORTS;
use wendor_core::diagnosis::seen::{Dial, Dialled};

/// As long as requests wait for a connection by default.
pub const CONNECT: Duration = Duration::from_secs(3);

/// Other ports are asked only whether they are open, next door.
const KNOCK: Duration = Duration::from_millis(400);

/// Connects to `port` of each address, and closes again.
pub async fn each(addresses: &[IpAddr], port: u16) -> Dialled {
    let dials = addresses.iter().map(|address| SocketAddr::new(*address, port));
    let each: Vec<(SocketAddr, Dial)> = join_all(dials.map(|to| async move { (to, one(to).await) })).await;
    let mut dialled = Dialled { each, ..Dialled::default() };
    let refusing = dialled.each.iter().find(|(_, dial)| *dial == Dial::Refused).map(|(to, _)| *to);
    if let Some(to) = refusing.filter(|_| open_one(&dialled).is_none()) {
        dialled.is_this_machine = is_this_machine(to.ip());
        if dialled.is_this_machine {
            dialled.open_at = open_beside(to).await;
        }
        dialled.other_ports = open_ports(to).await;
    }
    dialled
}

/// An address that is open, the quickest first.
#[must_use]
pub fn open_one(dialled: &Dialled) -> Option<SocketAddr> {
    let open = dialled.each.iter().filter_map(|(to, dial)| match dial {
        Dial::Open(us) => Some((us, to)),
        Dial::Refused | Dial::TimedOut | Dial::NoWay(_) => None,
    });
    open.min().map(|(_, to)| *to)
}

async fn one(to: SocketAddr) -> Dial {
    let start = Instant::now();
    match timeout(CONNECT, TcpStream::connect(to)).await {
        Err(_elapsed) => Dial::TimedOut,
        Ok(Ok(_closed_again)) => Dial::Open(super::since(start)),
        Ok(Err(error)) => {
            let kind = error.kind();
            if matches!(kind, ErrorKind::ConnectionRefused | ErrorKind::ConnectionReset) {
                Dial::Refused
            } else if kind == ErrorKind::TimedOut {
                Dial::TimedOut
            } else {
                Dial::NoWay(kind.to_string())
            }
        }
    }
}

async fn is_open(to: SocketAddr) -> bool {
    timeout(KNOCK, TcpStream::connect(to)).await.is_ok_and(|connected| connected.is_ok())
}

async fn open_ports(refusing: SocketAddr) -> Vec<u16> {
    let knocks = USUAL_PORTS.into_iter().filter(|port| *port != refusing.port());
    let open =
        join_all(knocks.map(|port| async move { (port, is_open(SocketAddr::new(refusing.ip(), port)).await) })).await;
    open.into_iter().filter(|(_, is_open)| *is_open).map(|(port, _)| port).collect()
}

/// Another address of this machine at which the same port is open.
async fn open_beside(refusing: SocketAddr) -> Option<IpAddr> {
    let own = [Some(Ipv4Addr::LOCALHOST.into()), Some(Ipv6Addr::LOCALHOST.into()), outward()];
    for address in own.into_iter().flatten().filter(|address| *address != refusing.ip()) {
        if is_open(SocketAddr::new(address, refusing.port())).await {
            return Some(address);
        }
    }
    None
}

/// The address by which this machine goes out; nothing is sent for it.
fn outward() -> Option<IpAddr> {
    let socket = std::net::UdpSocket::bind((Ipv4Addr::UNSPECIFIED, 0)).ok()?;
    // An address of documentation, which every route outward leads to.
    socket.connect((Ipv4Addr::new(192, 0, 2, 1), 9)).ok()?;
    socket.local_addr().ok().map(|address| address.ip())
}

/// Whether an address is one of this machine's own.
fn is_this_machine(address: IpAddr) -> bool {
    std::net::UdpSocket::bind(SocketAddr::new(address, 0)).is_ok()
}
