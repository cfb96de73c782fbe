//! Images as a kind of their own: counted by the piece, priced by the piece, never by their bytes.

use serde::{Deserialize, Serialize};

/// The width and height of an image, in pixels.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub struct ImageSize {
    width: u16,
    height: u16,
}

/// Why a text is no size.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("`{0}` is not an image size: write its width and height in pixels, such as `1024x1024`")]
pub struct BadSize(String);

impl ImageSize {
    /// Reads `1024x1024`.
    ///
    /// # Errors
    /// [`BadSize`] with the text.
    pub fn parse(text: &str) -> Result<Self, BadSize> {
        let read = || {
            let (width, height) = text.split_once('x')?;
            let side = |text: &str| text.parse().ok().filter(|pixels: &u16| *pixels > 0);
            Some(Self { width: side(width)?, height: side(height)? })
        };
        read().ok_or_else(|| BadSize(crate::bounded::bounded(text, 64)))
    }
}

impl ImageSize {
    /// Width and height.
    #[must_use]
    pub fn sides(self) -> (u16, u16) {
        (self.width, self.height)
    }

    /// The size of these sides; none when one is 0.
    #[must_use]
    pub fn of_sides(width: u16, height: u16) -> Option<Self> {
        (width > 0 && height > 0).then_some(Self { width, height })
    }
}

impl std::fmt::Display for ImageSize {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}x{}", self.width, self.height)
    }
}

impl TryFrom<String> for ImageSize {
    type Error = BadSize;
    fn try_from(text: String) -> Result<Self, BadSize> {
        Self::parse(&text)
    }
}

impl From<ImageSize> for String {
    fn from(size: ImageSize) -> Self {
        size.to_string()
    }
}

/// Images that an answer brought.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Images {
    /// How many.
    pub count: u32,
    /// Their size, where it was asked for or told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub size: Option<ImageSize>,
}

impl Images {
    /// Whether there is none.
    #[must_use]
    pub fn is_none(&self) -> bool {
        self.count == 0
    }

    /// So many, of that size.
    #[must_use]
    pub fn of(count: usize, size: Option<ImageSize>) -> Self {
        match u32::try_from(count).unwrap_or(u32::MAX) {
            0 => Self::default(),
            count => Self { count, size },
        }
    }
}
