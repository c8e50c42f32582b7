//! Secrets, read when they are needed and shown to nobody but the device they are for.

use std::{env, fs};

use lantern_model::{Guarded, GuardedPart, Secret};

use super::LinkError;

/// The text with its secrets in it.
pub(super) fn reveal(guarded: &Guarded) -> Result<String, LinkError> {
    let parts = guarded.0.iter().map(|part| match part {
        GuardedPart::Plain(text) => Ok(text.clone()),
        GuardedPart::Secret(secret) => read(secret),
    });
    parts.collect()
}

fn read(secret: &Secret) -> Result<String, LinkError> {
    let (place, read) = match secret {
        Secret::File(path) => (path.clone(), fs::read_to_string(path).map_err(|e| e.to_string())),
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
