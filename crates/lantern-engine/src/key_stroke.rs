//! Combinations on the keyboard at hand: which key with which modifiers they are.

use std::collections::BTreeSet;

use lantern_model::{Key, KeyCombination, KeySpec, Layout, Modifier, ModifierKey, ModifierSet};

/// A key of the keyboard with the families that must be down.
pub(crate) type KeyStroke = (Key, ModifierSet);

/// Why a combination cannot be pressed on a keyboard.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub(crate) enum MissingKey {
    /// The keyboard has no such key.
    #[error("no {0}")]
    Key(KeySpec),
    /// The combination has no keys.
    #[error("no key in an empty combination")]
    Keys,
}

impl From<KeySpec> for MissingKey {
    fn from(key: KeySpec) -> MissingKey {
        MissingKey::Key(key)
    }
}

/// A combination, and what of it the keyboard lacks.
pub(crate) fn lacking(combo: &KeyCombination, lack: impl Into<MissingKey>) -> String {
    match lack.into() {
        MissingKey::Key(key) if combo.0 == [key] => combo.to_string(),
        lack => format!("{combo} (there is {lack})"),
    }
}

fn sides_of(family: Modifier, layout: &Layout) -> impl Iterator<Item = ModifierKey> {
    ModifierKey::ALL.into_iter().filter(move |side| layout.modifier(*side) == family)
}

/// The modifiers of a combination: families, and the sides it names; a key that is no modifier is
/// given back.
fn modifiers_of<'k>(
    keys: impl Iterator<Item = &'k KeySpec>,
    layout: &Layout,
) -> Result<(ModifierSet, Vec<ModifierKey>), KeySpec> {
    let mut families = ModifierSet::NONE;
    let mut sides = Vec::new();
    for modifier in keys {
        match modifier {
            KeySpec::Either(family) => families = families.with(*family),
            other => {
                let side = other.side().ok_or(*other)?;
                let family = layout.modifier(side);
                families = families.with(family);
                if family != Modifier::Level3 {
                    sides.push(side);
                }
            }
        }
    }
    Ok((families, sides))
}

/// The stroke of a combination on this keyboard, with the sides it names; the key it lacks, if any.
pub(crate) fn key_stroke_of(
    combo: &[KeySpec],
    layout: &Layout,
) -> Result<(KeyStroke, Vec<ModifierKey>), MissingKey> {
    // A modifier that is named before its plain key may also stand behind it.
    let end = combo.len().checked_sub(1).ok_or(MissingKey::Keys)?;
    let at = combo.iter().rposition(|key| !key.is_modifier()).unwrap_or(end);
    let others = combo.iter().enumerate().filter(|(other, _)| *other != at).map(|(_, key)| key);
    let (mut families, sides) = modifiers_of(others, layout)?;
    let last = &combo[at];
    if let KeySpec::Character(character) = last {
        let (_, level) = layout.group().key_for(*character).ok_or(MissingKey::Key(*last))?;
        for side in level.modifier_keys() {
            families = families.with(layout.modifier(*side));
        }
    }
    let key = layout.resolve(*last).ok_or(MissingKey::Key(*last))?;
    Ok(((key, families), sides))
}

/// The strokes that are a combination on this keyboard: one, or one for each side where its last key is a
/// modifier of either side.
pub(crate) fn key_strokes_of(
    combo: &KeyCombination,
    layout: &Layout,
) -> Result<Vec<(KeyStroke, Vec<ModifierKey>)>, MissingKey> {
    let ((key, families), sides) = key_stroke_of(&combo.0, layout)?;
    let keys: Vec<Key> = match combo.last() {
        Some(KeySpec::Either(family)) => sides_of(family, layout).map(ModifierKey::key).collect(),
        _ => vec![key],
    };
    Ok(keys.into_iter().map(|key| ((key, families), sides.clone())).collect())
}

/// Plain keys together on this keyboard, with their modifiers.
pub(crate) fn chord_of(
    combo: &KeyCombination,
    layout: &Layout,
) -> Result<(BTreeSet<Key>, ModifierSet, Vec<ModifierKey>), KeySpec> {
    let (modifiers, plain): (Vec<&KeySpec>, Vec<&KeySpec>) =
        combo.0.iter().partition(|key| key.is_modifier());
    let (families, sides) = modifiers_of(modifiers.into_iter(), layout)?;
    let keys =
        plain.into_iter().map(|key| layout.resolve(*key).ok_or(*key)).collect::<Result<_, _>>()?;
    Ok((keys, families, sides))
}
