//! Media by address: what a model's server may be told to fetch. Whoever runs one inside a network would otherwise fetch whatever an app
//! names from there, and tell what it saw.

use std::net::{IpAddr, Ipv4Addr};

use serde::{Deserialize, Serialize};
use url::{Host, Url};

/// What an offer may be given by address.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Addresses {
    /// `https:` addresses of public hosts.
    #[default]
    Public,
    /// Whatever an app names: the server reaches nothing that it should not, or apps are trusted with it.
    Any,
    /// Nothing.
    None,
    /// Images, which the gateway fetches from public hosts; the server gets their bytes.
    Fetched,
}

impl Addresses {
    /// Every one with its word.
    pub const WORDS: [(&'static str, Self); 4] =
        [("public", Self::Public), ("any", Self::Any), ("none", Self::None), ("fetched", Self::Fetched)];

    /// Its word.
    #[must_use]
    pub fn as_str(self) -> &'static str {
        Self::WORDS.into_iter().find(|(_, one)| *one == self).map_or("public", |(word, _)| word)
    }

    /// Whether it is the usual one.
    #[must_use]
    pub fn is_usual(&self) -> bool {
        *self == Self::default()
    }

    /// Whether a server with this rule may be told to fetch `url` itself.
    ///
    /// # Errors
    /// Why not, as the end of a sentence about the address.
    pub fn lets_fetch(self, url: &str) -> Result<(), String> {
        match self {
            Self::Any => Ok(()),
            Self::None => Err("this offer takes nothing by address; send its bytes".to_owned()),
            Self::Public | Self::Fetched => public(url).map(|_| ()),
        }
    }
}

/// Names that lead into a machine or its network (RFC 6761, 6762, 8375, and what is reserved for private use).
const INSIDE: [&str; 6] = ["localhost", "local", "internal", "home.arpa", "lan", "intranet"];

/// The address, read as browsers and servers read it, if it is a public one. What its name leads to is not known here.
///
/// # Errors
/// Why not, as the end of a sentence about the address.
pub fn public(url: &str) -> Result<Url, String> {
    let read = Url::parse(url.trim()).map_err(|error| format!("it is not an address ({error})"))?;
    if read.scheme() != "https" {
        return Err(format!("it is {}:, and only https: is taken; send its bytes", read.scheme()));
    }
    if !read.username().is_empty() || read.password().is_some() {
        return Err("it has a name or a password in it; send its bytes".to_owned());
    }
    let inside = |what: &str| Err(format!("it leads to {what}, and only public hosts are taken; send its bytes"));
    match read.host() {
        Some(Host::Domain(name)) => {
            let name = name.trim_end_matches('.').to_ascii_lowercase();
            let is_inside = INSIDE.iter().any(|end| name == *end || name.ends_with(&format!(".{end}")));
            if is_inside || !name.contains('.') { inside(&name) } else { Ok(read) }
        }
        Some(Host::Ipv4(address)) if !is_public(IpAddr::V4(address)) => inside(&address.to_string()),
        Some(Host::Ipv6(address)) if !is_public(IpAddr::V6(address)) => inside(&address.to_string()),
        Some(Host::Ipv4(_) | Host::Ipv6(_)) => Ok(read),
        None => Err("it names no host".to_owned()),
    }
}

/// Whether a text is an address that something could be fetched from: with a host, or of a file.
#[must_use]
pub fn is_fetchable(text: &str) -> bool {
    let looks_so = text.contains(':') && text.len() < 8_192;
    looks_so && Url::parse(text.trim()).is_ok_and(|url| url.has_host() || url.scheme() == "file")
}

/// Addresses of the fourth version behind translators of the sixth (RFC 6052).
const TRANSLATED: [u16; 6] = [0x64, 0xff9b, 0, 0, 0, 0];

/// Whether an address is one of the public network: reachable from anywhere, and inside of nothing (IANA's registries of special-purpose
/// addresses, RFC 6890).
#[must_use]
pub fn is_public(address: IpAddr) -> bool {
    match unmapped(address) {
        IpAddr::V4(address) => {
            let [first, second, third, _] = address.octets();
            let is_shared = first == 100 && (64..128).contains(&second);
            let is_protocol = (first, second, third) == (192, 0, 0) || (first == 198 && (18..20).contains(&second));
            !(first == 0
                || address.is_private()
                || address.is_loopback()
                || address.is_link_local()
                || address.is_documentation()
                || address.is_multicast()
                || first >= 240
                || is_shared
                || is_protocol)
        }
        // Of the sixth version one block is given out; what is below the documentation's and of translators in it is not.
        IpAddr::V6(address) => {
            let [first, second, ..] = address.segments();
            let is_given_out = (first & 0xe000) == 0x2000;
            let is_special =
                (first == 0x2001 && (second < 0x0200 || second == 0x0db8)) || first == 0x2002 || first == 0x3fff;
            is_given_out && !is_special
        }
    }
}

/// The address of the fourth version that one of the sixth stands for.
#[must_use]
pub fn unmapped(address: IpAddr) -> IpAddr {
    let IpAddr::V6(sixth) = address else { return address };
    let segments = sixth.segments();
    let is_translated = segments.starts_with(&TRANSLATED);
    let [.., high, low] = segments;
    let fourth = is_translated.then(|| Ipv4Addr::from((u32::from(high) << 16) | u32::from(low)));
    fourth.or_else(|| sixth.to_ipv4_mapped()).map_or(address, IpAddr::V4)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::public("https://images.example.com/a.png", true)]
    #[case::public_address("https://93.184.215.14/a.png", true)]
    #[case::with_a_port("https://images.example.com:8443/a.png", true)]
    #[case::unencrypted("http://images.example.com/a.png", false)]
    #[case::a_file("file:///etc/passwd", false)]
    #[case::another_scheme("gopher://images.example.com/", false)]
    #[case::loopback("https://127.0.0.1/a.png", false)]
    #[case::by_one_number("https://2130706433/a.png", false)]
    #[case::in_hexadecimal("https://0x7f.1/a.png", false)]
    #[case::in_octal("https://0177.0.0.1/a.png", false)]
    #[case::short("https://127.1/a.png", false)]
    #[case::wide_letters("https://１２７.0.0.1/a.png", false)]
    #[case::of_the_sixth("https://[::1]/a.png", false)]
    #[case::mapped("https://[::ffff:10.0.0.5]/a.png", false)]
    #[case::translated("https://[64:ff9b::a00:5]/a.png", false)]
    #[case::unique_local("https://[fd00::5]/a.png", false)]
    #[case::private("https://10.0.0.5/a.png", false)]
    #[case::shared("https://100.64.0.5/a.png", false)]
    #[case::metadata("https://169.254.169.254/latest/", false)]
    #[case::this_machine("https://localhost/a.png", false)]
    #[case::with_a_dot("https://localhost./a.png", false)]
    #[case::inside("https://quarry.internal/a.png", false)]
    #[case::one_label("https://quarry/a.png", false)]
    #[case::a_user("https://images.example.com@10.0.0.5/a.png", false)]
    #[case::backslashes("https:\\\\127.0.0.1\\a.png", false)]
    #[case::nothing("a.png", false)]
    fn what_is_public(#[case] url: &str, #[case] expected: bool) {
        assert_eq!(public(url).is_ok(), expected, "{:?}", public(url));
        assert_eq!(Addresses::Public.lets_fetch(url).is_ok(), expected);
        assert!(Addresses::Any.lets_fetch(url).is_ok() && Addresses::None.lets_fetch(url).is_err());
    }

    #[rstest]
    #[case("http://10.0.0.5/a", true)]
    #[case(" file:///etc/passwd", true)]
    #[case("data:image/png;base64,AAAA", false)]
    #[case("a note: with a colon", false)]
    fn what_could_be_fetched(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_fetchable(text), expected);
    }
}
