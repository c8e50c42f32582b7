//! Spoken phrases and drawn shapes that are easily taken for each other.

use std::collections::{BTreeMap, BTreeSet};

use lantern_gesture::ShapeIndex;
use lantern_model::{ContextFilter, KeyCombination, TriggerKind};
use lantern_speech::{PhonemeSequence, Pronunciations, alike_pairs, likeness};

use super::LintInput;
use crate::codes::Code;
use crate::{Finding, Span};

/// Minimum likeness of two phrases that is reported.
pub const TOO_ALIKE: f64 = 0.8;
/// Minimum likeness of two shapes that is reported, of a good drawing of one to the other.
const SHAPES_TOO_ALIKE: f32 = 0.4;
/// Forms of one phrase that are compared.
const FORMS: usize = 8;

pub(super) fn alike_phrases(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let forms: Vec<Vec<Vec<String>>> =
        input.lowered.phrases.iter().map(|spoken| spoken.phrase.spoken_forms(FORMS)).collect();
    let words: BTreeSet<&str> = forms.iter().flatten().flatten().map(String::as_str).collect();
    let sounds = (input.outside.pronounce)(&words);
    let mut sayings = Vec::new();
    for (number, forms) in forms.into_iter().enumerate() {
        sayings.extend(forms.into_iter().map(|form| PhonemeSequence::new(number, form, &sounds)));
    }
    let together = |first: usize, second: usize| {
        let (first, second) = (&input.lowered.phrases[first], &input.lowered.phrases[second]);
        first.rule != second.rule
            && may_meet(
                &input.lowered.set.rules[first.rule].filter,
                &input.lowered.set.rules[second.rule].filter,
            )
    };
    let mut told = BTreeSet::new();
    for pair in alike_pairs(&sayings, TOO_ALIKE, together) {
        let (first, second) = (&sayings[pair.first], &sayings[pair.second]);
        let phrases = (first.phrase.min(second.phrase), first.phrase.max(second.phrase));
        // One finding for each phrase: the most alike pair comes first.
        if first.words == second.words || !told.insert(phrases.1) {
            continue;
        }
        let percent = (pair.likeness * 100.0).round();
        let (earlier, later) =
            (&input.lowered.phrases[phrases.0], &input.lowered.phrases[phrases.1]);
        let apart = differing_words(&first.words, &second.words, &sounds);
        findings.push(
            Finding::new(Code::TooAlike, later.span, format!("two phrases sound {percent}% alike"))
                .label("easily taken for the other")
                .other(earlier.span, "the other")
                .help(format!("only {apart} tells them apart; choose words that sound different")),
        );
    }
}

pub(super) fn alike_shapes(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    if input.lowered.set.shapes.len() < 2 {
        return;
    }
    let book = ShapeIndex::new(&input.lowered.set.shapes);
    let gestures = gestures_by_shape(input);
    let none = Vec::new();
    for pair in book.alike_pairs(SHAPES_TOO_ALIKE) {
        let names = [book.name(pair.first), book.name(pair.second)];
        let [firsts, seconds] = names.map(|name| gestures.get(name).unwrap_or(&none));
        let meeting = firsts.iter().find_map(|first| {
            let second = seconds.iter().find(|second| {
                let [one, other] =
                    [first.0, second.0].map(|rule| &input.lowered.set.rules[rule].filter);
                first.1 == second.1 && may_meet(one, other)
            })?;
            Some((first.2.min(second.2), first.2.max(second.2)))
        });
        let Some((earlier, later)) = meeting else { continue };
        let percent = (pair.likeness * 100.0).round();
        let message = format!("`{}` and `{}` look {percent}% alike", names[0], names[1]);
        findings.push(
            Finding::new(Code::TooAlike, later, message)
                .label("easily taken for the other")
                .other(earlier, "the other")
                .help("`lantern shape alike` says what would tell them apart"),
        );
    }
}

/// Where each shape is wanted: the rule, what is held, and the trigger's place.
fn gestures_by_shape<'a>(
    input: &LintInput<'a>,
) -> BTreeMap<&'a str, Vec<(usize, &'a KeyCombination, Span)>> {
    let mut found: BTreeMap<&'a str, Vec<(usize, &'a KeyCombination, Span)>> = BTreeMap::new();
    for (number, rule) in input.lowered.set.rules.iter().enumerate() {
        for (trigger, wanted) in rule.triggers.iter().enumerate() {
            if let TriggerKind::Gesture { shape, holding } = &wanted.kind {
                let span = input.lowered.heads[number].triggers[trigger];
                found.entry(shape).or_default().push((number, holding, span));
            }
        }
    }
    found
}

/// Whether rules of both scopes may be listened for at one time.
fn may_meet(first: &ContextFilter, second: &ContextFilter) -> bool {
    match (&first.apps, &second.apps) {
        (Some(first), Some(second)) => first.iter().any(|app| second.contains(app)),
        _ => true,
    }
}

/// The words by which two sayings differ.
pub(crate) fn differing_words(
    first: &[String],
    second: &[String],
    sounds: &Pronunciations,
) -> String {
    let only = |of: &[String], other: &[String]| {
        let missing = of.iter().filter(|word| !other.contains(word)).cloned();
        missing.collect::<Vec<_>>().join(" ")
    };
    let (left, right) = (only(first, second), only(second, first));
    let close = likeness(&sounds.of_word(&left), &sounds.of_word(&right));
    match (left.is_empty(), right.is_empty()) {
        (true, true) => "the order of the words".to_owned(),
        (true, false) => format!("`{right}`"),
        (false, true) => format!("`{left}`"),
        (false, false) if close >= 1.0 => format!("the spelling of `{left}` and `{right}`"),
        (false, false) => format!("`{left}` or `{right}`"),
    }
}
