//! What is said: the phrases of a bench, sentences of other talk, and the voices that say them.

use std::path::PathBuf;
use std::process::Command;

use lantern_audio::AudioSource;
use lantern_speech::RATE;
use serde::{Deserialize, Serialize};

/// Phrases of the logging bench, some of them alike.
pub const PHRASES: &[&str] = &[
    "next section",
    "next core section",
    "section before",
    "mark the band",
    "cloudy band here",
    "clear ice here",
    "saw fan on",
    "saw fan off",
    "store fan on",
    "store fan off",
    "open the core log",
    "close the core log",
    "open the scanner",
    "close the scanner",
    "start the feed",
    "stop the feed",
    "cut here",
    "cut ten centimetres",
    "print the label",
    "print two labels",
    "bag from the north rack",
    "bag from the south rack",
    "bag from the door rack",
    "save the drawing",
    "undo the last mark",
    "show the hand book",
    "hide the hand book",
    "lamp brighter",
    "lamp darker",
    "lamp on",
    "lamp off",
    "read the scale",
    "tare the scale",
    "send the table",
    "weigh the bag",
    "note a crack",
    "note a fold",
    "call the workshop",
    "stop listening",
    "end of the shift",
];

/// A speech program's voice, with its pace and pitch.
#[derive(Debug, Clone, Copy)]
pub struct Voice {
    name: &'static str,
    stretch: f64,
    pitch: f64,
}

const fn voice(name: &'static str, stretch: f64, pitch: f64) -> Voice {
    Voice { name, stretch, pitch }
}

/// Voices that limits were set on.
pub const TUNING: &[Voice] = &[voice("slt", 1.0, 170.0), voice("kal16", 1.0, 105.0)];
/// Voices that are judged on.
pub const JUDGING: &[Voice] = &[
    voice("rms", 1.0, 100.0),
    voice("rms", 1.12, 112.0),
    voice("awb", 1.0, 115.0),
    voice("awb", 0.93, 126.0),
];

impl Voice {
    pub fn name(&self) -> String {
        format!("{} x{} {} Hz", self.name, self.stretch, self.pitch)
    }

    /// Says words, a little otherwise each time, between pauses.
    pub fn say(&self, words: &str, take: usize) -> Vec<i16> {
        let mut dice = Dice(take as u32 * 2_654_435_761 + 17);
        let stretch = self.stretch * (0.94 + 0.12 * dice.unit());
        let pitch = self.pitch * (0.94 + 0.12 * dice.unit());
        let path = folder().join(format!("{}.wav", std::process::id()));
        let status = Command::new("flite")
            .args(["-voice", self.name, "--setf", &format!("duration_stretch={stretch:.3}")])
            .args(["--setf", &format!("int_f0_target_mean={pitch:.0}"), "-t", words, "-o"])
            .arg(&path)
            .status();
        assert!(status.expect("flite is installed").success());
        let mut source = AudioSource::file(&path).expect("it is a sound");
        let mut sound = vec![0; RATE * 7 / 10];
        while let Ok(Some(piece)) = source.read() {
            sound.extend(piece);
        }
        sound.extend(vec![0; RATE * 8 / 10]);
        sound
    }
}

/// Noise over speech.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub enum Noise {
    None,
    /// So far below the speech.
    Decibels(f64),
}

impl Noise {
    pub fn name(self) -> String {
        match self {
            Noise::None => "clean".to_owned(),
            Noise::Decibels(level) => format!("{level:.0} dB"),
        }
    }

    /// How far below the speech it is; without noise, below hearing.
    pub fn below(self) -> f64 {
        match self {
            Noise::None => 60.0,
            Noise::Decibels(below) => below,
        }
    }

    /// Whether it makes speech hard to hear.
    pub fn is_loud(self) -> bool {
        self.below() < 15.0
    }

    /// The sound with noise that falls with pitch, as that of fans does.
    pub fn over(self, sound: &[i16], seed: u32) -> Vec<i16> {
        let loud: Vec<f64> =
            sound.iter().map(|s| f64::from(*s)).filter(|s| s.abs() > 300.0).collect();
        let power = loud.iter().map(|s| s * s).sum::<f64>() / loud.len().max(1) as f64;
        let level = (power / 10f64.powf(self.below() / 10.0)).sqrt();
        let (mut dice, mut low) = (Dice(seed * 747_796_405 + 11), 0.0);
        let noisy = |sample: &i16| {
            let white = (dice.unit() * 2.0 - 1.0) * 3f64.sqrt();
            low = 0.75 * low + 0.66 * white;
            (f64::from(*sample) + level * low).round().clamp(-32_768.0, 32_767.0) as i16
        };
        sound.iter().map(noisy).collect()
    }
}

/// Chance that is the same every time.
struct Dice(u32);

impl Dice {
    fn unit(&mut self) -> f64 {
        for _ in 0..2 {
            self.0 = self.0.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        }
        f64::from(self.0 >> 8) / f64::from(1u32 << 24)
    }

    fn pick<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[(self.unit() * of.len() as f64) as usize % of.len()]
    }
}

/// A sentence of other talk; many share words with the phrases, some sound like the attention word.
pub fn sentence(number: usize) -> String {
    let mut dice = Dice(number as u32 * 40_503 + 5);
    let who = dice.pick(&["i", "we", "they", "she", "the crew", "somebody", "you", "the pilot"]);
    let did = dice.pick(&[
        "left",
        "found",
        "wanted",
        "carried",
        "forgot",
        "dropped",
        "mended",
        "painted",
        "asked about",
        "looked at",
        "saw",
        "opened",
        "closed",
        "moved",
        "talked about",
        "weighed",
        "sent",
        "cut",
    ]);
    let what = dice.pick(&[
        "the lantern",
        "the next core",
        "a section of the fence",
        "the old fan",
        "the saw",
        "two bags",
        "the coffee",
        "a letter from home",
        "the north door",
        "the last tin of peaches",
        "the scale",
        "the lamp in the hall",
        "that label",
        "the internal post",
        "the lander",
        "the feed for the dogs",
        "the land turned white",
        "the drawing",
        "the hand cream",
        "the table",
        "a crack in the ice",
    ]);
    let where_to = dice.pick(&[
        "behind the store",
        "before the storm",
        "at the end of the shift",
        "on the rack",
        "in the snow",
        "yesterday",
        "with the others",
        "near the workshop",
        "on the way to the plane",
        "after lunch",
        "because it was late",
        "for the south camp",
        "while the wind went on",
        "under the bench",
    ]);
    let more = dice.pick(&[
        "",
        "",
        "and then it stopped",
        "but nobody listened",
        "so we start again",
        "which is fine",
        "and the fan was off",
        "and that was the end of it",
        "as the book says",
        "if the light is on",
    ]);
    match number % 5 {
        0 => format!("{who} {did} {what} {where_to} {more}"),
        1 => format!("{what} {where_to}"),
        2 => format!("could {who} bring {what} {more}"),
        3 => format!("{more} {who} {did} {what}"),
        _ => format!("no, {what} is {where_to}"),
    }
}

fn folder() -> PathBuf {
    let folder = std::env::temp_dir().join("cold-lantern-voice");
    std::fs::create_dir_all(&folder).expect("a folder can be made");
    folder
}

/// What is missing to measure anything.
pub fn check() -> Result<(), String> {
    let flite = Command::new("flite").arg("-lv").output();
    if !flite.is_ok_and(|output| output.status.success()) {
        return Err("flite is not installed".to_owned());
    }
    lantern_audio::Recognizer::by_model().map(|_| ()).map_err(|error| error.line())
}
