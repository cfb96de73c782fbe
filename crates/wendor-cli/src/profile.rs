//! Where the service is and who asks: from the environment, or from what `wendor sign-in` has kept.

use std::io::Write;
use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::failure::Failure;

const DEFAULT_URL: &str = "http://127.0.0.1:7420";

/// What is kept between commands.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Kept {
    url: Option<String>,
    token: Option<String>,
}

/// Where the service is and who asks.
#[derive(Clone, Debug)]
pub struct Profile {
    /// Base address, without a slash at its end.
    pub url: String,
    token: Option<String>,
}

impl Profile {
    /// From the environment, then from what is kept.
    ///
    /// # Errors
    /// When the kept file cannot be read.
    pub fn find() -> Result<Self, Failure> {
        let kept = match kept_path() {
            Some(path) if path.exists() => {
                let text = std::fs::read_to_string(&path)
                    .map_err(|error| Failure::Own(format!("{}: {error}", path.display())))?;
                toml::from_str(&text).map_err(|error| Failure::Own(format!("{}: {error}", path.display())))?
            }
            Some(_) | None => Kept::default(),
        };
        let url = match (variable("WENDOR_URL"), kept.url) {
            (Some(url), _) => base_url("WENDOR_URL", &url)?,
            (None, Some(url)) => base_url("the kept address", &url)?,
            (None, None) => DEFAULT_URL.to_owned(),
        };
        Ok(Self { url, token: variable("WENDOR_TOKEN").or(kept.token) })
    }

    /// The person's token.
    ///
    /// # Errors
    /// When there is none.
    pub fn token(&self) -> Result<&str, Failure> {
        let missing = || Failure::NotAllowed("Not signed in: set WENDOR_TOKEN, or use `wendor sign-in`.".to_owned());
        self.token.as_deref().ok_or_else(missing)
    }

    /// The app's key.
    ///
    /// # Errors
    /// When there is none.
    pub fn key() -> Result<String, Failure> {
        let missing = || {
            Failure::NotAllowed(
                "No key: set WENDOR_KEY to a key of your team (`wendor key issue` makes one).".to_owned(),
            )
        };
        variable("WENDOR_KEY").ok_or_else(missing)
    }

    /// Keeps `url` and `token` for this machine's user alone. Gives where.
    ///
    /// # Errors
    /// When the file cannot be written.
    pub fn keep(url: &str, token: &str) -> Result<PathBuf, Failure> {
        let path = kept_path().ok_or_else(|| Failure::Own("neither XDG_CONFIG_HOME nor HOME is set".to_owned()))?;
        let kept = Kept { url: Some(url.to_owned()), token: Some(token.to_owned()) };
        let text = toml::to_string(&kept).map_err(|error| Failure::Own(error.to_string()))?;
        write_private(&path, &text).map_err(|error| Failure::Own(format!("{}: {error}", path.display())))?;
        Ok(path)
    }
}

/// The base address of a service as somebody wrote it in `place`, without a slash at its end.
///
/// # Errors
/// When it is none, with what it may have been meant to be.
pub fn base_url(place: &str, text: &str) -> Result<String, Failure> {
    let is_http = |url: &reqwest::Url| matches!(url.scheme(), "http" | "https") && url.has_host();
    if reqwest::Url::parse(text).is_ok_and(|url| is_http(&url)) {
        return Ok(text.trim_end_matches('/').to_owned());
    }
    let meant = format!("http://{text}");
    let hint = match reqwest::Url::parse(&meant) {
        Ok(url) if is_http(&url) && !text.contains("://") => meant,
        Ok(_) | Err(_) => DEFAULT_URL.to_owned(),
    };
    Err(Failure::NotUnderstood(format!("{place} is `{text}`, which is not an address: write {hint}")))
}

fn variable(name: &str) -> Option<String> {
    std::env::var(name).ok().filter(|value| !value.is_empty())
}

fn kept_path() -> Option<PathBuf> {
    let folder = variable("XDG_CONFIG_HOME")
        .map(PathBuf::from)
        .or_else(|| variable("HOME").map(|home| PathBuf::from(home).join(".config")))?;
    Some(folder.join("wendor").join("client.toml"))
}

fn write_private(path: &std::path::Path, text: &str) -> std::io::Result<()> {
    use std::os::unix::fs::OpenOptionsExt;
    if let Some(folder) = path.parent() {
        std::fs::create_dir_all(folder)?;
    }
    // Made anew: a file that others may read would stay readable if it were only written over.
    if path.exists() {
        std::fs::remove_file(path)?;
    }
    std::fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?.write_all(text.as_bytes())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::whole("http://127.0.0.1:7420", Ok("http://127.0.0.1:7420"))]
    #[case::slash_at_the_end("https://models.example/", Ok("https://models.example"))]
    #[case::no_scheme("localhost:7420", Err("write http://localhost:7420"))]
    #[case::host_alone("models.example", Err("write http://models.example"))]
    #[case::another_scheme("ftp://models.example", Err("write http://127.0.0.1:7420"))]
    #[case::nonsense("::", Err("write http://127.0.0.1:7420"))]
    fn an_address_has_a_scheme(#[case] text: &str, #[case] expected: Result<&str, &str>) {
        match (base_url("WENDOR_URL", text), expected) {
            (Ok(url), Ok(expected)) => assert_eq!(url, expected),
            (Err(failure), Err(words)) => assert!(failure.to_string().contains(words), "{failure}"),
            (url, _) => panic!("{url:?}"),
        }
    }
}
