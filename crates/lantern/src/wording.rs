//! The same words for the same thing everywhere: decisions of the engine and keys together.

use lantern_engine::ReasonKind;
use lantern_model::{Key, Side};

/// A reason other than a firing or a plain end, in words.
pub fn describe(kind: &ReasonKind) -> String {
    match kind {
        ReasonKind::Fired { combo, .. } => format!("fired by {combo}"),
        ReasonKind::Ended(_) => "ended".to_owned(),
        ReasonKind::Stopped(_, by) => format!("stopped: {by}"),
        ReasonKind::Failed { place, message, .. } => {
            format!("failed at line {}: {message}", place.line)
        }
        ReasonKind::Dropped(why) => format!("did not fire: {why}"),
        ReasonKind::GivenBack(combo) => format!("{combo} was given to the program"),
        ReasonKind::NotOnBoard(combo) => format!("not on this keyboard: {combo}"),
        ReasonKind::Refused(combo) => format!("taken by another program: {combo}"),
        ReasonKind::NewLayout => "the keyboard has another layout".to_owned(),
        ReasonKind::Panic { runs, keys } => {
            format!("panic: {runs} runs stopped, {keys} keys let go")
        }
    }
}

/// Keys that go down together, modifiers by their family.
pub fn combo_name(keys: &[Key]) -> String {
    let names: Vec<&str> = keys
        .iter()
        .map(|key| match Side::of(*key) {
            Some(side) if side == side.family(false).usual_side() => side.family(false).word(),
            _ => key.name(),
        })
        .collect();
    names.join("+")
}
