//! The first words of TLS, as far as it takes to name a server that speaks only what is not used any more: a greeting that offers old
//! versions and ciphers too, and what a server chooses of it. Nothing is ever sent over such a connection.
//!
//! The records are those of RFC 5246 (TLS 1.2), sections 6.2.1 and 7.4.1, and of RFC 6066, section 3, for the host's name; the names of
//! ciphers are those of the registry of TLS parameters.

/// A cipher: its number, its name, and whether it is still in use.
type Cipher = (u16, &'static str, bool);

/// Ciphers that are offered: those in use, and those that old servers are left with.
const CIPHERS: [Cipher; 28] = [
    (0xc02f, "TLS_ECDHE_RSA_WITH_AES_128_GCM_SHA256", true),
    (0xc030, "TLS_ECDHE_RSA_WITH_AES_256_GCM_SHA384", true),
    (0xc02b, "TLS_ECDHE_ECDSA_WITH_AES_128_GCM_SHA256", true),
    (0xc02c, "TLS_ECDHE_ECDSA_WITH_AES_256_GCM_SHA384", true),
    (0xcca8, "TLS_ECDHE_RSA_WITH_CHACHA20_POLY1305_SHA256", true),
    (0xcca9, "TLS_ECDHE_ECDSA_WITH_CHACHA20_POLY1305_SHA256", true),
    (0xc023, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA256", false),
    (0xc024, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA384", false),
    (0xc027, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA256", false),
    (0xc028, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA384", false),
    (0xc009, "TLS_ECDHE_ECDSA_WITH_AES_128_CBC_SHA", false),
    (0xc00a, "TLS_ECDHE_ECDSA_WITH_AES_256_CBC_SHA", false),
    (0xc013, "TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA", false),
    (0xc014, "TLS_ECDHE_RSA_WITH_AES_256_CBC_SHA", false),
    (0x009e, "TLS_DHE_RSA_WITH_AES_128_GCM_SHA256", false),
    (0x009f, "TLS_DHE_RSA_WITH_AES_256_GCM_SHA384", false),
    (0x0033, "TLS_DHE_RSA_WITH_AES_128_CBC_SHA", false),
    (0x0039, "TLS_DHE_RSA_WITH_AES_256_CBC_SHA", false),
    (0x009c, "TLS_RSA_WITH_AES_128_GCM_SHA256", false),
    (0x009d, "TLS_RSA_WITH_AES_256_GCM_SHA384", false),
    (0x003c, "TLS_RSA_WITH_AES_128_CBC_SHA256", false),
    (0x003d, "TLS_RSA_WITH_AES_256_CBC_SHA256", false),
    (0x002f, "TLS_RSA_WITH_AES_128_CBC_SHA", false),
    (0x0035, "TLS_RSA_WITH_AES_256_CBC_SHA", false),
    (0x000a, "TLS_RSA_WITH_3DES_EDE_CBC_SHA", false),
    (0x0016, "TLS_DHE_RSA_WITH_3DES_EDE_CBC_SHA", false),
    (0x0005, "TLS_RSA_WITH_RC4_128_SHA", false),
    (0x0004, "TLS_RSA_WITH_RC4_128_MD5", false),
];

/// Versions that are not spoken any more, as they stand in records.
const OLD_VERSIONS: [(u16, &str); 3] = [(0x0300, "SSL 3.0"), (0x0301, "TLS 1.0"), (0x0302, "TLS 1.1")];

/// TLS 1.2, the highest that is offered here.
const HIGHEST: u16 = 0x0303;

fn pair(number: u16) -> [u8; 2] {
    number.to_be_bytes()
}

/// `part` with its length in front of it, in two bytes. No part of a greeting is longer than that holds.
fn counted(part: &[u8]) -> Vec<u8> {
    let length = u16::try_from(part.len()).unwrap_or(u16::MAX);
    [&pair(length)[..], part].concat()
}

fn extension(number: u16, content: &[u8]) -> Vec<u8> {
    [&pair(number)[..], &counted(content)].concat()
}

/// A greeting to `host` that offers everything up to TLS 1.2. `random` is drawn by whoever sends it.
#[must_use]
pub fn greeting(host: &str, random: [u8; 32]) -> Vec<u8> {
    let ciphers: Vec<u8> = CIPHERS.iter().flat_map(|(number, _, _)| pair(*number)).collect();
    let name = [&[0][..], &counted(host.as_bytes())].concat();
    let mut extensions = Vec::new();
    // A name is only ever a name: an address is not sent as one.
    if host.parse::<std::net::IpAddr>().is_err() {
        extensions.extend(extension(0, &counted(&name)));
    }
    let groups: Vec<u8> = [0x001d_u16, 0x0017, 0x0018].into_iter().flat_map(pair).collect();
    extensions.extend(extension(10, &counted(&groups)));
    extensions.extend(extension(11, &[1, 0]));
    let signatures: Vec<u8> =
        [0x0403_u16, 0x0804, 0x0401, 0x0503, 0x0805, 0x0501, 0x0203, 0x0201].into_iter().flat_map(pair).collect();
    extensions.extend(extension(13, &counted(&signatures)));
    let body = [
        &pair(HIGHEST)[..],
        &random,
        // No session is gone on with, and nothing is compressed.
        &[0],
        &counted(&ciphers),
        &[1, 0],
        &counted(&extensions),
    ]
    .concat();
    // The length of the message has three bytes.
    let message = [&[1, 0][..], &counted(&body)].concat();
    [&[0x16][..], &pair(0x0301), &counted(&message)].concat()
}

/// What a server chooses that answers so: the version where it is too old, or else the cipher where that is. `None` where it is fine, or
/// says nothing of it.
#[must_use]
pub fn too_old(answer: &[u8]) -> Option<String> {
    // A record of the handshake, and in it the server's greeting.
    let greeting = answer.strip_prefix(&[0x16, 0x03])?.get(3..)?;
    if greeting.first() != Some(&2) {
        return None;
    }
    let number = |at: usize| Some(u16::from_be_bytes([*greeting.get(at)?, *greeting.get(at + 1)?]));
    let version = number(4)?;
    let session = usize::from(*greeting.get(38)?);
    let cipher = number(39 + session)?;
    let cipher = CIPHERS.iter().find(|(known, _, _)| *known == cipher);
    if let Some((_, version)) = OLD_VERSIONS.iter().find(|(known, _)| *known == version) {
        let cipher = cipher.map(|(_, name, _)| format!(" with {name}")).unwrap_or_default();
        return Some(format!("{version}{cipher}"));
    }
    cipher.filter(|(_, _, is_in_use)| !is_in_use).map(|(_, name, _)| format!("TLS 1.2 with {name}"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn answer(version: u16, session: u8, cipher: u16) -> Vec<u8> {
        let mut body = vec![2, 0, 0, 0];
        body.extend(pair(version));
        body.extend([7; 32]);
        body.push(session);
        body.extend(vec![9; usize::from(session)]);
        body.extend(pair(cipher));
        body.push(0);
        [&[0x16, 0x03, 0x03][..], &counted(&body)].concat()
    }

    #[rstest]
    #[case::old_version(answer(0x0301, 32, 0xc013), Some("TLS 1.0 with TLS_ECDHE_RSA_WITH_AES_128_CBC_SHA"))]
    #[case::old_cipher(answer(0x0303, 0, 0x002f), Some("TLS 1.2 with TLS_RSA_WITH_AES_128_CBC_SHA"))]
    #[case::in_use(answer(0x0303, 32, 0xc02f), None)]
    #[case::alert(vec![0x15, 0x03, 0x01, 0, 2, 2, 70], None)]
    #[case::cut(answer(0x0301, 32, 0xc013)[..40].to_vec(), None)]
    #[case::nothing(vec![], None)]
    fn what_is_too_old_is_named(#[case] answer: Vec<u8>, #[case] expected: Option<&str>) {
        assert_eq!(too_old(&answer).as_deref(), expected);
    }

    #[test]
    fn a_greeting_has_the_lengths_that_it_says() {
        let greeting = greeting("pier.tern.example", [5; 32]);
        let length = |at: usize| usize::from(u16::from_be_bytes([greeting[at], greeting[at + 1]]));
        assert_eq!((greeting[0], length(3)), (0x16, greeting.len() - 5));
        assert_eq!((greeting[5], length(7)), (1, greeting.len() - 9));
        assert!(greeting.windows(17).any(|window| window == b"pier.tern.example"));
    }

    proptest::proptest! {
        #[test]
        fn whatever_answers_nothing_panics(answer in proptest::collection::vec(proptest::num::u8::ANY, 0..120)) {
            let mut answer = answer;
            let _told = too_old(&answer);
            answer.splice(0..0, [0x16, 0x03, 0x01, 0, 90]);
            let _told = too_old(&answer);
        }
    }
}
