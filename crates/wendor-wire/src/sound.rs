//! Sound in a request, as chat-completions and responses have it.

use crate::conversation::{Media, MediaSource};
use crate::json::Members;

/// Sound, as this dialect and responses have it.
pub(crate) fn write(media: &Media) -> Members {
    let (data, format) = match &media.source {
        MediaSource::Bytes { kind, base64 } => (base64.as_str(), kind.strip_prefix("audio/").unwrap_or(kind)),
        // The verdict lets neither through.
        MediaSource::Url { .. } | MediaSource::Handle(_) => ("", "wav"),
    };
    Members::new().put("data", data).put("format", format)
}
