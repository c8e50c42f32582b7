//! A grammar for recognisers with a model, written from the phrases that count now.
//!
//! The text is in the JSpeech Grammar Format (W3C note, 2000). Words stand in it as tokens of our own
//! making (`w7`), so that any spelling of any language gets through, and the recogniser's dictionary is
//! exactly the words of the grammar: the smaller, the surer.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use crate::notation::{Phrase, PhrasePiece, Slot};
use crate::numbers::{ONES, TENS, spoken_number};
use crate::pronunciation::{Pronunciations, entries};

/// How the attention word stands before a phrase.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Default)]
pub enum AttentionPolicy {
    /// It must be said.
    #[default]
    Needed,
    /// It may be said.
    Free,
}

impl AttentionPolicy {
    /// The rule of the grammar that has such phrases.
    const fn rule(self) -> &'static str {
        match self {
            AttentionPolicy::Needed => "called",
            AttentionPolicy::Free => "free",
        }
    }
}

/// What stands before a word that is spoken of, where it is no call.
const BEFORE_A_NOUN: [&str; 7] = ["the", "a", "this", "that", "my", "our", "your"];

/// A grammar and the words in it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Grammar {
    rules: String,
    words: BTreeMap<String, usize>,
    attention: Vec<String>,
    /// What is said to us.
    said: String,
    talk: BackgroundTalk,
}

/// The parts of talk that is easily taken for what is said to us; empty where no word calls us.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
struct BackgroundTalk {
    /// What stands before a word that is spoken of.
    before: String,
    /// The attention word.
    called: String,
    /// What sounds like it.
    mistaken: Vec<String>,
    /// The phrases.
    phrases: String,
}

impl Grammar {
    /// The grammar of these phrases, each behind the attention word if there is one. Where only the
    /// attention word is said, that is understood too.
    pub fn new<'p>(
        phrases: impl IntoIterator<Item = (&'p Phrase, AttentionPolicy)>,
        attention: &[String],
    ) -> Grammar {
        let mut grammar = Grammar::default();
        let mut by_calling: BTreeMap<AttentionPolicy, Vec<String>> = BTreeMap::new();
        for (phrase, calling) in phrases {
            let calling = if attention.is_empty() { AttentionPolicy::Free } else { calling };
            let text = grammar.sequence(&phrase.pieces);
            by_calling.entry(calling).or_default().push(text);
        }
        let called = grammar.tokens(attention).join(" ");
        let mut heads = Vec::new();
        for (calling, texts) in &by_calling {
            let rule = calling.rule();
            let _ = writeln!(grammar.rules, "<{rule}> = {};", texts.join(" | "));
            heads.push(match calling {
                AttentionPolicy::Needed => format!("{called} <{rule}>"),
                AttentionPolicy::Free if called.is_empty() => format!("<{rule}>"),
                AttentionPolicy::Free => format!("[{called}] <{rule}>"),
            });
        }
        if !called.is_empty() && !heads.is_empty() {
            heads.push(called.clone());
        }
        if heads.is_empty() {
            return Grammar::default();
        }
        grammar.said = heads.join(" | ");
        if !called.is_empty() {
            let before = grammar.tokens(&BEFORE_A_NOUN).join(" | ");
            let rules = by_calling.keys().map(|calling| format!("<{}>", calling.rule()));
            let phrases = rules.collect::<Vec<_>>().join(" | ");
            grammar.talk = BackgroundTalk { before, called, mistaken: Vec::new(), phrases };
        }
        grammar.attention = attention.to_vec();
        grammar.add_numbers();
        grammar
    }

    /// Whether there is nothing to be said.
    pub fn is_empty(&self) -> bool {
        self.words.is_empty()
    }

    /// The grammar's text.
    pub fn text(&self) -> String {
        self.text_of(&self.said)
    }

