//! Parts of a form as clients upload files with it (`multipart/form-data`, RFC 7578), found by their places so that one can be replaced
//! and the rest, files included, stays the bytes that it was.

use std::ops::Range;

use memchr::memmem;

/// The boundary that a content type names; `None` when it is another type.
#[must_use]
pub fn boundary_of(content_type: &str) -> Option<String> {
    let (kind, parameters) = content_type.split_once(';')?;
    if !kind.trim().eq_ignore_ascii_case("multipart/form-data") {
        return None;
    }
    let named = parameters.split(';').find_map(|parameter| {
        let (name, value) = parameter.split_once('=')?;
        name.trim().eq_ignore_ascii_case("boundary").then(|| value.trim().trim_matches('"').to_owned())
    });
    named.filter(|boundary| !boundary.is_empty())
}

/// Where the content of the part `name` stands.
#[must_use]
pub fn part(body: &[u8], boundary: &str, name: &str) -> Option<Range<usize>> {
    let delimiter = format!("--{boundary}");
    let marks: Vec<usize> = memmem::find_iter(body, delimiter.as_bytes()).collect();
    let wanted = format!("name=\"{name}\"");
    marks.windows(2).find_map(|pair| {
        let (&[from, to], start) = (pair, b"\r\n\r\n") else { return None };
        let part = body.get(from + delimiter.len()..to)?;
        let head_end = memmem::find(part, start)?;
        let head = std::str::from_utf8(part.get(..head_end)?).ok()?;
        let is_it = head.lines().any(|line| {
            let lower = line.to_ascii_lowercase();
            lower.starts_with("content-disposition:") && line.split(';').any(|piece| piece.trim() == wanted)
        });
        let content = from + delimiter.len() + head_end + start.len();
        // A line break belongs to the boundary behind it.
        is_it.then(|| content..to.saturating_sub(2).max(content))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const BODY: &str = "--b7\r\nContent-Disposition: form-data; name=\"file\"; filename=\"model\"\r\nContent-Type: audio/wav\r\n\r\nRI\r\nFF\r\n--b7\r\ncontent-disposition: form-data; name=\"model\"\r\n\r\ntern-audio\r\n--b7\r\nContent-Disposition: form-data; name=\"prompt\"\r\n\r\n\r\n--b7--\r\n";

    #[rstest]
    #[case::text("model", Some("tern-audio"))]
    #[case::file("file", Some("RI\r\nFF"))]
    #[case::empty("prompt", Some(""))]
    #[case::not_there("language", None)]
    fn parts_by_name(#[case] name: &str, #[case] content: Option<&str>) {
        let value = part(BODY.as_bytes(), "b7", name).map(|place| &BODY[place]);
        assert_eq!(value, content);
    }

    #[rstest]
    #[case::plain("multipart/form-data; boundary=b7", Some("b7"))]
    #[case::quoted("Multipart/Form-Data; charset=utf-8; boundary=\"b 7\"", Some("b 7"))]
    #[case::json("application/json", None)]
    #[case::none("multipart/form-data", None)]
    fn boundaries(#[case] content_type: &str, #[case] boundary: Option<&str>) {
        assert_eq!(boundary_of(content_type).as_deref(), boundary);
    }
}
