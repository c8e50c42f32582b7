//! `lantern voice alike`: which phrases sound alike, without an ear.

use std::collections::BTreeSet;

use lantern_model::Cause;
use lantern_script::Source;
use lantern_sense::{Phrase, Saying, alike_pairs, word_lists};
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::arguments::VoiceAlikeArguments;
use crate::commands::print_json;
use crate::failure::{Failure, Status};
use crate::findings::rules_of;
use crate::style::{complain, say};
use crate::{pronunciation, style};

/// Forms of one phrase that are compared.
const FORMS: usize = 16;
/// A pair as data, version 1.
#[derive(Serialize)]
struct Pair {
    likeness: f64,
    first: Said,
    second: Said,
    apart: Vec<String>,
}

#[derive(Serialize)]
struct Said {
    phrase: String,
    said: String,
    sounds: String,
    file: String,
    line: u32,
}

#[derive(Serialize)]
struct Report {
    version: u32,
    dictionary: Option<String>,
    phrases: usize,
    pairs: Vec<Pair>,
}

pub fn run(arguments: VoiceAlikeArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file)?;
    let rules = &rules;
    let lists = word_lists(rules.words.iter().map(|(name, text)| (name, text)));
    let mut phrases = Vec::new();
    for trigger in rules.rules.iter().flat_map(|rule| &rule.triggers) {
        if let Cause::Voice(text) = &trigger.cause
            && let Ok(phrase) = Phrase::parse(text, &lists)
        {
            phrases.push((
                text.clone(),
                rules.show_place(trigger.place),
                trigger.place.line,
                phrase,
            ));
        }
    }
    let forms = phrases.iter().flat_map(|(.., phrase)| phrase.spoken_forms(FORMS));
    let words: Vec<String> = forms.flatten().collect();
    let words: BTreeSet<&str> = words.iter().map(String::as_str).collect();
    let (sounds, dictionary) = pronunciation::of(&words);
    let mut sayings = Vec::new();
    for (number, (.., phrase)) in phrases.iter().enumerate() {
        for form in phrase.spoken_forms(FORMS) {
            sayings.push(Saying::new(number, form, &sounds));
        }
    }
    let least = arguments.least.clamp(0.0, 100.0) / 100.0;
    let mut told = BTreeSet::new();
    let pairs = alike_pairs(&sayings, least, |_, _| true)
        .into_iter()
        .filter(|pair| told.insert((sayings[pair.first].phrase, sayings[pair.second].phrase)));
    let said = |saying: &Saying| {
        let (phrase, place, line, _) = &phrases[saying.phrase];
        let letters: Vec<&str> = saying.sounds().iter().map(|sound| sound.letters()).collect();
        Said {
            phrase: phrase.clone(),
            said: saying.words.join(" "),
            sounds: letters.join(" "),
            file: place.rsplit_once(':').map_or("", |(file, _)| file).to_owned(),
            line: *line,
        }
    };
    let pairs: Vec<Pair> = pairs
        .take(arguments.most)
        .map(|pair| {
            let (first, second) = (&sayings[pair.first], &sayings[pair.second]);
            let missing = |of: &Saying, other: &Saying| {
                of.words
                    .iter()
                    .filter(|word| !other.words.contains(word))
                    .cloned()
                    .collect::<Vec<_>>()
            };
            let apart = [missing(first, second), missing(second, first)].concat();
            Pair { likeness: pair.likeness, first: said(first), second: said(second), apart }
        })
        .collect();
    let found = if pairs.is_empty() { Status::Found } else { Status::Done };
    let report = Report { version: 1, dictionary, phrases: phrases.len(), pairs };
    if arguments.json {
        print_json(&report)
    } else {
        print_table(&report, &source)
    }
    Ok(found)
}

fn print_table(report: &Report, source: &Source) {
    if report.pairs.is_empty() {
        say!("{}: no two of {} phrases sound that much alike", source.name(), report.phrases);
        return;
    }
    let width = |text: &dyn Fn(&Pair) -> usize| report.pairs.iter().map(text).max().unwrap_or(0);
    let first = width(&|pair| pair.first.said.width()).max("one".len());
    let second = width(&|pair| pair.second.said.width()).max("other".len());
    let pad = |text: &str, width: usize| " ".repeat(width.saturating_sub(text.width()));
    say!(
        "{}alike   one{}   other{}   apart by{0:#}",
        style::HEAD,
        pad("one", first),
        pad("other", second)
    );
    for pair in &report.pairs {
        let percent = (pair.likeness * 100.0).round();
        let word = if pair.likeness >= 0.8 { style::WARNING } else { style::FAINT };
        say!(
            "{word}{percent:>4}%{word:#}   {}{}   {}{}   {}",
            pair.first.said,
            pad(&pair.first.said, first),
            pair.second.said,
            pad(&pair.second.said, second),
            if pair.apart.is_empty() { "the order".to_owned() } else { pair.apart.join(", ") }
        );
    }
    let by = match &report.dictionary {
        Some(path) => format!("sounds by {path} and letter rules"),
        None => "sounds by letter rules; no pronunciation dictionary is installed".to_owned(),
    };
    complain!("{}{} phrases, {by}{0:#}", style::FAINT, report.phrases);
}
