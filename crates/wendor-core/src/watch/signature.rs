//! How a message to a webhook is signed: HTTP message signatures (RFC 9421) with HMAC-SHA256 over the digest of its body (RFC 9530) and its delivery.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chrono::{DateTime, Utc};
use hmac::{Hmac, Mac};
use sha2::{Digest, Sha256};

use crate::secret::Secret;

/// The label of our signature.
pub const LABEL: &str = "wendor";

/// The headers of a signed message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Signed {
    /// Value of the header `content-digest` (RFC 9530).
    pub content_digest: String,
    /// `signature-input`: what is signed, when, and with whose secret.
    pub input: String,
    /// Value of the header `signature` (RFC 9421).
    pub signature: String,
}

/// Signs a message.
///
/// # Panics
/// Never: a secret of any length will do for HMAC.
#[must_use]
pub fn sign(secret: &Secret, webhook: &str, delivery: &str, body: &[u8], at: DateTime<Utc>) -> Signed {
    let content_digest = format!("sha-256=:{}:", STANDARD.encode(Sha256::digest(body)));
    let covered = "(\"content-digest\" \"wendor-delivery\")";
    let params = format!("{covered};created={};keyid=\"{webhook}\";alg=\"hmac-sha256\"", at.timestamp());
    let base = format!(
        "\"content-digest\": {content_digest}\n\"wendor-delivery\": {delivery}\n\"@signature-params\": {params}"
    );
    let mut mac = Hmac::<Sha256>::new_from_slice(secret.expose().as_bytes()).expect("any length will do");
    mac.update(base.as_bytes());
    let signature = STANDARD.encode(mac.finalize().into_bytes());
    Signed { content_digest, input: format!("{LABEL}={params}"), signature: format!("{LABEL}=:{signature}:") }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Computed with another implementation (Python's `hmac` and `hashlib`) from the text that docs/operating.md gives.
    #[test]
    fn a_message_is_signed_as_the_standard_says() {
        let at = DateTime::from_timestamp(1_764_252_000, 0).unwrap();
        let signed = sign(&Secret::new("harbour-light-harbour-light"), "on-call", "17", br#"{"id":17}"#, at);
        assert_eq!(signed.content_digest, "sha-256=:ullSoIyxd1eZURqM8ay55hZiF7YjxLt+joji+Ip8Mlc=:");
        let params =
            "wendor=(\"content-digest\" \"wendor-delivery\");created=1764252000;keyid=\"on-call\";alg=\"hmac-sha256\"";
        assert_eq!(signed.input, params);
        assert_eq!(signed.signature, "wendor=:SzjkejiTMcQNkdhTzWL8x49ldkLo6w0280JaX268bHo=:");
    }
}
