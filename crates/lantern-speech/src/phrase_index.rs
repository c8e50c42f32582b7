//! Many phrases at once: what was said is looked up by its words, so that the cost does not grow
//! with the number of phrases.

use std::collections::BTreeMap;

use crate::matching::{MatchedPart, Matcher};
use crate::notation::{Phrase, PhrasePiece, Slot};
use crate::spoken_words::heard_words;

/// A phrase of the book that was understood.
#[derive(Debug, Clone, PartialEq)]
pub struct RecognizedPhrase {
    /// The phrase's number in the book.
    pub phrase: usize,
    /// Its slots by name, and what `...` took as `rest`.
    pub parts: Vec<(String, MatchedPart)>,
    /// How many words `...` took: the fewer, the surer it is what was meant.
    pub loose: usize,
}

/// Phrases, found by their words.
///
/// ```
/// use lantern_speech::{Phrase, PhraseIndex};
/// let phrase = Phrase::parse("saw fan [to] <percent>", &Default::default()).unwrap();
/// let book = PhraseIndex::new(vec![phrase]);
/// let understood = book.understand("Saw fan to forty percent", |_| true);
/// assert_eq!(understood.len(), 1);
/// ```
#[derive(Debug, Clone, Default)]
pub struct PhraseIndex {
    matchers: Vec<Matcher>,
    /// Phrases without slots by everything that may be said for them.
    exact: BTreeMap<String, Vec<usize>>,
    /// Phrases by one of the words of which at least one must be said.
    by_word: BTreeMap<String, Vec<usize>>,
    /// Phrases without such a word.
    wordless: Vec<usize>,
}

impl PhraseIndex {
    /// A book of these phrases.
    pub fn new(phrases: Vec<Phrase>) -> PhraseIndex {
        let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
        for phrase in &phrases {
            count_words(&phrase.pieces, &mut counts);
        }
        let mut book = PhraseIndex::default();
        for (number, phrase) in phrases.iter().enumerate() {
            if let Some(forms) = exact_forms(phrase) {
                for form in forms {
                    book.exact.entry(form).or_default().push(number);
                }
                book.matchers.push(Matcher::new(phrase));
                continue;
            }
            match telling_words(&phrase.pieces, &counts) {
                Some(words) => {
                    for word in words {
                        let listed = book.by_word.entry(word.to_owned()).or_default();
                        if listed.last() != Some(&number) {
                            listed.push(number);
                        }
                    }
                }
                None => book.wordless.push(number),
            }
            book.matchers.push(Matcher::new(phrase));
        }
        book
    }

    /// How many phrases there are.
    pub fn len(&self) -> usize {
        self.matchers.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.matchers.is_empty()
    }

    /// The phrases that `heard` is, among those that are `wanted`, in the order of the book.
    pub fn understand(&self, heard: &str, wanted: impl Fn(usize) -> bool) -> Vec<RecognizedPhrase> {
        let words = heard_words(heard);
        let said = words.join(" ");
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let mut candidates: Vec<usize> = self.exact.get(&said).cloned().unwrap_or_default();
        candidates.extend(&self.wordless);
        for word in &words {
            candidates.extend(self.by_word.get(*word).into_iter().flatten());
        }
        candidates.sort_unstable();
        candidates.dedup();
        let understood =
            candidates.into_iter().filter(|phrase| wanted(*phrase)).filter_map(|phrase| {
                let matched = self.matchers[phrase].matches(&words)?;
                Some(RecognizedPhrase { phrase, parts: matched.parts, loose: matched.loose })
            });
        understood.collect()
    }
}

/// A phrase that may be said in so many ways is looked up by each of them.
const FORMS: usize = 32;

/// Everything that may be said for a phrase, if that is little.
fn exact_forms(phrase: &Phrase) -> Option<Vec<String>> {
    if phrase.takes_anything() || !phrase.slots().is_empty() {
        return None;
    }
    let forms = phrase.spoken_forms(FORMS + 1);
    let mut joined: Vec<String> = forms.into_iter().map(|form| form.join(" ")).collect();
    joined.sort();
    joined.dedup();
    (joined.len() <= FORMS).then_some(joined)
}

fn count_words<'p>(pieces: &'p [PhrasePiece], counts: &mut BTreeMap<&'p str, usize>) {
    for piece in pieces {
        match piece {
            PhrasePiece::Word(word) => *counts.entry(word).or_default() += 1,
            PhrasePiece::OneOf(alternatives) | PhrasePiece::Slot(Slot::Listed(alternatives), _) => {
                alternatives.iter().for_each(|inner| count_words(inner, counts));
            }
            PhrasePiece::Slot(..) | PhrasePiece::Anything => {}
        }
    }
}

/// Words of which at least one must be said, as rare among all phrases as can be; none if any words
/// will do.
fn telling_words<'p>(
    pieces: &'p [PhrasePiece],
    counts: &BTreeMap<&str, usize>,
) -> Option<Vec<&'p str>> {
    let weight = |words: &Vec<&str>| -> usize { words.iter().map(|word| counts[word]).sum() };
    pieces.iter().filter_map(|piece| telling_words_of(piece, counts)).min_by_key(weight)
}

fn telling_words_of<'p>(
    piece: &'p PhrasePiece,
    counts: &BTreeMap<&str, usize>,
) -> Option<Vec<&'p str>> {
    match piece {
        PhrasePiece::Word(word) => Some(vec![word]),
        PhrasePiece::Slot(Slot::Listed(alternatives), _) | PhrasePiece::OneOf(alternatives) => {
            let all: Option<Vec<Vec<&str>>> =
                alternatives.iter().map(|inner| telling_words(inner, counts)).collect();
            all.map(|words| words.concat())
        }
        PhrasePiece::Slot(..) | PhrasePiece::Anything => None,
    }
}
