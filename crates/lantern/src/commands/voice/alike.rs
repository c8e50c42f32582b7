//! `lantern voice alike`: which phrases sound alike, by their sounds and as the person taught them.

use std::collections::BTreeSet;

use lantern_model::{RuleSet, Trigger, TriggerKind};
use lantern_script::Source;
use lantern_speech::{
    ConfusableTraining, PhonemeSequence, Phrase, Pronunciations, TrainedPhrases, alike_pairs,
    word_lists,
};
use serde::Serialize;
use unicode_width::UnicodeWidthStr;

use crate::arguments::VoiceAlikeArguments;
use crate::commands::print_json;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::trained_phrases::Taught;
use crate::{pronunciation, style, table};

/// Forms of one phrase that are compared.
const FORMS: usize = 16;
/// Taught phrases are listed if an example is less than this many times as far from the other
/// phrase as from its own.
const CLEAR: f32 = 1.5;

/// A pair as data, version 1.
#[derive(Serialize)]
struct PhrasePair {
    likeness: f64,
    first: RankedPhrase,
    second: RankedPhrase,
    apart: Vec<String>,
}

#[derive(Serialize)]
struct RankedPhrase {
    phrase: String,
    said: String,
    sounds: String,
    file: String,
    line: u32,
}

/// Two phrases as they were taught.
#[derive(Serialize)]
struct TrainingPair {
    first: String,
    second: String,
    margin: f32,
    taken: usize,
    examples: usize,
}

impl TrainingPair {
    fn of(pair: ConfusableTraining) -> TrainingPair {
        let ConfusableTraining { first, second, margin, taken, examples } = pair;
        TrainingPair { first, second, margin: (margin * 100.0).round() / 100.0, taken, examples }
    }
}

#[derive(Serialize)]
struct VoiceAlikeReport {
    version: u32,
    dictionary: Option<String>,
    phrases: usize,
    pairs: Vec<PhrasePair>,
    taught: usize,
    as_taught: Vec<TrainingPair>,
}

pub fn run(arguments: VoiceAlikeArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.file)?;
    let phrases = listed(&rules);
    let forms = phrases.iter().flat_map(|listed| listed.phrase.spoken_forms(FORMS));
    let words: Vec<String> = forms.flatten().collect();
    let words: BTreeSet<&str> = words.iter().map(String::as_str).collect();
    let (sounds, dictionary) = pronunciation::of(&words);
    let least = arguments.least.clamp(0.0, 100.0) / 100.0;
    let pairs = pairs_of(&phrases, &sounds, least).take(arguments.most).collect();
    let taught = Taught::open()?.phrases;
    let as_taught = TrainedPhrases::new(&taught).said_alike().into_iter();
    let as_taught = as_taught.filter(|pair| pair.margin < CLEAR).take(arguments.most);
    let report = VoiceAlikeReport {
        version: 1,
        dictionary,
        phrases: phrases.len(),
        pairs,
        taught: taught.len(),
        as_taught: as_taught.map(TrainingPair::of).collect(),
    };
    if arguments.json {
        print_json(&report)
    } else {
        print_table(&report, &source);
        print_as_taught(&report);
    }
    let nothing = report.pairs.is_empty() && report.as_taught.is_empty();
    Ok(if nothing { Status::Found } else { Status::Done })
}

/// A phrase of the rules, and where it stands.
struct RulePhrase {
    text: String,
    place: String,
    line: u32,
    phrase: Phrase,
}

impl RulePhrase {
    fn said(&self, saying: &PhonemeSequence) -> RankedPhrase {
        let characters: Vec<&str> = saying.sounds().iter().map(|sound| sound.letters()).collect();
        RankedPhrase {
            phrase: self.text.clone(),
            said: saying.words.join(" "),
            sounds: characters.join(" "),
            file: self.place.rsplit_once(':').map_or("", |(file, _)| file).to_owned(),
            line: self.line,
        }
    }
}

fn listed(rules: &RuleSet) -> Vec<RulePhrase> {
    let lists = word_lists(rules.words.iter().map(|(name, text)| (name, text)));
    let phrase_of = |trigger: &Trigger| {
        let TriggerKind::Voice(text) = &trigger.kind else { return None };
        let phrase = Phrase::parse(text, &lists).ok()?;
        let (place, line) = (rules.show_place(trigger.place), trigger.place.line);
        Some(RulePhrase { text: text.clone(), place, line, phrase })
    };
    rules.rules.iter().flat_map(|rule| &rule.triggers).filter_map(phrase_of).collect()
}

/// Phrases that sound alike, of each two of them the forms that do so most.
fn pairs_of(
    phrases: &[RulePhrase],
    sounds: &Pronunciations,
    least: f64,
) -> impl Iterator<Item = PhrasePair> {
    let sayings: Vec<PhonemeSequence> = phrases
        .iter()
        .enumerate()
        .flat_map(|(number, listed)| {
            let forms = listed.phrase.spoken_forms(FORMS).into_iter();
            forms.map(move |form| PhonemeSequence::new(number, form, sounds))
        })
        .collect();
    let mut told = BTreeSet::new();
    let mut pairs = alike_pairs(&sayings, least, |_, _| true);
    pairs.retain(|pair| told.insert((sayings[pair.first].phrase, sayings[pair.second].phrase)));
    pairs.into_iter().map(move |pair| {
        let (first, second) = (&sayings[pair.first], &sayings[pair.second]);
        let missing = |of: &PhonemeSequence, other: &PhonemeSequence| -> Vec<String> {
            of.words.iter().filter(|word| !other.words.contains(word)).cloned().collect()
        };
        PhrasePair {
            likeness: pair.likeness,
            first: phrases[first.phrase].said(first),
            second: phrases[second.phrase].said(second),
            apart: [missing(first, second), missing(second, first)].concat(),
        }
    })
}

fn print_table(report: &VoiceAlikeReport, source: &Source) {
    if report.pairs.is_empty() {
        say!("{}: no two of {} phrases sound that much alike", source.name(), report.phrases);
        return;
    }
    let width =
        |text: &dyn Fn(&PhrasePair) -> usize| report.pairs.iter().map(text).max().unwrap_or(0);
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

/// What was measured on the person's own examples.
fn print_as_taught(report: &VoiceAlikeReport) {
    if report.taught < 2 {
        return;
    }
    say!("");
    if report.as_taught.is_empty() {
        say!("as you said them, all {} taught phrases are clearly apart", report.taught);
        return;
    }
    let row = |pair: &TrainingPair| {
        let taken = format!("{} of {}", pair.taken, pair.examples);
        vec![format!("{:.2}", pair.margin), taken, pair.first.clone(), pair.second.clone()]
    };
    let rows: Vec<Vec<String>> = report.as_taught.iter().map(row).collect();
    table::print(&["times as far", "taken for the other", "one, as taught", "other"], &rows);
    complain!(
        "{}of {} taught phrases, by your own examples; below 1 one was taken for the other{0:#}",
        style::FAINT,
        report.taught
    );
}
