//! Sound on its way to words: where speech begins and ends, the grammar that is listened for, and what
//! counts as said.

use std::time::Duration;

use lantern_speech::{
    AttentionPolicy, EndpointSettings, Endpointer, Example, ExplainedSpan, FRAME, Grammar, Phrase,
    RATE, TrainedPhrase, TrainedPhrases, VadEvent, confusable_words, features, odd_one,
    warped_distance, weigh,
};

/// A stream of noise and tones of so many milliseconds at so many decibels under full scale.
struct Sound {
    samples: Vec<i16>,
    state: u32,
}

impl Sound {
    fn new() -> Sound {
        Sound { samples: Vec::new(), state: 7 }
    }

    /// White noise.
    fn noise(mut self, millis: usize, level: f64) -> Sound {
        let peak = 32_768.0 * 10f64.powf(level / 20.0) * 3f64.sqrt();
        for _ in 0..RATE * millis / 1000 {
            self.state = self.state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let unit = f64::from(self.state) / f64::from(u32::MAX) * 2.0 - 1.0;
            self.samples.push((unit * peak) as i16);
        }
        self
    }
}

/// The signs in words, taken in pieces of an odd size.
fn signs(sound: &Sound, settings: EndpointSettings) -> (Vec<String>, Endpointer) {
    let mut endpointer = Endpointer::new(settings);
    let mut all = Vec::new();
    for piece in sound.samples.chunks(777) {
        all.extend(endpointer.take(piece));
    }
    all.extend(endpointer.finish());
    let words = all.iter().map(|sign| match sign {
        VadEvent::Began => "began".to_owned(),
        VadEvent::Resting(said) => format!(
            "rests: {} to {} ms, {:.0} dB above the room",
            said.from.as_millis() / 100 * 100,
            said.until.as_millis() / 100 * 100,
            (said.above_noise / 5.0).round() * 5.0
        ),
        VadEvent::WentOn => "went on".to_owned(),
        VadEvent::Ended => "ended".to_owned(),
        VadEvent::BackgroundTalk => "talk".to_owned(),
    });
    (words.collect(), endpointer)
}

#[test]
fn a_room_is_taken_out_but_for_what_a_quiet_one_has() {
    let loud = |samples: &[i16]| {
        let power = samples.iter().map(|s| f64::from(*s).powi(2)).sum::<f64>();
        10.0 * (power / samples.len() as f64 / 32_768f64.powi(2)).log10()
    };
    for room in [-25.0, -35.0, -60.0] {
        let sound = Sound::new().noise(800, room).noise(600, -15.0).noise(900, room);
        let mut endpointer = Endpointer::new(EndpointSettings::default());
        let utterance = endpointer.take(&sound.samples).into_iter().find_map(|sign| match sign {
            VadEvent::Resting(utterance) => Some(utterance),
            _ => None,
        });
        let utterance = utterance.expect("it is loud enough");
        let voice = loud(utterance.speech());
        let quieted = utterance.clone().quieted();
        let kept = loud(quieted.speech()) - voice;
        assert!(kept.abs() < 1.5, "the voice is {kept:.1} dB louder in a room of {room} dB");
        let pause = loud(&quieted.sound[..RATE * 3 / 10]);
        let wanted = loud(&utterance.sound[..RATE * 3 / 10]).min(voice - 32.0);
        assert!((pause - wanted).abs() < 3.0, "{pause:.1} dB of a room of {room} dB");
    }
}

#[test]
fn two_commands_between_pauses_are_two_utterances_in_any_room() {
    for room in [-75.0, -55.0, -40.0] {
        let sound = Sound::new()
            .noise(1000, room)
            .noise(800, room + 30.0)
            .noise(1200, room)
            .noise(600, room + 30.0)
            .noise(1000, room);
        let (words, endpointer) = signs(&sound, EndpointSettings::default());
        let counted = |word: &str| words.iter().filter(|words| words.starts_with(word)).count();
        assert_eq!((counted("began"), counted("ended")), (2, 2), "{room}: {words:?}");
        assert!((endpointer.loudness().noise - room.max(-62.0) as f32).abs() < 3.0, "{room}");
    }
}

#[test]
fn the_first_and_last_sounds_belong_to_an_utterance() {
    let sound = Sound::new().noise(1000, -60.0).noise(700, -25.0).noise(1000, -60.0);
    let mut endpointer = Endpointer::new(EndpointSettings::default());
    let signs = endpointer.take(&sound.samples);
    let said = signs.iter().find_map(|sign| match sign {
        VadEvent::Resting(said) => Some(said),
        _ => None,
    });
    let said = said.expect("it was said");
    assert!(said.from < Duration::from_millis(1000) && said.until >= Duration::from_millis(1690));
    assert!(said.sound.len() >= RATE * 900 / 1000, "with a little around it");
    assert!((65..=75).contains(&said.speech_frames), "{}", said.speech_frames);
}

