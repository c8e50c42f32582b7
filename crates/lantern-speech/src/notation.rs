//! The notation of phrases: words, `[optional]`, `(one | other)`, `<slots>` and `...`.
//!
//! The brackets, bars and angle brackets are those of the JSpeech Grammar Format (W3C note, 2000,
//! section 4); `...` for any words is ours.

use std::collections::BTreeMap;

use crate::numbers::spoken_number;

/// Alternatives of a list of spoken words.
pub type WordList = Vec<Vec<PhrasePiece>>;

/// Numbers in a range, at the most.
const WIDEST: u32 = 1000;
/// Brackets within brackets, at the most.
const DEEPEST: usize = 16;

/// A phrase as written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Phrase {
    /// Its pieces, one after another.
    pub pieces: Vec<PhrasePiece>,
}

/// A piece of a phrase.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PhrasePiece {
    /// A word, in lower case.
    Word(String),
    /// One of several; an empty one makes it optional.
    OneOf(Vec<Vec<PhrasePiece>>),
    /// Words that stand for a value, under this name.
    Slot(Slot, String),
    /// Any words, or none.
    Anything,
}

/// What may stand in a slot.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Slot {
    /// A number, in words or digits.
    Number,
    /// A whole number from the first to the second.
    Range(u32, u32),
    /// A share: a number and `percent`.
    Percent,
    /// One of a list of words.
    Listed(WordList),
}

/// Why a text is no phrase, and where, in bytes.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum PhraseError {
    /// A bracket is not closed.
    #[error("`{open}` is not closed")]
    Unclosed {
        /// Where it opens.
        at: usize,
        /// The bracket.
        open: char,
    },
    /// A bracket closes nothing, or a bar stands outside round brackets.
    #[error("`{sign}` has no meaning here")]
    Stray {
        /// Where.
        at: usize,
        /// The sign.
        sign: char,
    },
    /// Nothing stands between brackets or bars.
    #[error("nothing stands here")]
    Empty {
        /// Where.
        at: usize,
    },
    /// A slot's name is unknown.
    #[error("there is no list of words `{name}`")]
    UnknownSlot {
        /// Where.
        at: usize,
        /// Its name.
        name: String,
    },
    /// Brackets are nested too deep.
    #[error("this is nested too deep")]
    TooDeep {
        /// Where.
        at: usize,
    },
    /// The phrase may be silence: nothing of it must be said.
    #[error("nothing of this phrase must be said")]
    NothingSaid,
}

impl PhraseError {
    /// Where in the text it is, if it is at one place.
    pub const fn at(&self) -> Option<usize> {
        match self {
            PhraseError::Unclosed { at, .. }
            | PhraseError::Stray { at, .. }
            | PhraseError::Empty { at }
            | PhraseError::UnknownSlot { at, .. }
            | PhraseError::TooDeep { at } => Some(*at),
            PhraseError::NothingSaid => None,
        }
    }

    /// What to do about it.
    pub fn hint(&self) -> String {
        match self {
            PhraseError::Unclosed { open, .. } => {
                let close = match open {
                    '[' => ']',
                    '(' => ')',
                    _ => '>',
                };
                format!("close it with `{close}`")
            }
            PhraseError::Stray { sign: '|', .. } => {
                "alternatives stand in round brackets: `(one | other)`".to_owned()
            }
            PhraseError::Stray { .. } => {
                "write `[optional]`, `(one | other)`, `<number>` or `...`".to_owned()
            }
            PhraseError::Empty { .. } => "write at least one word".to_owned(),
            PhraseError::UnknownSlot { name, .. } => {
                format!(
                    "write `words {name} = \"one | other\"`, or use <number>, <1..9> or <percent>"
                )
            }
            PhraseError::TooDeep { .. } => format!("at most {DEEPEST} brackets in each other"),
            PhraseError::NothingSaid => {
                "leave at least one word outside `[...]` and `...`".to_owned()
            }
        }
    }
}

impl Phrase {
    /// Reads a phrase; `lists` are the lists of words that slots may name.
    ///
    /// # Errors
    /// When it is not in the notation, names an unknown list, or may be silence.
    pub fn parse(text: &str, lists: &BTreeMap<String, WordList>) -> Result<Phrase, PhraseError> {
        let mut reader = PhraseParser { text, at: 0, lists, names: BTreeMap::new() };
        let pieces = reader.parse_sequence(0)?;
        match reader.peek() {
            Some(sign) => Err(PhraseError::Stray { at: reader.at, sign }),
            None if may_be_silent(&pieces) => Err(PhraseError::NothingSaid),
            None => Ok(Phrase { pieces }),
        }
    }

