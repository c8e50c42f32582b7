//! Rules that are spoken to: heard in recordings by the system's speech library where that is, and told by a
//! program in the place of a recogniser everywhere.

use lantern_audio::{AudioSource as Sound, HearingEvent};
use lantern_script::{Source, check};

use super::SPOKEN_RULES;
use super::at_work::AtWork;
use crate::failure::Failure;
use crate::spoken_rules::Phrases;

/// Recordings that ship with the example, and their names.
const RECORDINGS: [(&str, &[u8]); 3] = [
    ("next-section.wav", include_bytes!("../../../../../examples/sounds/next-section.wav")),
    ("bag.wav", include_bytes!("../../../../../examples/sounds/bag.wav")),
    ("talk.wav", include_bytes!("../../../../../examples/sounds/talk.wav")),
];
/// What a recogniser might print.
const SAID: &str = include_str!("../../../../../examples/said.json");
/// How many lines of it are commands.
const COMMANDS: usize = 2;

/// What comes of what is said.
pub(super) fn heard() -> Result<Vec<String>, Failure> {
    let failed = |source| Failure::System { what: "cannot write the demo's recordings", source };
    let folder = tempfile::tempdir().map_err(failed)?;
    let checked = check(&Source::new("spoken.lantern", SPOKEN_RULES));
    let rules = checked.rules.expect("the shipped example is checked by the tests");
    let phrases = Phrases::of(&rules);
    let mut told = Vec::new();
    for (name, sound) in RECORDINGS {
        let path = folder.path().join(name);
        std::fs::write(&path, sound).map_err(failed)?;
        let mut verdicts = Vec::new();
        let heard = phrases.hear(&mut Sound::file(&path)?, |_, noted| {
            if let HearingEvent::Utterance(verdict) = noted {
                verdicts.push(verdict);
            }
            true
        });
        if let Err(failure) = heard {
            told.push(format!("recordings        not heard here: {failure}"));
            break;
        }
        told.extend(verdicts.iter().map(|verdict| {
            let outcome = phrases.outcome(verdict);
            match verdict.words.as_str() {
                "" => format!("{name:<17} talk: {outcome}"),
                words => {
                    let sure = 100.0 * verdict.score;
                    format!("{name:<17} \"{words}\", {sure:.0} % sure: {outcome}")
                }
            }
        }));
    }
    std::fs::write(folder.path().join("said.json"), SAID).map_err(failed)?;
    let recogniser = "settings {\n    recogniser = \"tail -f -n +1 said.json\"";
    let rules = SPOKEN_RULES.replacen("settings {", recogniser, 1);
    let bench = AtWork::start(folder.path(), "spoken.lantern", &rules)?;
    told.extend((0..COMMANDS).map(|_| format!("from a program    {}", bench.next())));
    Ok(told)
}
