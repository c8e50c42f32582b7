//! `lantern voice try`: what is heard in recordings.

use std::path::Path;

use lantern_audio::{AudioSource, HearingEvent};
use lantern_speech::UtteranceResult;
use serde::Serialize;

use crate::arguments::VoiceTryArguments;
use crate::commands::print_json;
use crate::diagnostics::rules_of;
use crate::failure::{Failure, Status};
use crate::output::complain;
use crate::spoken_rules::{Phrases, seconds};
use crate::text::sureness;
use crate::{style, table};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct VoiceTrialReport {
    version: u32,
    files: Vec<FileData>,
}

#[derive(Serialize)]
struct FileData {
    file: String,
    utterances: Vec<UtteranceData>,
}

#[derive(Serialize)]
struct UtteranceData {
    from: f64,
    until: f64,
    words: String,
    score: f64,
    counts: bool,
    above_noise: f64,
    outcome: String,
}

pub fn run(arguments: &VoiceTryArguments) -> Result<Status, Failure> {
    let (source, rules) = rules_of(arguments.rules.clone())?;
    let phrases = Phrases::of(&rules);
    if phrases.is_empty() {
        complain!("{}: no rule here is spoken to", source.name());
        return Ok(Status::Found);
    }
    let mut heard = Vec::new();
    for file in &arguments.recordings {
        let mut verdicts = Vec::new();
        let mut talk = 0;
        let mut recording = open(file)?;
        phrases.hear(&mut recording, |_, noted| {
            match noted {
                HearingEvent::Utterance(verdict) => verdicts.push(verdict),
                HearingEvent::BackgroundTalk => talk += 1,
                HearingEvent::Began | HearingEvent::Passed => {}
            }
            true
        })?;
        heard.push((file.display().to_string(), verdicts, talk));
    }
    let any = heard.iter().any(|(_, verdicts, _)| verdicts.iter().any(|verdict| verdict.counts));
    if arguments.json {
        let files = heard.iter().map(|(file, verdicts, _)| FileData {
            file: file.clone(),
            utterances: verdicts.iter().map(|verdict| data_of(&phrases, verdict)).collect(),
        });
        print_json(&VoiceTrialReport { version: 1, files: files.collect() });
    } else {
        print_table(&phrases, &heard);
    }
    Ok(if any { Status::Done } else { Status::Found })
}

/// A recording; `-` is raw standard input.
fn open(file: &Path) -> Result<AudioSource, Failure> {
    if file == Path::new("-") {
        return Ok(AudioSource::raw(std::io::stdin()));
    }
    Ok(AudioSource::file(file)?)
}

fn data_of(phrases: &Phrases, verdict: &UtteranceResult) -> UtteranceData {
    let thousandths = |number: f64| (number * 1000.0).round() / 1000.0;
    UtteranceData {
        from: thousandths(verdict.from.as_secs_f64()),
        until: thousandths(verdict.until.as_secs_f64()),
        words: verdict.words.clone(),
        score: thousandths(verdict.score),
        counts: verdict.counts,
        above_noise: f64::from(verdict.above_noise.round()),
        outcome: phrases.outcome(verdict),
    }
}

fn print_table(phrases: &Phrases, heard: &[(String, Vec<UtteranceResult>, u32)]) {
    let mut rows = Vec::new();
    for (file, verdicts, _) in heard {
        for verdict in verdicts {
            rows.push(vec![
                file.clone(),
                seconds(verdict.from),
                sureness(verdict.score),
                format!("{:.0} dB", verdict.above_noise),
                if verdict.words.is_empty() { "-".to_owned() } else { verdict.words.clone() },
                phrases.outcome(verdict),
            ]);
        }
    }
    if !rows.is_empty() {
        table::print(&["file", "at", "sure", "above room", "most like", "comes to"], &rows);
    }
    for (file, verdicts, talk) in heard {
        if verdicts.is_empty() && *talk == 0 {
            complain!("{}{file}: no speech in it{0:#}", style::FAINT);
        }
        if *talk > 0 {
            complain!(
                "{}{file}: {talk} stretches of talk longer than a command{0:#}",
                style::FAINT
            );
        }
    }
}
