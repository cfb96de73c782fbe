//! Base 32 in Crockford's alphabet: no `i`, `l`, `o`, `u`, so that ids survive being read aloud.
//!
//! Bytes or an integer enter, text leaves; used for key texts and request ids.

const ALPHABET: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

fn digit(five_bits: u128) -> char {
    let index = usize::try_from(five_bits & 31).expect("five bits fit in usize");
    char::from(ALPHABET[index])
}

/// The lowest `digits * 5` bits of `number`, most significant first, lower case.
#[must_use]
pub fn of_number(number: u128, digits: u32) -> String {
    (0..digits).rev().map(|place| digit(number >> (place * 5))).collect()
}

/// `bytes` as digits of five bits, the last one padded with zero bits. At most 16 bytes a group are needed here,
/// so groups of five bytes (eight digits) are encoded one after the other.
#[must_use]
pub fn of_bytes(bytes: &[u8]) -> String {
    let mut text = String::new();
    for group in bytes.chunks(5) {
        let number = group.iter().fold(0u128, |sum, byte| (sum << 8) | u128::from(*byte));
        let bits = u32::try_from(group.len() * 8).expect("at most 40 bits");
        let digits = bits.div_ceil(5);
        text.push_str(&of_number(number << (digits * 5 - bits), digits));
    }
    text
}

/// The number that `text` is, in lower case; `None` when it holds anything else, or more than 25 digits.
#[must_use]
pub fn to_number(text: &str) -> Option<u128> {
    let place = |byte: u8| u128::try_from(ALPHABET.iter().position(|digit| *digit == byte)?).ok();
    let is_short = text.len() <= 25;
    text.bytes().try_fold(0u128, |sum, byte| Some(sum << 5 | place(byte)?)).filter(|_| is_short)
}

/// Whether `text` holds only digits of the alphabet, in lower case.
#[must_use]
pub fn is_base32(text: &str) -> bool {
    text.bytes().all(|byte| ALPHABET.contains(&byte))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::nothing(&[], "")]
    #[case::one_byte(&[0xff], "zw")]
    #[case::five_bytes(&[0, 0x44, 0x32, 0x14, 0xc7], "01234567")]
    #[case::six_bytes(&[0, 0x44, 0x32, 0x14, 0xc7, 0], "0123456700")]
    fn bytes_become_digits_of_five_bits(#[case] bytes: &[u8], #[case] text: &str) {
        assert_eq!(of_bytes(bytes), text);
        assert!(is_base32(&of_bytes(bytes)));
    }

    #[test]
    fn letters_that_are_mistaken_for_others_do_not_occur() {
        for letter in ["i", "l", "o", "u", "A", "-"] {
            assert!(!is_base32(letter), "{letter}");
        }
        assert_eq!(of_number(33, 3), "011");
        assert_eq!((to_number("011"), to_number("0l1")), (Some(33), None));
    }
}
