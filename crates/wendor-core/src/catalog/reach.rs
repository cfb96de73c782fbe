//! Addresses that no request goes to unless a setting names them: link-local ones and those of services that hand out a machine's
//! own credentials to whoever asks from it. What a name resolves to counts, whichever form it comes in.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use wendor_wire::address::unmapped;

use crate::caller::Ranges;

/// Services that tell a machine about itself, outside of the link-local ranges.
const METADATA: [IpAddr; 4] = [
    IpAddr::V4(Ipv4Addr::new(100, 100, 100, 200)),
    IpAddr::V4(Ipv4Addr::new(192, 0, 0, 192)),
    IpAddr::V6(Ipv6Addr::new(0xfd00, 0x0ec2, 0, 0, 0, 0, 0, 0x254)),
    IpAddr::V6(Ipv6Addr::new(0xfd20, 0x00ce, 0, 0, 0, 0, 0, 0x254)),
];

/// Where requests may go.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Reach {
    /// Ranges that are refused otherwise.
    allowed: Ranges,
}

impl Reach {
    /// Reads ranges, parted by commas.
    ///
    /// # Errors
    /// The one that is none.
    pub fn parse(text: &str) -> Result<Self, String> {
        Ok(Self { allowed: Ranges::parse(text)? })
    }

    /// Whether the setting names that address.
    #[must_use]
    pub fn allows(&self, address: IpAddr) -> bool {
        self.allowed.contains(unmapped(address))
    }

    /// Why nothing goes to that address, in words; `None` where something may.
    #[must_use]
    pub fn refuses(&self, address: IpAddr) -> Option<&'static str> {
        let address = unmapped(address);
        if self.allowed.contains(address) {
            return None;
        }
        let is_local = match address {
            IpAddr::V4(address) => address.is_link_local(),
            IpAddr::V6(address) => address.is_unicast_link_local(),
        };
        if is_local {
            Some("a link-local address, where services hand out a machine's own credentials")
        } else if METADATA.contains(&address) {
            Some("the address of a service that hands out a machine's own credentials")
        } else {
            None
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::loopback("127.0.0.1", "", false)]
    #[case::private("10.20.4.13", "", false)]
    #[case::public("203.0.113.9", "", false)]
    #[case::link_local("169.254.169.254", "", true)]
    #[case::of_the_sixth("fe80::1", "", true)]
    #[case::in_another_form("::ffff:169.254.169.254", "", true)]
    #[case::translated("64:ff9b::a9fe:a9fe", "", true)]
    #[case::metadata("100.100.100.200", "", true)]
    #[case::metadata_of_the_sixth("fd00:ec2::254", "", true)]
    #[case::allowed("169.254.10.7", "169.254.10.0/24", false)]
    #[case::beside_what_is_allowed("169.254.11.7", "169.254.10.0/24, 169.254.12.1", true)]
    #[case::one_alone("169.254.12.1", "169.254.10.0/24, 169.254.12.1", false)]
    fn what_is_refused(#[case] address: &str, #[case] allowed: &str, #[case] is_refused: bool) {
        let reach = Reach::parse(allowed).unwrap();
        assert_eq!(reach.refuses(address.parse().unwrap()).is_some(), is_refused);
    }

    #[test]
    fn what_is_no_range_is_named() {
        assert!(Reach::parse("169.254.10.0/24,everything").unwrap_err().contains("`everything`"));
    }
}
