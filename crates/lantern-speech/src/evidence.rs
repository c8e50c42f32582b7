//! Whether the phrase that a grammar recognizer found was said at all.
//!
//! A grammar alone takes most of any talk for one of its phrases. The same sound is therefore also
//! explained by a loop over all sounds of the language. The words of a phrase that was said explain the
//! sound nearly as well as the loop does; other talk is explained much better by the loop.

/// What two explanations of one sound say.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Evidence {
    /// How much better any sounds explain it than the words do, per frame.
    pub gap: f64,
    /// The same for the word that fits worst.
    pub worst_word: f64,
    /// Frames of words over frames of speech.
    pub coverage: f64,
    /// How much better all of it is explained as talk that speaks of what the attention word names, or of
    /// what sounds like it; 0 where it is worse.
    pub as_talk: f64,
}

/// Gap at which a command and other speech are equally likely. Of commands in noise at 10 dB nineteen in
/// twenty are below it, of eleven hours of talk seven sentences (the nearest at 15).
const EVEN_GAP: f64 = 18.5;
/// A single word that fits worse is another word.
const WORST_WORD: f64 = 60.0;
/// Scale factor: this much advantage of the explanation as talk counts like a gap of one. Commands have 0 as a
/// rule and 525 at most, with gaps below 4 then; talk with the attention word 225 and more, with gaps from 13.
const AS_TALK: f64 = 35.0;
/// Minimum share of the speech that the words of the phrase must cover.
const LEAST_COVERAGE: f64 = 0.7;

impl Evidence {
    /// How sure it is, from 0 to 1; from one half on it counts.
    pub fn score(&self) -> f64 {
        let gap = self.gap.max(0.0) + self.as_talk / AS_TALK;
        let by_gap = (1.0 - gap / (2.0 * EVEN_GAP)).clamp(0.0, 1.0);
        let other_words = self.worst_word > WORST_WORD || self.coverage < LEAST_COVERAGE;
        if other_words { by_gap.min(0.49) } else { by_gap }
    }

    /// What is known where so little of the speech is words that no other explanation need be asked for;
    /// `None` where one must be.
    pub fn of_little(
        words: &[ExplainedSpan],
        speech_frames: u32,
        is_word: impl Fn(&str) -> bool,
    ) -> Option<Evidence> {
        let coverage = coverage(words, speech_frames, is_word);
        let little = Evidence {
            gap: f64::INFINITY,
            worst_word: f64::INFINITY,
            coverage,
            ..Evidence::default()
        };
        (coverage < LEAST_COVERAGE).then_some(little)
    }

    /// The same when another explanation of the sound, as talk, is known; the best of several counts.
    pub fn beside_talk(self, words: &[ExplainedSpan], talk: &[ExplainedSpan]) -> Evidence {
        // What breaks off before the end explains nothing.
        let whole = end_of(talk) >= end_of(words);
        let as_talk = if whole { total(talk) - total(words) } else { 0.0 };
        Evidence { as_talk: as_talk.max(self.as_talk), ..self }
    }

    /// Whether it counts as said.
    pub fn counts(&self) -> bool {
        self.score() >= 0.5
    }
}

/// A stretch of sound and how well it is explained, as a sum over its frames.
#[derive(Debug, Clone, PartialEq)]
pub struct ExplainedSpan {
    /// The word or sound.
    pub what: String,
    /// Its first frame.
    pub from: u32,
    /// The frame after its last.
    pub until: u32,
    /// The logarithm of how well it fits.
    pub score: i64,
}

impl ExplainedSpan {
    fn frames(&self) -> f64 {
        f64::from(self.until.saturating_sub(self.from))
    }
}

/// Holds the words against the loop. `is_word` tells words from silences and noises.
pub fn weigh(
    words: &[ExplainedSpan],
    sounds: &[ExplainedSpan],
    speech_frames: u32,
    is_word: impl Fn(&str) -> bool,
) -> Evidence {
    let frames: f64 = words.iter().map(ExplainedSpan::frames).sum();
    let gap = (total(sounds) - total(words)) / frames.max(1.0);
    let spoken = || words.iter().filter(|piece| is_word(&piece.what));
    let gap_of = |word: &ExplainedSpan| {
        // What the loop's pieces say of the same frames.
        let share = |piece: &ExplainedSpan| {
            let common = piece.until.min(word.until).saturating_sub(piece.from.max(word.from));
            piece.score as f64 * f64::from(common) / piece.frames().max(1.0)
        };
        let there: f64 = sounds.iter().map(share).sum();
        (there - word.score as f64) / word.frames().max(1.0)
    };
    Evidence {
        gap,
        worst_word: spoken().map(gap_of).fold(f64::NEG_INFINITY, f64::max),
        coverage: coverage(words, speech_frames, &is_word),
        as_talk: 0.0,
    }
}

/// The frame after the last that is explained.
fn end_of(pieces: &[ExplainedSpan]) -> u32 {
    pieces.last().map_or(0, |last| last.until)
}

fn total(pieces: &[ExplainedSpan]) -> f64 {
    pieces.iter().map(|piece| piece.score as f64).sum()
}

/// The share of the speech that is words.
fn coverage(words: &[ExplainedSpan], speech_frames: u32, is_word: impl Fn(&str) -> bool) -> f64 {
    let spoken = words.iter().filter(|piece| is_word(&piece.what));
    spoken.map(ExplainedSpan::frames).sum::<f64>() / f64::from(speech_frames.max(1))
}