#[test]
fn a_short_gap_is_none_and_the_first_guess_is_taken_back() {
    let sound = Sound::new()
        .noise(1000, -60.0)
        .noise(500, -25.0)
        .noise(300, -60.0)
        .noise(500, -25.0)
        .noise(1000, -60.0);
    let (words, _) = signs(&sound, EndpointSettings::default());
    let kinds: Vec<&str> = words.iter().map(|word| word.split(':').next().unwrap_or("")).collect();
    assert_eq!(kinds, ["began", "rests", "went on", "rests", "ended"], "{words:?}");
    let shorter = EndpointSettings { pause: Duration::from_millis(250), ..Default::default() };
    let (words, _) = signs(&sound, shorter);
    assert_eq!(words.iter().filter(|word| *word == "ended").count(), 2, "{words:?}");
}

#[test]
fn clicks_are_no_speech_and_long_talk_is_no_command() {
    let mut sound = Sound::new().noise(1000, -60.0);
    for _ in 0..10 {
        sound = sound.noise(20, -15.0).noise(200, -60.0);
    }
    assert_eq!(signs(&sound, EndpointSettings::default()).0, [""; 0]);
    let sound = Sound::new().noise(1000, -60.0).noise(12_000, -25.0).noise(1000, -60.0);
    assert_eq!(signs(&sound, EndpointSettings::default()).0, ["began", "talk"]);
}

#[test]
fn silence_nothing_and_a_stuck_full_scale_say_nothing() {
    for samples in [vec![], vec![0; RATE * 5], vec![i16::MAX; RATE * 5], vec![1; FRAME - 1]] {
        let sound = Sound { samples, state: 7 };
        assert_eq!(signs(&sound, EndpointSettings::default()).0, [""; 0]);
    }
}

#[test]
fn what_is_being_said_when_the_stream_ends_was_said() {
    let sound = Sound::new().noise(500, -60.0).noise(700, -25.0);
    let (words, _) = signs(&sound, EndpointSettings::default());
    assert_eq!(words.last().map(String::as_str), Some("ended"), "{words:?}");
}

fn grammar(phrases: &[(&str, AttentionPolicy)], attention: &[&str]) -> Grammar {
    let parse = |text: &str| Phrase::parse(text, &crate::lists()).expect("it is a phrase");
    let phrases: Vec<(Phrase, AttentionPolicy)> =
        phrases.iter().map(|(text, calling)| (parse(text), *calling)).collect();
    let attention: Vec<String> = attention.iter().map(|word| (*word).to_owned()).collect();
    Grammar::new(phrases.iter().map(|(phrase, calling)| (phrase, *calling)), &attention)
}

