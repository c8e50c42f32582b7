//! The question that the session hands to `lantern question`, as a line of JSON.

use std::io::{self, stdin};

use serde::{Deserialize, Serialize};

use crate::failure::Failure;

/// Maximum size of a question in bytes: a list of a rule has at most 4 MiB, each character of which may be
/// escaped.
const LONGEST: usize = 32 << 20;

/// What is asked.
#[derive(Debug, Serialize, Deserialize)]
pub struct Asked {
    /// The question; for numbers the name of the program in front.
    pub asked: String,
    /// What may be picked; for numbers the title of the window and its process.
    pub choices: Vec<String>,
}

impl Asked {
    /// The question as the line that the process reads.
    pub fn line(&self) -> String {
        serde_json::to_string(self).expect("it is plain data") + "\n"
    }

    /// Reads the line from standard input and not a byte more, since what follows is for others.
    ///
    /// # Errors
    /// When it cannot be read or is no question.
    pub fn read() -> Result<Asked, Failure> {
        let failed = |source| Failure::System { what: "cannot read the question", source };
        let mut line = Vec::new();
        let mut byte = [0];
        while rustix::io::read(stdin(), &mut byte).map_err(|error| failed(error.into()))? > 0
            && byte != *b"\n"
            && line.len() < LONGEST
        {
            line.push(byte[0]);
        }
        serde_json::from_slice(&line).map_err(|error| failed(io::Error::from(error)))
    }
}
