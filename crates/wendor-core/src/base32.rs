//! Base 32 in Crockford's alphabet: no `i`, `l`, `o`, `u`, so that ids survive being read aloud.
//!
//! Bytes or an integer enter, text leaves; used for key texts and request ids.

const ALPHABET: &[u8; 32] = b"0123456789abcdefghjkmnpqrstvwxyz";

fn digit(five_bits: u128) -> u8 {
    let index = usize::try_from(five_bits & 31).expect("five bits fit in usize");
    ALPHABET[index]
}

/// The lowest `count * 5` bits of `number` as digits, most significant first, lower case.
pub fn digits(number: u128, count: u32) -> impl Iterator<Item = u8> {
    (0..count).rev().map(move |place| digit(number >> (place * 5)))
}

/// `bytes` as digits of five bits, the last one padded with zero bits. At most 16 bytes a group are needed here,
/// so groups of five bytes (eight digits) are encoded one after the other.
#[must_use]
pub fn of_bytes(bytes: &[u8]) -> String {
    let mut text = String::with_capacity((bytes.len() * 8).div_ceil(5));
    for group in bytes.chunks(5) {
        let number = group.iter().fold(0u128, |sum, byte| (sum << 8) | u128::from(*byte));
        let bits = u32::try_from(group.len() * 8).expect("at most 40 bits");
        let count = bits.div_ceil(5);
        text.extend(digits(number << (count * 5 - bits), count).map(char::from));
    }
    text
}

/// The number of these digits, in lower case; `None` when one is none, or there are more than 25.
#[must_use]
pub fn number_of(digits: impl Iterator<Item = u8>) -> Option<u128> {
    let place = |byte: u8| u128::try_from(ALPHABET.iter().position(|digit| *digit == byte)?).ok();
    digits.enumerate().try_fold(0u128, |sum, (at, byte)| if at < 25 { Some(sum << 5 | place(byte)?) } else { None })
}

/// Whether a byte is a digit, in lower case.
#[must_use]
pub fn is_digit(byte: u8) -> bool {
    ALPHABET.contains(&byte)
}

/// Whether `text` holds only digits of the alphabet, in lower case.
#[must_use]
pub fn is_base32(text: &str) -> bool {
    text.bytes().all(is_digit)
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
        assert_eq!(digits(33, 3).collect::<Vec<_>>(), b"011");
        assert_eq!((number_of("011".bytes()), number_of("0l1".bytes())), (Some(33), None));
        assert_eq!(number_of("0".repeat(26).bytes()), None);
    }
}