#[test]
fn a_grammar_holds_what_counts_behind_its_attention_word() {
    use AttentionPolicy::{Free, Needed};
    let grammar = grammar(
        &[("next [core] section", Needed), ("(stop | halt) ...", Free), ("to <tray>", Needed)],
        &["hey", "lantern"],
    );
    insta::assert_snapshot!(grammar.text(), @r#"
    #JSGF V1.0;
    grammar lantern;
    <called> = w0 [w1] w2 | w5 (w6 | w7 w8 | (w9 | w10) w11);
    <free> = (w3 | w4);
    public <said> = w12 w13 <called> | [w12 w13] <free> | w12 w13;
    "#);
    let talk = grammar.talk().expect("there is an attention word");
    insta::assert_snapshot!(talk.lines().last().unwrap_or_default(), @"public <said> = (w14 | w15 | w16 | w17 | w18 | w19 | w20) w12 w13 [<called> | <free>];");
    let neighbours = ["landers".to_owned(), "lanterns".to_owned()];
    let near = |word: &str| if word == "lantern" { &neighbours[..] } else { &[] };
    assert!(grammar.near_talk().is_none(), "nothing is known to sound like it");
    let talk = grammar.clone().beside(near).near_talk().expect("two words sound like it");
    insta::assert_snapshot!(talk.lines().last().unwrap_or_default(), @"public <said> = [w14 | w15 | w16 | w17 | w18 | w19 | w20] w12 (w21 | w22) [<called> | <free>];");
    assert!(
        grammar.calls(&["hey", "lantern", "next"]) && !grammar.calls(&["the", "hey", "lantern"])
    );
    let words: Vec<&str> = grammar.words().collect();
    insta::assert_snapshot!(words.join(" "), @"a core halt hey lantern my next north old one our section spare stop that the this to tray worn your");
    assert_eq!(grammar.word("w1(2)"), Some("core"));
    assert_eq!(grammar.word("<sil>"), None);
    assert!(self::grammar(&[], &["lantern"]).is_empty(), "there is nothing to be called for");
}

#[test]
fn words_near_another_differ_by_a_sound_that_can_be_told() {
    let dictionary = "lantern L AE N T ER N\nlantern(2) L AE N ER N\nlanterns L AE N T ER N Z\n\
                      lanton L AE N T AH N\nlander L AE N D ER\nlanders L AE N D ER Z\n\
                      plantern P L AE N T ER N\nanchor AE NG K ER\nodd ??\n";
    assert_eq!(confusable_words(dictionary, "lantern"), ["lanterns", "plantern"]);
    assert_eq!(confusable_words("", "lantern"), [""; 0]);
    let short: String = (b'a'..=b'z').map(|c| format!("b{} B EH L {}\n", c as char, "Z")).collect();
    assert_eq!(confusable_words(&short, "bell").len(), 16, "the maximum number");
}

#[test]
fn numbers_stand_in_a_grammar_once() {
    let grammar = grammar(
        &[("cut <number>", AttentionPolicy::Needed), ("fan <percent>", AttentionPolicy::Free)],
        &[],
    );
    let text = grammar.text();
    assert_eq!(text.matches("<number> =").count(), 1);
    assert!(grammar.talk().is_none() && !grammar.calls(&["cut"]), "there is no attention word");
    for word in ["seventeen", "forty", "percent", "hundred", "point"] {
        assert!(grammar.words().any(|known| known == word), "{word}");
    }
}

#[test]
fn words_are_pronounced_by_the_dictionary_and_unknown_ones_by_rules() {
    let grammar = grammar(&[("next glaciolog", AttentionPolicy::Needed)], &[]);
    let dictionary = "next N EH K S T\nnext(2) N EH K S\nother AH DH ER\n";
    insta::assert_snapshot!(grammar.pronunciations(dictionary), @r#"
    w1 G L AE S IH AA L AA G
    w0 N EH K S T
    w0(2) N EH K S
    "#);
}

#[test]
fn what_fits_its_words_as_well_as_any_sounds_was_said() {
    let piece = |what: &str, from: u32, until: u32, score: i64| {
        let what = what.to_owned();
        ExplainedSpan { what, from, until, score }
    };
    let is_word = |what: &str| what.starts_with('w');
    let said =
        [piece("<sil>", 0, 20, -400), piece("w0", 20, 60, -4000), piece("w1", 60, 100, -4000)];
    let close = [piece("AA", 0, 60, -4200), piece("B", 60, 100, -3900)];
    let evidence = weigh(&said, &close, 80, is_word);
    assert!(evidence.counts() && evidence.score() > 0.85, "{evidence:?}");
    // Any sounds explain it far better: other words were said.
    let far = [piece("AA", 0, 60, -2000), piece("B", 60, 100, -1500)];
    assert!(!weigh(&said, &far, 80, is_word).counts());
    // One word fits by far the worst.
    let one_off = [piece("AA", 0, 60, -4200), piece("B", 60, 100, -1200)];
    assert!(!weigh(&said, &one_off, 80, is_word).counts());
    // Most of what was said is none of the words.
    assert!(!weigh(&said, &close, 150, is_word).counts());
    assert!(!weigh(&[], &[], 0, is_word).counts());
    // "The lantern ..." explains it better than "lantern ...": it was spoken of, not called.
    let talk = |score| [piece("w2", 12, 20, -300), piece("w0", 20, 100, score)];
    assert!(evidence.beside_talk(&said, &talk(-9000)).counts());
    assert!(!evidence.beside_talk(&said, &talk(-7400)).counts());
    let cut_short = [piece("w2", 12, 20, -300)];
    assert_eq!(evidence.beside_talk(&said, &cut_short), evidence, "it breaks off");
    assert_eq!(evidence.beside_talk(&said, &[]), evidence, "it cannot be explained so at all");
}

/// A made-up word: tones that move, said at some speed, over a little noise.
fn word(tones: &[(f64, f64)], speed: f64, seed: u32) -> Vec<i16> {
    let mut sound = Sound { samples: Vec::new(), state: seed };
    let (mut phase, mut samples) = (0.0f64, Vec::new());
    for (from, to) in tones {
        let length = (RATE as f64 * 0.18 / speed) as usize;
        for at in 0..length {
            let hertz = from + (to - from) * at as f64 / length as f64;
            phase += hertz / RATE as f64 * std::f64::consts::TAU;
            let tone = phase.sin() + 0.5 * (2.0 * phase).sin() + 0.3 * (5.0 * phase).sin();
            samples.push(tone * 6000.0);
        }
    }
    sound = sound.noise(samples.len() * 1000 / RATE + 1, -50.0);
    samples.iter().zip(&sound.samples).map(|(tone, noise)| *tone as i16 + noise).collect()
}

const DEPTH: &[(f64, f64)] = &[(300.0, 900.0), (900.0, 400.0), (1800.0, 1800.0), (500.0, 1200.0)];
const CRACK: &[(f64, f64)] = &[(1500.0, 700.0), (400.0, 400.0), (700.0, 2000.0), (2000.0, 600.0)];
const OTHER: &[(f64, f64)] = &[(600.0, 600.0), (2500.0, 1500.0), (300.0, 700.0), (1000.0, 300.0)];

fn taught(words: &str, tones: &[(f64, f64)]) -> TrainedPhrase {
    let example = |(number, speed): (usize, f64)| {
        Example::new(40.0, &features(&word(tones, speed, number as u32)))
    };
    let examples = [0.95, 1.0, 1.07].into_iter().enumerate().map(example).collect();
    TrainedPhrase { words: words.to_owned(), examples }
}

#[test]
fn a_taught_phrase_is_known_again_at_another_speed_and_other_words_are_not() {
    let phrases = [taught("tiefe", DEPTH), taught("riss", CRACK)];
    let book = TrainedPhrases::new(&phrases);
    let likened = |tones, speed| {
        book.liken(&features(&word(tones, speed, 91)), 40.0, |_| true).expect("it is like one")
    };
    for speed in [0.85, 1.0, 1.2] {
        let depth = likened(DEPTH, speed);
        assert!(depth.words == "tiefe" && depth.score >= 0.5, "{speed}: {depth:?}");
        let crack = likened(CRACK, speed);
        assert!(crack.words == "riss" && crack.score >= 0.5, "{speed}: {crack:?}");
        assert!(likened(OTHER, speed).score < 0.5, "{speed}: {:?}", likened(OTHER, speed));
    }
    // What counts elsewhere only is not it, and is not taken for what counts here.
    let here = book.liken(&features(&word(DEPTH, 1.0, 91)), 40.0, |words| words == "riss");
    assert!(here.is_some_and(|likened| likened.words == "riss" && likened.score < 0.5));
    assert!(book.liken(&features(&word(DEPTH, 1.0, 91)), 40.0, |_| false).is_none());
    assert!(book.liken(&[], 40.0, |_| true).is_none(), "nothing is like nothing");
}

#[test]
fn taught_phrases_are_ranked_by_how_alike_they_were_said() {
    let nearly = [(DEPTH[0].0 * 1.02, DEPTH[0].1 * 1.02)];
    let again: Vec<(f64, f64)> = nearly.iter().chain(&DEPTH[1..]).copied().collect();
    let phrases = [taught("tiefe", DEPTH), taught("riss", CRACK), taught("tiefen", &again)];
    let pairs = TrainedPhrases::new(&phrases).said_alike();
    assert_eq!(pairs.len(), 3);
    assert_eq!((pairs[0].first.as_str(), pairs[0].second.as_str()), ("tiefe", "tiefen"));
    assert!(pairs[0].margin < 1.5 && pairs[0].examples == 6, "{pairs:?}");
    assert!(pairs[1].margin > 1.5 && pairs[1].taken == 0, "{pairs:?}");
    assert!(TrainedPhrases::new(&phrases[..1]).said_alike().is_empty());
}

#[test]
fn an_example_that_is_another_word_is_the_odd_one() {
    let example = |tones, seed| Example::new(40.0, &features(&word(tones, 1.0, seed)));
    let same = [example(DEPTH, 1), example(DEPTH, 2), example(DEPTH, 3)];
    assert_eq!(odd_one(&same), None);
    assert_eq!(odd_one(&[example(DEPTH, 1), example(CRACK, 2), example(DEPTH, 3)]), Some(1));
    assert_eq!(odd_one(&same[..2]), None, "of two neither is the odd one");
}

#[test]
fn sounds_of_other_lengths_are_other_words() {
    let long = features(&word(DEPTH, 0.3, 1));
    let short = features(&word(DEPTH, 1.0, 1));
    assert_eq!(warped_distance(&long, &short), None);
    assert_eq!(warped_distance(&short, &[]), None);
    assert!(warped_distance(&short, &short).is_some_and(|distance| distance < 1e-3));
}