    /// Reads a list of words, `one | other two | three`, which may not name other lists.
    ///
    /// # Errors
    /// As for a phrase.
    pub fn parse_list(text: &str) -> Result<WordList, PhraseError> {
        let none = BTreeMap::new();
        let mut reader = PhraseParser { text, at: 0, lists: &none, names: BTreeMap::new() };
        let list = reader.parse_alternatives(0)?;
        match reader.peek() {
            Some(sign) => Err(PhraseError::Stray { at: reader.at, sign }),
            None if list.iter().any(|pieces| may_be_silent(pieces)) => {
                Err(PhraseError::NothingSaid)
            }
            None => Ok(list),
        }
    }

    /// The names of its slots, in order.
    pub fn slots(&self) -> Vec<(&str, &Slot)> {
        let mut found = Vec::new();
        collect_slots(&self.pieces, &mut found);
        found
    }

    /// Whether any words may stand somewhere in it.
    pub fn takes_anything(&self) -> bool {
        fn any(pieces: &[PhrasePiece]) -> bool {
            pieces.iter().any(|piece| match piece {
                PhrasePiece::Anything => true,
                PhrasePiece::OneOf(alternatives) => alternatives.iter().any(|inner| any(inner)),
                PhrasePiece::Word(_) | PhrasePiece::Slot(..) => false,
            })
        }
        any(&self.pieces)
    }

    /// Word sequences it stands for, slots by an example, `...` left out; at most `most`.
    pub fn spoken_forms(&self, most: usize) -> Vec<Vec<String>> {
        let mut forms = vec![Vec::new()];
        extend_forms(&self.pieces, &mut forms, most);
        forms
    }
}

fn collect_slots<'p>(pieces: &'p [PhrasePiece], found: &mut Vec<(&'p str, &'p Slot)>) {
    for piece in pieces {
        match piece {
            PhrasePiece::Slot(slot, name) => found.push((name, slot)),
            PhrasePiece::OneOf(alternatives) => {
                alternatives.iter().for_each(|inner| collect_slots(inner, found));
            }
            PhrasePiece::Word(_) | PhrasePiece::Anything => {}
        }
    }
}

fn extend_forms(pieces: &[PhrasePiece], forms: &mut Vec<Vec<String>>, most: usize) {
    for piece in pieces {
        match piece {
            PhrasePiece::Word(word) => forms.iter_mut().for_each(|form| form.push(word.clone())),
            PhrasePiece::Anything => {}
            PhrasePiece::Slot(Slot::Number, _) => {
                forms.iter_mut().for_each(|form| form.push("seven".to_owned()));
            }
            PhrasePiece::Slot(Slot::Range(least, _), _) => {
                let words = spoken_number(*least);
                forms.iter_mut().for_each(|form| form.extend(words.iter().cloned()));
            }
            PhrasePiece::Slot(Slot::Percent, _) => forms
                .iter_mut()
                .for_each(|form| form.extend(["seven".to_owned(), "percent".to_owned()])),
            PhrasePiece::Slot(Slot::Listed(alternatives), _) | PhrasePiece::OneOf(alternatives) => {
                let mut longer = Vec::new();
                for inner in alternatives {
                    let mut branch = forms.clone();
                    extend_forms(inner, &mut branch, most);
                    longer.append(&mut branch);
                    if longer.len() >= most {
                        break;
                    }
                }
                longer.truncate(most);
                *forms = longer;
            }
        }
    }
}

/// Lists of words by their names, such as can be read.
pub fn word_lists<'t>(
    lists: impl IntoIterator<Item = (&'t String, &'t String)>,
) -> BTreeMap<String, WordList> {
    let read =
        |(name, text): (&String, &String)| Some((name.clone(), Phrase::parse_list(text).ok()?));
    lists.into_iter().filter_map(read).collect()
}

/// Whole numbers written as `1..40`.
fn range_of(name: &str) -> Option<(u32, u32)> {
    let (least, most) = name.split_once("..")?;
    let (least, most) = (least.trim().parse().ok()?, most.trim().parse().ok()?);
    (least <= most && most - least < WIDEST).then_some((least, most))
}

/// Whether nothing of it must be said.
fn may_be_silent(pieces: &[PhrasePiece]) -> bool {
    pieces.iter().all(|piece| match piece {
        PhrasePiece::Word(_) | PhrasePiece::Slot(..) => false,
        PhrasePiece::Anything => true,
        PhrasePiece::OneOf(alternatives) => alternatives.iter().any(|inner| may_be_silent(inner)),
    })
}

