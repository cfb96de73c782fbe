//! What an image is by its first bytes. What its sender says of it may be wrong, and some dialects do not say it at all.

use base64::Engine;
use base64::engine::general_purpose::STANDARD as BASE64;

/// Letters of base64 whose bytes tell every kind: sixteen letters are twelve bytes.
const TELLING_LETTERS: usize = 16;

/// The kind of an image in base64; `None` when it is none that models take.
#[must_use]
pub fn kind_of_base64(text: &str) -> Option<&'static str> {
    let start = text.get(..TELLING_LETTERS)?;
    kind_of(&BASE64.decode(start).ok()?)
}

/// The kind of an image by its first twelve bytes.
#[must_use]
pub fn kind_of(start: &[u8]) -> Option<&'static str> {
    match start {
        [0x89, b'P', b'N', b'G', ..] => Some("image/png"),
        [0xff, 0xd8, 0xff, ..] => Some("image/jpeg"),
        [b'G', b'I', b'F', b'8', ..] => Some("image/gif"),
        [b'R', b'I', b'F', b'F', _, _, _, _, b'W', b'E', b'B', b'P', ..] => Some("image/webp"),
        [b'B', b'M', ..] => Some("image/bmp"),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::png("iVBORw0KGgoAAAANSUhEUg==", Some("image/png"))]
    #[case::jpeg("/9j/4AAQSkZJRgABAQAAAQ==", Some("image/jpeg"))]
    #[case::gif("R0lGODlhAQABAIAAAAAAAA==", Some("image/gif"))]
    #[case::webp("UklGRiQAAABXRUJQVlA4IA==", Some("image/webp"))]
    #[case::text("VGhlIGxhc3QgZmVycnkgbGVhdmVz", None)]
    #[case::too_short("iVBO", None)]
    #[case::not_base64("!!!!!!!!!!!!!!!!!!!!", None)]
    fn kinds(#[case] text: &str, #[case] kind: Option<&str>) {
        assert_eq!(kind_of_base64(text), kind);
    }
}
