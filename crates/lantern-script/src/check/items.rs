//! Top-level parts other than rules, macros and devices: words, shapes, remaps.

use lantern_gesture::{PATH_WORDS, examples_of, strokes_of_words};
use lantern_model::{Remap, Shape, ShapeDescription, ShapeTolerance};
use lantern_speech::Phrase;

use super::Checker;
use super::NoDrawings;
use super::kinds::ValueKind;
use super::names::ItemKind;
use super::needs::Need;
use super::triggers::spread_combo;
use super::units::joined;
use crate::codes::Code;
use crate::tree::{self, Clause, Name, Quoted, Step, StepKind};
use crate::{Finding, Span, near_name};

/// Shapes that need no `shape` line: the directions themselves, and these.
const KNOWN_SHAPES: [(&str, &str); 4] = [
    ("check-mark", "down-right up-right"),
    ("caret", "up-right down-right"),
    ("corner", "down right"),
    ("zigzag", "right down-left right"),
];

/// Words of a path that are no shape of their own.
const STROKE_ENDS: [&str; 4] = ["turn-left", "turn-right", "tap", "lift"];

/// Most words of a path; what is behind them is not drawn.
const LONGEST_PATH: usize = 256;
/// Maximum number of shapes of a set.
const MOST_SHAPES: usize = 300;
/// Maximum number of examples of all shapes of a set.
const MOST_EXAMPLES: usize = 20_000;

fn shape_of_path(name: String, mut words: Vec<String>) -> Shape {
    words.truncate(LONGEST_PATH);
    let drawings = strokes_of_words(words.iter().map(String::as_str));
    let described = ShapeDescription::Path(words);
    Shape { name, description: described, drawings, tolerance: ShapeTolerance::default() }
}

