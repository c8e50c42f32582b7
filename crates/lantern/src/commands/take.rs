//! `lantern keys --take`: frees a combination that the desktop's settings give to something.

use std::process::Command;

use lantern_model::{Key, KeySpec, ModifierSet};
use lantern_session::{Change, shortcuts};
use lantern_x11::survey;

use crate::commands::key_words::one_key;
use crate::failure::{Failure, Status};
use crate::output::{complain, say};
use crate::style;

pub fn run(words: &str) -> Result<Status, Failure> {
    let (families, key) = combination(words)?;
    // Without a display the settings alone are looked into.
    let manager = survey().ok().and_then(|survey| survey.manager).unwrap_or_default();
    let known = shortcuts(&manager);
    let taken: Vec<_> =
        known.iter().filter(|taken| taken.key == key && taken.families == families).collect();
    if taken.is_empty() {
        complain!(
            "no setting gives {words} to anything\n  {}help{0:#}: `lantern capture` says whether another program holds it",
            style::HELP
        );
        return Ok(Status::Found);
    }
    let mut by_hand = false;
    for shortcut in taken {
        say!("{words} belongs to {}", shortcut.setting);
        match &shortcut.free {
            Change::ByHand(line) => {
                by_hand = true;
                say!("  free it:      {line}");
            }
            Change::Command(command) => {
                let (program, arguments) = command.split_first().expect("it names its program");
                let done = Command::new(program).args(arguments).status();
                if !done.is_ok_and(|status| status.success()) {
                    by_hand = true;
                    say!("  {}not freed{0:#}:    {}", style::ERROR, shortcut.free.line());
                    continue;
                }
                say!("  freed:        {}", shortcut.free.line());
            }
        }
        say!("  give it back: {}", shortcut.give_back.line());
    }
    Ok(if by_hand { Status::Found } else { Status::Done })
}

fn combination(words: &str) -> Result<(ModifierSet, Key), Failure> {
    let mut families = ModifierSet::NONE;
    let mut parts: Vec<&str> = words.split('+').collect();
    let key = one_key(parts.pop().unwrap_or_default())?;
    for part in parts {
        match lantern_model::Modifier::from_word(part) {
            Some(family) => families = families.with(family),
            None => {
                let key = KeySpec::Named(one_key(part)?);
                return Err(Failure::WrongWords {
                    message: format!("`{key}` is no modifier"),
                    advice: "write the modifiers first: ctrl+alt+t".to_owned(),
                });
            }
        }
    }
    Ok((families, key))
}
