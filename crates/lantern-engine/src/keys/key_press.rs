//! A key press, also a remapped one, as the parts of the recognizer pass it on.

use lantern_model::{HeldModifiers, Key, ModifierKey, ModifierSet, ReplayKey};

use super::Press;
use crate::context::Context;
use crate::key_stroke::KeyStroke;

/// A press as rules see it, and how the program would get it.
#[derive(Debug)]
pub(super) struct KeyPress {
    pub press: Press,
    pub stroke: KeyStroke,
    pub held: HeldModifiers,
    /// How the program gets it; nothing if it has it already.
    pub replay: Option<ReplayKey>,
    pub replay_as_tap: Option<ReplayKey>,
}

/// A remapped press: what the program gets hidden, and what rules see.
pub(super) struct RemappedPress {
    pub hidden: HeldModifiers,
    pub held: HeldModifiers,
    pub stroke: KeyStroke,
}

/// What a remapped press hides from the program, and what rules see.
pub(super) fn through_remap(
    context: &Context,
    from: ModifierSet,
    output: &[Key],
    held: HeldModifiers,
) -> RemappedPress {
    let layout = context.layout();
    let (last, with) = output.split_last().expect("a combination has a key");
    let with: HeldModifiers = with.iter().filter_map(|key| ModifierKey::of(*key)).collect();
    let is_named = |modifier: &ModifierKey| {
        from.contains(layout.modifier(*modifier)) && !with.contains(*modifier)
    };
    let hidden: HeldModifiers = held.iter().filter(is_named).collect();
    let left: HeldModifiers = held.iter().filter(|modifier| !hidden.contains(*modifier)).collect();
    let held = with.iter().fold(left, HeldModifiers::with);
    RemappedPress { hidden, held, stroke: (*last, held.modifiers(layout.alt_gr_is_level3)) }
}
