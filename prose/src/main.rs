//! Finds long sentences and unclear phrases in comments, messages and documents.
//!
//! `scripts/prose` calls it from the root of the project. It reads comments and string literals of Rust
//! files and the paragraphs of Markdown files. A phrase of `prose/phrases.txt` in a file below a path of
//! `prose/finished.txt` is an error, unless `prose/allowed.txt` allows it. All else is only counted.

mod extract;

use std::collections::BTreeMap;
use std::error::Error;
use std::fs;
use std::path::Path;
use std::process::ExitCode;

use clap::Parser;
use extract::{Passage, markdown_passages, rust_passages};
use walkdir::WalkDir;

/// Maximum number of words of a sentence that is not listed as long.
const MAX_WORDS: usize = 35;

#[derive(Parser)]
#[command(
    about = "Finds long sentences and unclear phrases",
    after_help = "Example: scripts/prose --list crates/lantern-model"
)]
struct Arguments {
    /// List what is found below this path, finished or not.
    #[arg(long, value_name = "PATH")]
    list: Option<String>,
}

/// One thing that is found in a sentence.
struct Found {
    path: String,
    line: usize,
    what: What,
    sentence: String,
}

#[derive(Clone, PartialEq)]
enum What {
    /// A phrase of the list, with what to write instead.
    Phrase { phrase: String, instead: String },
    /// The number of words of a long sentence.
    Long(usize),
}

fn main() -> ExitCode {
    match run(&Arguments::parse()) {
        Ok(code) => code,
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::from(2)
        }
    }
}

fn run(arguments: &Arguments) -> Result<ExitCode, Box<dyn Error>> {
    let phrases = pairs("prose/phrases.txt")?;
    let allowed = pairs("prose/allowed.txt")?;
    let finished: Vec<String> = lines("prose/finished.txt")?;
    let mut found = Vec::new();
    for root in
        ["crates", "docs", "README.md", "ARCHITECTURE.md", "CONTRIBUTING.md", "CHANGELOG.md"]
    {
        for entry in WalkDir::new(root).sort_by_file_name() {
            let entry = entry?;
            let passages = match entry.path().extension().and_then(|extension| extension.to_str()) {
                Some("rs") => rust_passages(&fs::read_to_string(entry.path())?),
                Some("md") => markdown_passages(&fs::read_to_string(entry.path())?),
                _ => continue,
            };
            let path = entry.path().to_string_lossy().into_owned();
            passages.iter().for_each(|passage| look(&path, passage, &phrases, &mut found));
        }
    }
    found.retain(|found| !is_allowed(found, &allowed));
    if let Some(wanted) = &arguments.list {
        found.iter().filter(|found| is_below(&found.path, wanted)).for_each(print);
        return Ok(ExitCode::SUCCESS);
    }
    summarise(&found);
    let is_error = |found: &&Found| {
        matches!(found.what, What::Phrase { .. })
            && finished.iter().any(|path| is_below(&found.path, path))
    };
    let errors: Vec<&Found> = found.iter().filter(is_error).collect();
    errors.iter().for_each(|found| print(found));
    Ok(if errors.is_empty() { ExitCode::SUCCESS } else { ExitCode::FAILURE })
}

/// Lines of a list that are no comments.
fn lines(path: &str) -> Result<Vec<String>, Box<dyn Error>> {
    let text = fs::read_to_string(path).map_err(|error| format!("{path}: {error}"))?;
    let kept =
        text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    Ok(kept.map(str::to_owned).collect())
}

/// Lines of the form `A | B`.
fn pairs(path: &str) -> Result<Vec<(String, String)>, Box<dyn Error>> {
    let split = |line: String| match line.split_once('|') {
        Some((left, right)) => Ok((left.trim().to_owned(), right.trim().to_owned())),
        None => Err(format!("{path}: no `|` in {line:?}").into()),
    };
    lines(path)?.into_iter().map(split).collect()
}

/// Finds phrases and long sentences in a passage.
fn look(path: &str, passage: &Passage, phrases: &[(String, String)], found: &mut Vec<Found>) {
    for sentence in passage.sentences() {
        let mut add = |what| {
            let (path, line) = (path.to_owned(), passage.line);
            found.push(Found { path, line, what, sentence: sentence.to_owned() });
        };
        let words = sentence.split_whitespace().count();
        if words > MAX_WORDS {
            add(What::Long(words));
        }
        let lower = format!(" {} ", plain(sentence));
        for (phrase, instead) in phrases {
            let is_there = match phrase.strip_prefix('^') {
                Some(start) => lower.starts_with(&format!(" {start} ")),
                None => lower.contains(&format!(" {phrase} ")),
            };
            if is_there {
                add(What::Phrase { phrase: phrase.clone(), instead: instead.clone() });
            }
        }
    }
}

/// A sentence in lower case, with spaces in place of punctuation.
fn plain(sentence: &str) -> String {
    let kept =
        |c: char| if c.is_alphanumeric() || c == '\'' { c.to_ascii_lowercase() } else { ' ' };
    let text: String = sentence.chars().map(kept).collect();
    text.split_whitespace().collect::<Vec<_>>().join(" ")
}

fn is_allowed(found: &Found, allowed: &[(String, String)]) -> bool {
    let What::Phrase { phrase, .. } = &found.what else { return false };
    allowed.iter().any(|(path, allowed)| {
        allowed.split(" -- ").next() == Some(phrase) && is_below(&found.path, path)
    })
}

fn is_below(path: &str, root: &str) -> bool {
    Path::new(path).starts_with(root)
}

fn print(found: &Found) {
    let Found { path, line, what, sentence } = found;
    match what {
        What::Long(words) => println!("{path}:{line}: {words} words: {sentence}"),
        What::Phrase { phrase, instead } => {
            println!("{path}:{line}: \"{phrase}\" (write: {instead}): {sentence}");
        }
    }
}

/// The numbers of each crate and folder.
fn summarise(found: &[Found]) {
    let mut counts: BTreeMap<String, [usize; 2]> = BTreeMap::new();
    for found in found {
        let root: Vec<&str> = found.path.split('/').take(2).collect();
        let counted = counts.entry(root.join("/")).or_default();
        counted[usize::from(matches!(found.what, What::Long(_)))] += 1;
    }
    println!("{:<40} {:>8} {:>15}", "below", "phrases", "long sentences");
    for (root, [phrases, long]) in counts {
        println!("{root:<40} {phrases:>8} {long:>15}");
    }
}