    /// The same beside words that sound like those of the attention word, which `near` tells.
    #[must_use]
    pub fn beside<'n>(mut self, near: impl Fn(&str) -> &'n [String]) -> Grammar {
        let attention = self.attention.clone();
        for (at, word) in attention.iter().enumerate() {
            let near = self.tokens(near(word)).join(" | ");
            if !near.is_empty() {
                let mut tokens = self.tokens(&attention);
                tokens[at] = format!("({near})");
                self.talk.mistaken.push(tokens.join(" "));
            }
        }
        self
    }

    /// The words that call us.
    pub fn attention(&self) -> &[String] {
        &self.attention
    }

    /// The text of a grammar of talk that is easily taken for this one: the same phrases behind the
    /// attention word where it names something ("the lantern"); `None` where there is no such word.
    pub fn talk(&self) -> Option<String> {
        let BackgroundTalk { before, called, phrases, .. } = &self.talk;
        let talk = format!("({before}) {called} [{phrases}]");
        (!called.is_empty()).then(|| self.text_of(&talk))
    }

    /// Whether anything is known to sound like the attention word.
    pub fn has_neighbours(&self) -> bool {
        !self.talk.mistaken.is_empty()
    }

    /// The same of the phrases behind words that sound like the attention word; `None` where there are none.
    pub fn near_talk(&self) -> Option<String> {
        let BackgroundTalk { before, mistaken, phrases, .. } = &self.talk;
        let mistaken = mistaken.iter().map(|words| format!("[{before}] {words} [{phrases}]"));
        let talk = mistaken.collect::<Vec<_>>().join(" | ");
        self.has_neighbours().then(|| self.text_of(&talk))
    }

    fn text_of(&self, public: &str) -> String {
        format!("#JSGF V1.0;\ngrammar lantern;\n{}public <said> = {public};\n", self.rules)
    }

    /// Whether these words begin with the attention word.
    pub fn calls(&self, words: &[&str]) -> bool {
        let first = words.iter().copied().take(self.attention.len());
        !self.attention.is_empty() && first.eq(self.attention.iter().map(String::as_str))
    }

    /// Every word in it, in the order of its tokens.
    pub fn words(&self) -> impl Iterator<Item = &str> {
        self.words.keys().map(String::as_str)
    }

    /// The word a token stands for; another way to pronounce it has a number in brackets behind.
    pub fn word(&self, token: &str) -> Option<&str> {
        let number = token.split('(').next()?.strip_prefix('w')?.parse::<usize>().ok()?;
        self.words.iter().find(|(_, known)| **known == number).map(|(word, _)| word.as_str())
    }

    /// The recogniser's dictionary: a line for each way to say a word, by `dictionary` (the text of a
    /// dictionary in the CMU form) where it knows the word, by letter rules else.
    pub fn pronunciations(&self, dictionary: &str) -> String {
        let mut found: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
        for (word, sounds) in entries(dictionary) {
            if let Some((word, _)) = self.words.get_key_value(word) {
                found.entry(word).or_default().push(sounds);
            }
        }
        let rules = Pronunciations::by_rules();
        let mut text = String::new();
        for (word, token) in &self.words {
            let by_rules = || {
                let letters = rules.of_word(word).into_iter().map(crate::Phoneme::letters);
                letters.collect::<Vec<_>>().join(" ")
            };
            let ways: Vec<String> = match found.get(word.as_str()) {
                Some(ways) => ways.iter().map(|way| (*way).to_owned()).collect(),
                None => vec![by_rules()],
            };
            for (number, way) in ways.iter().filter(|way| !way.is_empty()).enumerate() {
                let _ = match number {
                    0 => writeln!(text, "w{token} {way}"),
                    _ => writeln!(text, "w{token}({}) {way}", number + 1),
                };
            }
        }
        text
    }

    fn token(&mut self, word: &str) -> String {
        let next = self.words.len();
        let number = *self.words.entry(word.to_owned()).or_insert(next);
        format!("w{number}")
    }

    fn tokens(&mut self, words: &[impl AsRef<str>]) -> Vec<String> {
        words.iter().map(|word| self.token(word.as_ref())).collect()
    }

    fn sequence(&mut self, pieces: &[PhrasePiece]) -> String {
        let texts: Vec<String> = pieces.iter().filter_map(|piece| self.piece(piece)).collect();
        if texts.is_empty() { "<NULL>".to_owned() } else { texts.join(" ") }
    }

    /// A piece; nothing for `...`, since a grammar cannot hear any words.
    fn piece(&mut self, piece: &PhrasePiece) -> Option<String> {
        Some(match piece {
            PhrasePiece::Word(word) => self.token(word),
            PhrasePiece::OneOf(alternatives) | PhrasePiece::Slot(Slot::Listed(alternatives), _) => {
                self.choice(alternatives)
            }
            PhrasePiece::Slot(Slot::Number, _) => "<number>".to_owned(),
            PhrasePiece::Slot(Slot::Range(least, most), _) => {
                let spoken =
                    |number| spoken_number(number).into_iter().map(PhrasePiece::Word).collect();
                self.choice(&(*least..=*most).map(spoken).collect::<Vec<_>>())
            }
            PhrasePiece::Slot(Slot::Percent, _) => format!("<number> {}", self.token("percent")),
            PhrasePiece::Anything => return None,
        })
    }

    fn choice(&mut self, alternatives: &[Vec<PhrasePiece>]) -> String {
        let texts = alternatives.iter().filter(|inner| !inner.is_empty());
        let texts: Vec<String> = texts.map(|inner| self.sequence(inner)).collect();
        let optional = alternatives.iter().any(Vec::is_empty);
        let (open, close) = if optional { ('[', ']') } else { ('(', ')') };
        format!("{open}{}{close}", texts.join(" | "))
    }

    /// Numbers up to the thousands and with decimals, if any phrase has one.
    fn add_numbers(&mut self) {
        if !self.rules.contains("<number>") {
            return;
        }
        let mut tokens = |words: &[&str]| self.tokens(words).join(" | ");
        let (digits, teens, tens) = (tokens(&ONES[1..10]), tokens(&ONES[10..]), tokens(&TENS[2..]));
        let [zero, hundred, thousand, and, point] =
            ["zero", "hundred", "thousand", "and", "point"].map(|word| self.token(word));
        let _ = write!(
            self.rules,
            "<digit> = {digits};\n\
             <small> = <digit> | {teens} | ({tens}) [<digit>];\n\
             <middle> = <small> | <digit> {hundred} [[{and}] <small>];\n\
             <whole> = {zero} | <middle> | <middle> {thousand} [[{and}] <middle>];\n\
             <number> = <whole> [{point} ({zero} | <digit>)+];\n"
        );
    }
}
