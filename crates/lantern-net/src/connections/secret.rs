//! Secrets: read when they are needed and sent only to the device they are for.

use std::env;
use std::path::Path;

use lantern_model::{Secret, SecretTemplate, SecretTemplatePart};

use super::LinkError;
use lantern_system::read_regular_text;

/// Most bytes of a secret.
const MOST: u64 = 64 << 10;

/// The text with its secrets in it.
pub(super) fn reveal(guarded: &SecretTemplate) -> Result<String, LinkError> {
    let parts = guarded.0.iter().map(|part| match part {
        SecretTemplatePart::Plain(text) => Ok(text.clone()),
        SecretTemplatePart::Secret(secret) => read(secret),
    });
    parts.collect()
}

fn read(secret: &Secret) -> Result<String, LinkError> {
    let (place, read) = match secret {
        Secret::File(path) => (path.clone(), {
            let text = read_regular_text(Path::new(path), MOST);
            text.map_err(|error| error.to_string())
        }),
        Secret::Environment(name) => {
            (format!("${name}"), env::var(name).map_err(|error| error.to_string()))
        }
    };
    match read {
        Ok(text) if text.trim().is_empty() => {
            Err(LinkError::NoSecret { place, why: "it is empty".to_owned() })
        }
        Ok(text) => Ok(text.trim_end_matches(['\r', '\n']).to_owned()),
        Err(why) => Err(LinkError::NoSecret { place, why }),
    }
}
