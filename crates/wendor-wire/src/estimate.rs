//! Tokens where nobody counted them: four bytes a token, the usual figure for Latin text. Marked as estimated wherever it
//! ends up in the ledger.

/// Bytes of text that count as one token, before an offer is known better.
pub const BYTES_PER_TOKEN: u64 = 4;

/// The estimate for `bytes` of text, rounded up.
#[must_use]
pub fn tokens_of_bytes(bytes: u64) -> u64 {
    bytes.div_ceil(BYTES_PER_TOKEN)
}