impl Checker<'_> {
    /// A shape by its name: one of the set, or one that everybody knows.
    pub(super) fn find_shape(&mut self, name: &Name) -> Option<usize> {
        if self.names.get(ItemKind::Shape, &name.text).is_none() {
            let known = KNOWN_SHAPES.into_iter().find(|(known, _)| *known == name.text);
            let direction = PATH_WORDS
                .into_iter()
                .find(|word| *word == name.text && !STROKE_ENDS.contains(word));
            if let Some(path) = known.map(|(_, path)| path).or(direction) {
                let words: Vec<String> = path.split(' ').map(str::to_owned).collect();
                let named = |shape: &Shape| shape.name == name.text;
                return self.lowered.set.shapes.iter().position(named).or_else(|| {
                    self.lowered.set.shapes.push(shape_of_path(name.text.clone(), words));
                    Some(self.lowered.set.shapes.len() - 1)
                });
            }
        }
        self.find(ItemKind::Shape, name)
    }

    pub(super) fn declare_words(&mut self, name: &Name, (text, span): &Quoted) {
        if matches!(name.text.as_str(), "number" | "percent") {
            let message = format!("`<{}>` is a slot of the language", name.text);
            let finding = Finding::new(Code::NamedTwice, name.span, message);
            self.say(finding.label("taken").help("choose another name"));
        }
        let index = self.lowered.set.words.len();
        match Phrase::parse_list(text) {
            Ok(list) => {
                self.lowered.lists.insert(self.names.full(&name.text), list);
            }
            Err(error) => self.say_bad_phrase(&error, text, *span),
        }
        self.lowered.set.words.push((self.names.full(&name.text), text.clone()));
        self.declare(ItemKind::Words, name, index, ValueKind::Any);
    }

    pub(super) fn declare_shape(&mut self, shape: &tree::ShapeSyntax) {
        let tree::ShapeSyntax { name, drawn, how: (how, span), allowed } = shape;
        let full = self.names.full(&name.text);
        let described = if *drawn {
            self.read_drawings(full, how, *span)
        } else {
            let words: Vec<String> = how.split_whitespace().map(str::to_owned).collect();
            self.check_path(&words, *span);
            shape_of_path(full, words)
        };
        let index = self.lowered.set.shapes.len();
        let mut shape = Shape { tolerance: *allowed, ..described };
        let examples = self.examples + examples_of(&shape);
        if index >= MOST_SHAPES || examples > MOST_EXAMPLES {
            self.say(
                Finding::new(Code::TooMuch, name.span, "the set has too many shapes, or examples of them")
                    .label("not read any more")
                    .help(format!("a set has at most {MOST_SHAPES} shapes, and {MOST_EXAMPLES} examples in all; each way that `any way` and `mirrored` allow counts")),
            );
            shape.drawings = Vec::new();
        } else {
            self.examples = examples;
        }
        self.lowered.set.shapes.push(shape);
        self.declare(ItemKind::Shape, name, index, ValueKind::Any);
    }

    fn check_path(&mut self, words: &[String], span: Span) {
        if words.len() > LONGEST_PATH {
            self.say(
                Finding::new(Code::TooMuch, span, "this path has too many words")
                    .label(format!("{} words", words.len()))
                    .help(format!("a path has at most {LONGEST_PATH}")),
            );
            return;
        }
        let odd = words.iter().find(|word| !PATH_WORDS.contains(&word.as_str()));
        if let Some(odd) = odd {
            let near = near_name(odd, PATH_WORDS);
            self.say(
                Finding::new(Code::BadText, span, format!("`{odd}` is no direction"))
                    .label("not a path")
                    .help(format!("the words are {}", PATH_WORDS.join(", ")))
                    .maybe_help(near.map(|near| format!("did you mean `{near}`?"))),
            );
        } else if strokes_of_words(words.iter().map(String::as_str))
            .first()
            .is_none_or(|strokes| strokes.is_empty())
        {
            let finding = Finding::new(Code::BadText, span, "this path goes nowhere");
            self.say(finding.label("no direction").help("for example \"down-right up-right\""));
        }
    }

    /// A shape by the drawings in a file, which is looked for beside the file that names it.
    fn read_drawings(&mut self, name: String, file: &str, span: Span) -> Shape {
        let from = self.source.names().nth(self.source.file_at(span.start)).unwrap_or_default();
        let path = joined(from, file);
        let drawings = (self.outside.drawings)(&path).unwrap_or_else(|NoDrawings(why)| {
            self.say(
                Finding::new(Code::NoExample, span, format!("`{file}` shows no drawing: {why}"))
                    .label("nothing to compare with")
                    .help(format!("`lantern shape record {file}` makes one of your own strokes")),
            );
            Vec::new()
        });
        self.lowered.set.files.push(path.clone());
        let described = ShapeDescription::Drawn(path);
        Shape { name, description: described, drawings, tolerance: ShapeTolerance::default() }
    }

    pub(super) fn lower_remap(&mut self, remap: &tree::RemapSyntax, around: &[&Clause]) {
        let scope = self.lower_scope(around.iter().copied());
        self.need(Need::Remaps, remap.span);
        let place = self.place(remap.span);
        let from = spread_combo(&remap.from);
        let to = spread_combo(&remap.to);
        let tapped: Vec<_> = remap.tapped.iter().flat_map(spread_combo).collect();
        let sets = [to.len(), tapped.len().max(1)];
        if sets.iter().any(|count| *count != 1 && *count != from.len()) {
            self.say(
                Finding::new(Code::WrongCount, remap.span, "the sets of keys differ in length")
                    .label(format!("{} keys become {}", from.len(), to.len()))
                    .help("give one key for each, or the same one for all"),
            );
            return;
        }
        for (at, from) in from.into_iter().enumerate() {
            let Some(to) = to.get(at).or(to.first()).cloned() else { return };
            let tapped = tapped.get(at).or(tapped.first()).cloned();
            self.lowered.set.remaps.push(Remap { from, to, tapped, filter: scope.clone(), place });
            self.lowered.remap_spans.push(remap.span);
        }
    }

    /// Names what the steps start, before anything refers to it.
    pub(super) fn declare_started(&mut self, steps: &[Step]) {
        for step in steps {
            if let StepKind::Do(command) = &step.kind
                && let (lantern_model::CommandKind::Launch, Some(name)) =
                    (&command.verb, &command.name)
                && self.names.get(ItemKind::Started, &name.text).is_none()
            {
                self.declare(ItemKind::Started, name, 0, ValueKind::Any);
            }
            for block in step.blocks() {
                self.declare_started(block);
            }
        }
    }
}
