//! From where a call really comes, when it came through proxies: their word is taken if they are trusted, and nobody else's.
//!
//! Addresses and headers enter, one address leaves. The headers are `X-Forwarded-For` and `X-Forwarded-Proto`, which proxies of every kind
//! write, and `Forwarded` (RFC 7239).

use std::net::IpAddr;

use ipnet::IpNet;

/// Ranges of addresses.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Ranges(Vec<IpNet>);

impl Ranges {
    /// Reads ranges and single addresses, parted by commas.
    ///
    /// # Errors
    /// The one that is none.
    pub fn parse(text: &str) -> Result<Self, String> {
        let range = |text: &str| {
            let text = text.trim();
            let whole = || text.parse::<IpAddr>().map(IpNet::from);
            text.parse()
                .or_else(|_| whole())
                .map_err(|_| format!("`{text}` is not a range of addresses, such as 10.20.0.0/16"))
        };
        let words = text.split(',').filter(|word| !word.trim().is_empty());
        Ok(Self(words.map(range).collect::<Result<_, _>>()?))
    }

    /// Whether an address is in one of them.
    #[must_use]
    pub fn contains(&self, address: IpAddr) -> bool {
        let address = address.to_canonical();
        self.0.iter().any(|range| range.contains(&address))
    }

    /// Whether there is none.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }
}

/// What came with a call.
#[derive(Clone, Copy, Debug)]
pub struct Came<'a> {
    /// Who connected.
    pub peer: IpAddr,
    /// Values of `X-Forwarded-For`, in their order.
    pub forwarded_for: &'a [&'a str],
    /// Values of `Forwarded`, in their order.
    pub forwarded: &'a [&'a str],
    /// The value of `X-Forwarded-Proto`.
    pub scheme: Option<&'a str>,
}

/// From where a call comes.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Caller {
    /// The nearest address that is no trusted proxy.
    pub address: IpAddr,
    /// Whether the way to the proxies was encrypted, if one that is trusted says so.
    pub is_encrypted: Option<bool>,
}

/// From where a call comes: from the end of what proxies have written, each word is believed as long as whoever wrote it is trusted.
#[must_use]
pub fn caller(came: &Came<'_>, proxies: &Ranges) -> Caller {
    let peer = came.peer.to_canonical();
    if !proxies.contains(peer) {
        return Caller { address: peer, is_encrypted: None };
    }
    let plain = came.forwarded_for.iter().flat_map(|value| value.split(','));
    let named = came.forwarded.iter().flat_map(|value| value.split(',')).filter_map(|hop| of_hop(hop, "for"));
    let hops: Vec<&str> = if came.forwarded_for.is_empty() { named.collect() } else { plain.collect() };
    let mut address = peer;
    for hop in hops.into_iter().rev() {
        let Some(before) = read_address(hop) else { break };
        address = before;
        if !proxies.contains(before) {
            break;
        }
    }
    let last = came.forwarded.last().and_then(|value| value.rsplit(',').next());
    let scheme = came.scheme.or_else(|| last.and_then(|hop| of_hop(hop, "proto")));
    let last_of = |schemes: &str| schemes.rsplit(',').next().unwrap_or_default().trim().eq_ignore_ascii_case("https");
    Caller { address, is_encrypted: scheme.map(last_of) }
}

/// A member of one hop of `Forwarded`.
fn of_hop<'a>(hop: &'a str, name: &str) -> Option<&'a str> {
    let pairs = hop.split(';').filter_map(|pair| pair.split_once('='));
    pairs.into_iter().find(|(found, _)| found.trim().eq_ignore_ascii_case(name)).map(|(_, value)| value.trim())
}

/// An address, with or without quotes, brackets and a port.
fn read_address(text: &str) -> Option<IpAddr> {
    let text = text.trim().trim_matches('"');
    let bare = match text.strip_prefix('[') {
        Some(rest) => rest.split(']').next()?,
        None if text.matches(':').count() == 1 => text.split(':').next()?,
        None => text,
    };
    bare.parse::<IpAddr>().ok().map(|address| address.to_canonical())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::straight("203.0.113.9", &[], &[], "203.0.113.9")]
    #[case::a_stranger_says_so("203.0.113.9", &["198.51.100.1"], &[], "203.0.113.9")]
    #[case::a_proxy_says_so("10.0.0.7", &["198.51.100.1"], &[], "198.51.100.1")]
    #[case::the_client_said_more("10.0.0.7", &["127.0.0.1, 198.51.100.1"], &[], "198.51.100.1")]
    #[case::two_proxies("10.0.0.7", &["198.51.100.1, 10.0.0.8"], &[], "198.51.100.1")]
    #[case::in_two_headers("10.0.0.7", &["198.51.100.1", "10.0.0.8"], &[], "198.51.100.1")]
    #[case::with_a_port("10.0.0.7", &["198.51.100.1:4711"], &[], "198.51.100.1")]
    #[case::of_the_sixth("10.0.0.7", &["[2001:db8::7]:4711"], &[], "2001:db8::7")]
    #[case::by_the_standard("10.0.0.7", &[], &["for=\"[2001:db8::7]\";proto=https, for=10.0.0.8"], "2001:db8::7")]
    #[case::mapped("::ffff:10.0.0.7", &["198.51.100.1"], &[], "198.51.100.1")]
    #[case::nonsense("10.0.0.7", &["unknown"], &[], "10.0.0.7")]
    #[case::only_proxies("10.0.0.7", &["10.0.0.9"], &[], "10.0.0.9")]
    fn the_nearest_that_is_no_proxy(
        #[case] peer: &str,
        #[case] forwarded_for: &[&str],
        #[case] forwarded: &[&str],
        #[case] expected: &str,
    ) {
        let proxies = Ranges::parse("10.0.0.0/8").unwrap();
        let came = Came { peer: peer.parse().unwrap(), forwarded_for, forwarded, scheme: None };
        assert_eq!(caller(&came, &proxies).address, expected.parse::<IpAddr>().unwrap());
    }

    #[rstest]
    #[case::trusted("10.0.0.7", Some("https"), Some(true))]
    #[case::plain("10.0.0.7", Some("http"), Some(false))]
    #[case::the_last_word("10.0.0.7", Some("https, http"), Some(false))]
    #[case::a_stranger("203.0.113.9", Some("https"), None)]
    #[case::unsaid("10.0.0.7", None, None)]
    fn whether_it_was_encrypted(#[case] peer: &str, #[case] scheme: Option<&str>, #[case] expected: Option<bool>) {
        let proxies = Ranges::parse("10.0.0.0/8").unwrap();
        let came = Came { peer: peer.parse().unwrap(), forwarded_for: &[], forwarded: &[], scheme };
        assert_eq!(caller(&came, &proxies).is_encrypted, expected);
    }
}