struct PhraseParser<'a> {
    text: &'a str,
    at: usize,
    lists: &'a BTreeMap<String, WordList>,
    /// How often each slot name came.
    names: BTreeMap<String, usize>,
}

impl PhraseParser<'_> {
    fn peek(&mut self) -> Option<char> {
        let rest = &self.text[self.at..];
        let blanks = rest.len() - rest.trim_start().len();
        self.at += blanks;
        self.text[self.at..].chars().next()
    }

    fn parse_alternatives(&mut self, depth: usize) -> Result<WordList, PhraseError> {
        let mut alternatives = Vec::new();
        loop {
            let pieces = self.parse_sequence(depth)?;
            if pieces.is_empty() {
                return Err(PhraseError::Empty { at: self.at });
            }
            alternatives.push(pieces);
            if self.peek() != Some('|') {
                return Ok(alternatives);
            }
            self.at += 1;
        }
    }

    fn parse_sequence(&mut self, depth: usize) -> Result<Vec<PhrasePiece>, PhraseError> {
        if depth > DEEPEST {
            return Err(PhraseError::TooDeep { at: self.at });
        }
        let mut pieces = Vec::new();
        while let Some(next) = self.peek() {
            match next {
                '[' | '(' => pieces.push(self.parse_bracket(next, depth)?),
                '<' => pieces.push(self.parse_slot()?),
                ']' | ')' | '|' => break,
                '>' => return Err(PhraseError::Stray { at: self.at, sign: next }),
                '.' if self.text[self.at..].starts_with("...") => {
                    self.at += 3;
                    pieces.push(PhrasePiece::Anything);
                }
                _ => self.parse_words(&mut pieces)?,
            }
        }
        Ok(pieces)
    }

    fn parse_bracket(&mut self, open: char, depth: usize) -> Result<PhrasePiece, PhraseError> {
        let at = self.at;
        self.at += 1;
        let mut alternatives = self.parse_alternatives(depth + 1)?;
        let close = if open == '[' { ']' } else { ')' };
        match self.peek() {
            Some(found) if found == close => self.at += 1,
            Some(sign) => return Err(PhraseError::Stray { at: self.at, sign }),
            None => return Err(PhraseError::Unclosed { at, open }),
        }
        if open == '[' {
            alternatives.push(Vec::new());
        }
        Ok(PhrasePiece::OneOf(alternatives))
    }

    fn parse_slot(&mut self) -> Result<PhrasePiece, PhraseError> {
        let at = self.at;
        let rest = &self.text[at + 1..];
        let Some(length) = rest.find('>') else {
            return Err(PhraseError::Unclosed { at, open: '<' });
        };
        let name = rest[..length].trim();
        self.at += length + 2;
        let (slot, name) = match (name, self.lists.get(name), range_of(name)) {
            ("number", ..) => (Slot::Number, name),
            ("percent", ..) => (Slot::Percent, name),
            (_, Some(list), _) => (Slot::Listed(list.clone()), name),
            (_, None, Some((least, most))) => (Slot::Range(least, most), "number"),
            (other, None, None) => {
                return Err(PhraseError::UnknownSlot { at: at + 1, name: other.to_owned() });
            }
        };
        // A list of another file goes by the last part of its name.
        let name = name.rsplit('.').next().unwrap_or(name);
        let count = self.names.entry(name.to_owned()).or_default();
        *count += 1;
        // A second slot of one list has a name of its own: `number-2`.
        let name = if *count == 1 { name.to_owned() } else { format!("{name}-{count}") };
        Ok(PhrasePiece::Slot(slot, name))
    }

    fn parse_words(&mut self, pieces: &mut Vec<PhrasePiece>) -> Result<(), PhraseError> {
        let rest = &self.text[self.at..];
        let ends =
            |c: char| c.is_whitespace() || matches!(c, '[' | ']' | '(' | ')' | '<' | '>' | '|');
        let length = rest.find(ends).unwrap_or(rest.len());
        let words = crate::spoken_words::heard_words(&rest[..length]);
        if words.is_empty() {
            let sign = rest.chars().next().expect("the caller saw a character");
            return Err(PhraseError::Stray { at: self.at, sign });
        }
        self.at += length;
        pieces.extend(words.into_iter().map(PhrasePiece::Word));
        Ok(())
    }
}
