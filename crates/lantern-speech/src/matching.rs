//! One phrase against words: a small program run with backtracking, never twice from one place.

use std::collections::BTreeSet;

use crate::notation::{Phrase, PhrasePiece, Slot};
use crate::numbers::number_at;

/// What a part of a phrase was.
#[derive(Debug, Clone, PartialEq)]
pub enum MatchedPart {
    /// A number.
    Number(f64),
    /// A share, `10 percent` as 0.1.
    Share(f64),
    /// Words.
    Words(String),
}

/// An instruction of a compiled phrase.
#[derive(Debug, Clone)]
enum MatchInstruction {
    Word(String),
    /// Continue at the first of these that leads to a match.
    Fork(Vec<usize>),
    Number(String),
    Range(u32, u32, String),
    Percent(String),
    /// Remember where a listed slot begins, and end it.
    Open,
    Close(String),
    Anything,
    End,
}

/// A phrase ready to be matched.
#[derive(Debug, Clone)]
pub(crate) struct Matcher {
    steps: Vec<MatchInstruction>,
}

/// A phrase that matched: its parts, and how many words `...` took.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Matched {
    pub parts: Vec<(String, MatchedPart)>,
    pub loose: usize,
}

impl Matcher {
    pub(crate) fn new(phrase: &Phrase) -> Matcher {
        let mut steps = Vec::new();
        compile(&phrase.pieces, &mut steps);
        steps.push(MatchInstruction::End);
        Matcher { steps }
    }

    /// Whether all of `words` are the phrase.
    pub(crate) fn matches(&self, words: &[&str]) -> Option<Matched> {
        let mut attempt = Attempt {
            steps: &self.steps,
            words,
            tried: BTreeSet::new(),
            opened: Vec::new(),
            parts: Vec::new(),
            rest: Vec::new(),
        };
        if !attempt.go(0, 0) {
            return None;
        }
        let loose = attempt.rest.len();
        if loose > 0 {
            attempt.parts.push(("rest".to_owned(), MatchedPart::Words(attempt.rest.join(" "))));
        }
        Some(Matched { parts: attempt.parts, loose })
    }
}

fn compile(pieces: &[PhrasePiece], steps: &mut Vec<MatchInstruction>) {
    for piece in pieces {
        match piece {
            PhrasePiece::Word(word) => steps.push(MatchInstruction::Word(word.clone())),
            PhrasePiece::Anything => steps.push(MatchInstruction::Anything),
            PhrasePiece::Slot(Slot::Number, name) => {
                steps.push(MatchInstruction::Number(name.clone()))
            }
            PhrasePiece::Slot(Slot::Range(least, most), name) => {
                steps.push(MatchInstruction::Range(*least, *most, name.clone()));
            }
            PhrasePiece::Slot(Slot::Percent, name) => {
                steps.push(MatchInstruction::Percent(name.clone()))
            }
            PhrasePiece::Slot(Slot::Listed(list), name) => {
                steps.push(MatchInstruction::Open);
                compile_choice(list, steps);
                steps.push(MatchInstruction::Close(name.clone()));
            }
            PhrasePiece::OneOf(alternatives) => compile_choice(alternatives, steps),
        }
    }
}

fn compile_choice(alternatives: &[Vec<PhrasePiece>], steps: &mut Vec<MatchInstruction>) {
    let fork = steps.len();
    steps.push(MatchInstruction::Fork(Vec::new()));
    let mut starts = Vec::new();
    let mut ends = Vec::new();
    for alternative in alternatives {
        starts.push(steps.len());
        compile(alternative, steps);
        ends.push(steps.len());
        steps.push(MatchInstruction::Fork(Vec::new()));
    }
    let after = steps.len();
    steps[fork] = MatchInstruction::Fork(starts);
    for end in ends {
        steps[end] = MatchInstruction::Fork(vec![after]);
    }
}

struct Attempt<'a> {
    steps: &'a [MatchInstruction],
    words: &'a [&'a str],
    /// Places (step, word) that led nowhere.
    tried: BTreeSet<(usize, usize)>,
    opened: Vec<usize>,
    parts: Vec<(String, MatchedPart)>,
    rest: Vec<&'a str>,
}

impl Attempt<'_> {
    /// Whether the words from `at` on are the steps from `step` on.
    fn go(&mut self, step: usize, at: usize) -> bool {
        if self.tried.contains(&(step, at)) {
            return false;
        }
        let found = self.try_step(step, at);
        if !found {
            self.tried.insert((step, at));
        }
        found
    }

    fn try_step(&mut self, step: usize, at: usize) -> bool {
        let steps = self.steps;
        match &steps[step] {
            MatchInstruction::End => at == self.words.len(),
            MatchInstruction::Word(word) => {
                self.words.get(at).is_some_and(|said| said == word) && self.go(step + 1, at + 1)
            }
            MatchInstruction::Fork(targets) => targets.iter().any(|target| self.go(*target, at)),
            MatchInstruction::Number(name) => self.number(at).is_some_and(|(number, taken)| {
                self.with_part(name, MatchedPart::Number(number), step + 1, at + taken)
            }),
            MatchInstruction::Range(least, most, name) => {
                self.number(at).is_some_and(|(number, taken)| {
                    let range = f64::from(*least)..=f64::from(*most);
                    let within = number.fract() == 0.0 && range.contains(&number);
                    within
                        && self.with_part(name, MatchedPart::Number(number), step + 1, at + taken)
                })
            }
            MatchInstruction::Percent(name) => self.number(at).is_some_and(|(number, taken)| {
                let after = match self.words.get(at + taken..).unwrap_or(&[]) {
                    ["percent" | "%", ..] => 1,
                    ["per", "cent", ..] => 2,
                    _ => return false,
                };
                self.with_part(
                    name,
                    MatchedPart::Share(number / 100.0),
                    step + 1,
                    at + taken + after,
                )
            }),
            MatchInstruction::Open => {
                self.opened.push(at);
                let found = self.go(step + 1, at);
                self.opened.pop();
                found
            }
            MatchInstruction::Close(name) => {
                let from = *self.opened.last().expect("a slot is opened before it is closed");
                let words = self.words[from..at].join(" ");
                self.with_part(name, MatchedPart::Words(words), step + 1, at)
            }
            MatchInstruction::Anything => (at..=self.words.len()).any(|end| {
                let before = self.rest.len();
                self.rest.extend(&self.words[at..end]);
                let found = self.go(step + 1, end);
                if !found {
                    self.rest.truncate(before);
                }
                found
            }),
        }
    }

    fn number(&self, at: usize) -> Option<(f64, usize)> {
        number_at(self.words.get(at..)?)
    }

    fn with_part(&mut self, name: &str, part: MatchedPart, step: usize, at: usize) -> bool {
        self.parts.push((name.to_owned(), part));
        let found = self.go(step, at);
        if !found {
            self.parts.pop();
        }
        found
    }
}
