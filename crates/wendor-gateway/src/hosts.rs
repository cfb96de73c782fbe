//! What names lead to: a hosts file of the installation before the system's own resolver, the same for requests and for checks.

use std::collections::BTreeMap;
use std::future::Future;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};

use hyper_util::client::legacy::connect::dns::Name;
use wendor_core::catalog::reach::Reach;
use wendor_wire::address::is_public;

/// Names with their addresses, and the addresses that nothing goes to.
#[derive(Clone, Debug, Default)]
pub struct Hosts {
    names: Arc<BTreeMap<String, Vec<IpAddr>>>,
    reach: Arc<Reach>,
}

/// What a host leads to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Led {
    /// Its addresses; none when it has none.
    pub to: Vec<IpAddr>,
    /// One of them that nothing goes to, and why: then nothing goes to any.
    pub refused: Option<(IpAddr, &'static str)>,
}

/// Why the file cannot be read.
#[derive(Debug, thiserror::Error)]
#[error("hosts: {0}")]
pub struct BadHosts(String);

impl Hosts {
    /// Reads a file in the form of `/etc/hosts`: an address and its names in each line, `#` before remarks.
    ///
    /// # Errors
    /// [`BadHosts`] with the line.
    pub fn read(file: Option<&Path>, reach: Reach) -> Result<Self, BadHosts> {
        let reach = Arc::new(reach);
        let Some(path) = file else { return Ok(Self { names: Arc::default(), reach }) };
        let text = std::fs::read_to_string(path)
            .map_err(|error| BadHosts(format!("{} cannot be read: {error}", path.display())))?;
        let mut names: BTreeMap<String, Vec<IpAddr>> = BTreeMap::new();
        for (number, line) in text.lines().enumerate() {
            let mut words = line.split('#').next().unwrap_or_default().split_whitespace();
            let Some(address) = words.next() else { continue };
            let address: IpAddr = address.parse().map_err(|_| {
                BadHosts(format!("{} line {}: `{address}` is not an address", path.display(), number + 1))
            })?;
            words.for_each(|name| names.entry(name.to_ascii_lowercase()).or_default().push(address));
        }
        Ok(Self { names: Arc::new(names), reach })
    }

    /// The names that the file tells.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.names.keys().map(String::as_str)
    }

    /// Why nothing goes to a host that is an address itself.
    #[must_use]
    pub fn refuses(&self, host: &str) -> Option<&'static str> {
        self.reach.refuses(host.parse().ok()?)
    }

    /// What a host leads to.
    pub async fn look_up(&self, host: &str) -> Led {
        let to = self.addresses(host).await;
        let refused = to.iter().find_map(|address| Some((*address, self.reach.refuses(*address)?)));
        Led { to, refused }
    }

    /// What a host of the public network leads to; addresses that `reach` allows count as public.
    ///
    /// # Errors
    /// The first address that is not.
    pub async fn look_up_public(&self, host: &str) -> Result<Vec<IpAddr>, IpAddr> {
        let to = self.addresses(host).await;
        let inside = |address: &&IpAddr| !is_public(**address) && !self.reach.allows(**address);
        match to.iter().find(inside) {
            Some(address) => Err(*address),
            None => Ok(to),
        }
    }

    async fn addresses(&self, host: &str) -> Vec<IpAddr> {
        if let Ok(address) = host.parse() {
            return vec![address];
        }
        if let Some(known) = self.names.get(&host.to_ascii_lowercase()) {
            return known.clone();
        }
        let resolved = tokio::net::lookup_host((host, 0)).await;
        let mut addresses: Vec<IpAddr> = Vec::new();
        for address in resolved.into_iter().flatten().map(|address| address.ip()) {
            if !addresses.contains(&address) {
                addresses.push(address);
            }
        }
        addresses
    }
}

impl tower_service::Service<Name> for Hosts {
    type Response = std::vec::IntoIter<SocketAddr>;
    type Error = std::io::Error;
    type Future = Pin<Box<dyn Future<Output = Result<Self::Response, Self::Error>> + Send>>;

    fn poll_ready(&mut self, _context: &mut Context<'_>) -> Poll<Result<(), Self::Error>> {
        Poll::Ready(Ok(()))
    }

    fn call(&mut self, name: Name) -> Self::Future {
        let hosts = self.clone();
        Box::pin(async move {
            let led = hosts.look_up(name.as_str()).await;
            if let Some((address, why)) = led.refused {
                let why_not = format!("the name leads to {address}, {why}");
                return Err(std::io::Error::new(std::io::ErrorKind::PermissionDenied, why_not));
            }
            let addresses: Vec<SocketAddr> = led.to.into_iter().map(|address| SocketAddr::new(address, 0)).collect();
            if addresses.is_empty() {
                Err(std::io::Error::new(std::io::ErrorKind::NotFound, "the name does not resolve"))
            } else {
                Ok(addresses.into_iter())
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn the_file_goes_before_the_system() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("hosts");
        std::fs::write(&path, "# ferries\n127.0.0.9 quarry.tern.example quarry # hosted\n::1 quarry\n").unwrap();
        let hosts = Hosts::read(Some(&path), Reach::default()).unwrap();
        assert_eq!(hosts.look_up("Quarry").await.to.len(), 2);
        assert_eq!(hosts.look_up("10.0.0.1").await.to, ["10.0.0.1".parse::<IpAddr>().unwrap()]);
        assert_eq!(hosts.look_up("no-such-host.invalid").await, Led::default());
        std::fs::write(&path, "127.0.0.9 gulls\n169.254.169.254 gulls\n").unwrap();
        let led = Hosts::read(Some(&path), Reach::default()).unwrap().look_up("gulls").await;
        assert_eq!(led.refused.unwrap().0.to_string(), "169.254.169.254");
        std::fs::write(&path, "quarry 127.0.0.9").unwrap();
        assert!(Hosts::read(Some(&path), Reach::default()).unwrap_err().to_string().contains("line 1: `quarry`"));
    }
}
