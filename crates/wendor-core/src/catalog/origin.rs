//! The origin of a web page (RFC 6454): scheme, host, and the port where it is not the scheme's own.

use serde::{Deserialize, Serialize};

/// An origin, written as browsers write it: `https://berths.example`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct Origin(String);

impl Origin {
    /// Checks an origin.
    ///
    /// # Errors
    /// A sentence that names the text and what an origin looks like.
    pub fn parse(text: &str) -> Result<Self, String> {
        let bad = |why: &str| format!("`{text}` is not an origin of a web page: {why}; write `https://berths.example`");
        let uri: http::Uri = text.parse().map_err(|_| bad("it cannot be read as an address"))?;
        let scheme = match uri.scheme_str() {
            Some(scheme @ ("http" | "https")) => scheme,
            _ => return Err(bad("it must begin with http:// or https://")),
        };
        let authority = uri.authority().ok_or_else(|| bad("it names no host"))?;
        if authority.as_str().contains('@') || uri.query().is_some() || !matches!(uri.path(), "" | "/") {
            return Err(bad("it is scheme, host and port alone"));
        }
        let host = authority.host().to_ascii_lowercase();
        let usual = if scheme == "https" { 443 } else { 80 };
        Ok(Self(match authority.port_u16() {
            Some(port) if port != usual => format!("{scheme}://{host}:{port}"),
            Some(_) | None => format!("{scheme}://{host}"),
        }))
    }

    /// The text, as a browser sends it.
    #[must_use]
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for Origin {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        Self::parse(&text)
    }
}

impl From<Origin> for String {
    fn from(origin: Origin) -> Self {
        origin.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("https://berths.example", Ok("https://berths.example"))]
    #[case::capitals("HTTPS://Berths.Example/", Ok("https://berths.example"))]
    #[case::usual_port("https://berths.example:443", Ok("https://berths.example"))]
    #[case::other_port("http://127.0.0.1:5173", Ok("http://127.0.0.1:5173"))]
    #[case::sixth_version("http://[::1]:5173", Ok("http://[::1]:5173"))]
    #[case::no_scheme("berths.example", Err("must begin with"))]
    #[case::everything("*", Err("must begin with"))]
    #[case::none("null", Err("must begin with"))]
    #[case::path("https://berths.example/a", Err("scheme, host and port alone"))]
    #[case::credential("https://a@berths.example", Err("scheme, host and port alone"))]
    fn origins(#[case] text: &str, #[case] expected: Result<&str, &str>) {
        match (Origin::parse(text), expected) {
            (Ok(origin), Ok(expected)) => assert_eq!(origin.as_str(), expected),
            (Err(why), Err(expected)) => assert!(why.contains(expected) && why.contains(text), "{why}"),
            (found, _) => panic!("{found:?}"),
        }
    }
}
