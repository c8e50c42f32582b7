//! Where speech begins and ends in a stream of sound.
//!
//! Owns the measure of the room's noise and the decision what belongs to one utterance. Pure: sound
//! goes in, in whatever pieces, and utterances come out; a live ear and a file are the same to it.
//!
//! A frame is 10 ms. Speech begins when most of a few frames are well above the room, so that a click
//! is none; what came just before belongs to it, or its first sound would be lost. It ends with a pause.
//! A moment into the pause the utterance is handed out already ([`VadEvent::Resting`]), so that recognising
//! it can be over when the pause is.

use std::collections::VecDeque;
use std::time::Duration;

use crate::noise_reduction::quieted;

/// Samples a second.
pub const RATE: usize = 16_000;
/// Samples of a frame.
pub const FRAME: usize = RATE / 100;

/// Frames before the beginning that belong to an utterance.
const AHEAD: usize = 50;
/// Of so many frames ...
const WINDOW: usize = 8;
/// ... so many must be loud for speech to begin.
const LOUD: usize = 5;
/// Minimum signal to noise ratio, in decibels, for speech to begin and to continue.
const BEGINS: f32 = 9.0;
const GOES_ON: f32 = 5.0;
/// Speech is this far below its own loudest at the most: a room that grew louder in the middle ends it.
const BELOW_LOUDEST: f32 = 32.0;
/// Frames of rest after which the utterance is handed out for a first look.
const RESTING: usize = 16;
/// Frames that the room is learnt from at the start.
const LEARNING: usize = 20;
/// Below this, in decibels under full scale, every room is silent.
const SILENCE: f32 = -62.0;

/// Settings of the endpointer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct EndpointSettings {
    /// The pause that ends an utterance.
    pub pause: Duration,
    /// Maximum length of a command. A longer utterance is background talk.
    pub longest: Duration,
}

impl Default for EndpointSettings {
    fn default() -> EndpointSettings {
        EndpointSettings { pause: Duration::from_millis(500), longest: Duration::from_secs(8) }
    }
}

/// Something said between two pauses.
#[derive(Debug, Clone, PartialEq)]
pub struct Utterance {
    /// Its sound, with a little of the pauses around it.
    pub sound: Vec<i16>,
    /// When its sound begins, from the start of the stream.
    pub from: Duration,
    /// Frames of pause at its beginning.
    pub ahead: usize,
    /// When its last loud frame ended.
    pub until: Duration,
    /// Frames that were loud.
    pub speech_frames: u32,
    /// How far the speech is above the room, in decibels.
    pub above_noise: f32,
    /// How loud it is, in decibels under full scale.
    pub level: f32,
}

impl Utterance {
    /// The same without the room's own noise, which is known from the pause ahead.
    pub fn quieted(mut self) -> Utterance {
        self.sound = quieted(&self.sound, self.ahead * FRAME, self.above_noise);
        self
    }

    /// Its sound from the first loud frame to the last.
    pub fn speech(&self) -> &[i16] {
        let frames = (self.until.saturating_sub(self.from).as_millis() / 10) as usize;
        let until = (frames * FRAME).min(self.sound.len());
        let from = (self.ahead * FRAME).min(until);
        &self.sound[from..until]
    }
}

/// What the endpointer noticed.
#[derive(Debug, Clone, PartialEq)]
pub enum VadEvent {
    /// Speech begins.
    Began,
    /// A pause has begun that may end this utterance.
    Resting(Utterance),
    /// The pause has not ended the utterance: speech continues.
    WentOn,
    /// The pause has ended the utterance that was handed out last.
    Ended,
    /// The utterance is longer than a command may be. It is ignored until the next pause.
    BackgroundTalk,
}

/// How loud it is, for a meter.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Loudness {
    /// Of the last frame, in decibels under full scale.
    pub level: f32,
    /// Of the room, in decibels under full scale.
    pub noise: f32,
    /// Whether speech is present.
    pub speech: bool,
}

/// Finds utterances.
#[derive(Debug, Clone)]
pub struct Endpointer {
    settings: EndpointSettings,
    /// Samples that do not fill a frame yet.
    rest: Vec<i16>,
    /// Frames before speech.
    ahead: VecDeque<Vec<i16>>,
    /// Whether each of the last frames was loud.
    recent: VecDeque<bool>,
    noise: f32,
    level: f32,
    frames: u64,
    speech: Option<Speech>,
}

#[derive(Debug, Clone)]
struct Speech {
    sound: Vec<i16>,
    first: u64,
    /// Frames before the first loud one.
    ahead: usize,
    last_loud: u64,
    loud_frames: u32,
    /// The sum of the loud frames' power.
    power: f64,
    loudest: f32,
    /// Frames since the last loud one.
    quiet: usize,
    talk: bool,
    handed_out: bool,
}

impl Endpointer {
    /// An endpointer that knows no room yet.
    pub fn new(settings: EndpointSettings) -> Endpointer {
        Endpointer {
            settings,
            rest: Vec::new(),
            ahead: VecDeque::new(),
            recent: VecDeque::new(),
            noise: SILENCE,
            level: SILENCE,
            frames: 0,
            speech: None,
        }
    }

    /// Takes other settings from here on.
    pub fn set(&mut self, settings: EndpointSettings) {
        self.settings = settings;
    }

    /// How much sound was taken in.
    pub fn time(&self) -> Duration {
        Duration::from_millis(10 * self.frames)
    }

    /// How loud it is now.
    pub fn loudness(&self) -> Loudness {
        Loudness { level: self.level, noise: self.noise, speech: self.speech.is_some() }
    }

    /// Takes in sound; gives what was noticed, in order.
    pub fn take(&mut self, sound: &[i16]) -> Vec<VadEvent> {
        let mut signs = Vec::new();
        self.rest.extend_from_slice(sound);
        let whole = self.rest.len() / FRAME * FRAME;
        let frames: Vec<i16> = self.rest.drain(..whole).collect();
        for frame in frames.chunks_exact(FRAME) {
            self.take_frame(frame, &mut signs);
        }
        signs
    }

    /// The stream is over: what was being said is said.
    pub fn finish(&mut self) -> Vec<VadEvent> {
        let mut signs = Vec::new();
        if let Some(speech) = self.speech.take()
            && !speech.talk
        {
            if !speech.handed_out {
                signs.push(VadEvent::Resting(self.utterance(&speech)));
            }
            signs.push(VadEvent::Ended);
        }
        signs
    }

    fn take_frame(&mut self, frame: &[i16], signs: &mut Vec<VadEvent>) {
        let power = power(frame);
        self.level = decibels(power);
        self.frames += 1;
        let speaking = self.speech.is_some();
        let above = if speaking { GOES_ON } else { BEGINS };
        let loud = self.level > self.noise + above;
        self.learn_noise(speaking);
        self.recent.push_back(loud);
        if self.recent.len() > WINDOW {
            self.recent.pop_front();
        }
        match self.speech.take() {
            Some(speech) => self.go_on(speech, frame, power, loud, signs),
            None => self.wait_for_speech(frame, signs),
        }
    }

    /// Updates the estimate of the noise: at once to quieter sound, slowly to louder sound, and more slowly
    /// during speech.
    fn learn_noise(&mut self, speaking: bool) {
        let level = self.level.max(SILENCE);
        let learning = self.frames <= LEARNING as u64;
        let share = match (level < self.noise, speaking) {
            (true, _) => 0.2,
            (false, _) if learning => 0.3,
            (false, true) => 0.002,
            (false, false) => 0.03,
        };
        // A loud frame says little of the room.
        let step = (level - self.noise).min(if learning { 40.0 } else { 12.0 });
        self.noise += share * step;
    }

    fn wait_for_speech(&mut self, frame: &[i16], signs: &mut Vec<VadEvent>) {
        self.ahead.push_back(frame.to_vec());
        if self.ahead.len() > AHEAD {
            self.ahead.pop_front();
        }
        let loud = self.recent.iter().filter(|loud| **loud).count();
        if loud < LOUD || self.frames <= LEARNING as u64 {
            return;
        }
        let sound: Vec<i16> = self.ahead.drain(..).flatten().collect();
        let before = (sound.len() / FRAME) as u64;
        self.speech = Some(Speech {
            sound,
            first: self.frames - before,
            ahead: (before as usize).saturating_sub(self.recent.len()),
            last_loud: self.frames,
            loud_frames: loud as u32,
            power: f64::from(from_decibels(self.level)) * loud as f64,
            loudest: self.level,
            quiet: 0,
            talk: false,
            handed_out: false,
        });
        signs.push(VadEvent::Began);
    }

    fn go_on(
        &mut self,
        mut speech: Speech,
        frame: &[i16],
        power: f32,
        loud: bool,
        signs: &mut Vec<VadEvent>,
    ) {
        speech.loudest = speech.loudest.max(self.level);
        let loud = loud && self.level > speech.loudest - BELOW_LOUDEST;
        if !speech.talk {
            speech.sound.extend_from_slice(frame);
        }
        if loud {
            speech.last_loud = self.frames;
            speech.loud_frames += 1;
            speech.power += f64::from(power);
            // One loud frame in a pause is no speech.
            if speech.quiet > 0 && self.recent.iter().rev().take(3).all(|loud| *loud) {
                speech.quiet = 0;
                if std::mem::take(&mut speech.handed_out) {
                    signs.push(VadEvent::WentOn);
                }
            }
        }
        if !loud || speech.quiet > 0 {
            speech.quiet += 1;
        }
        let longest = frames_of(self.settings.longest);
        if !speech.talk && (self.frames - speech.first) as usize > longest + RESTING {
            speech.talk = true;
            speech.sound.clear();
            signs.push(VadEvent::BackgroundTalk);
        }
        if speech.quiet >= RESTING && !speech.handed_out && !speech.talk {
            speech.handed_out = true;
            signs.push(VadEvent::Resting(self.utterance(&speech)));
        }
        if speech.quiet >= frames_of(self.settings.pause).max(RESTING + 1) {
            if !speech.talk {
                signs.push(VadEvent::Ended);
            }
            self.recent.clear();
            return;
        }
        self.speech = Some(speech);
    }

    fn utterance(&self, speech: &Speech) -> Utterance {
        let time = |frames: u64| Duration::from_millis(10 * frames);
        let level = decibels((speech.power / f64::from(speech.loud_frames.max(1))) as f32);
        Utterance {
            sound: speech.sound.clone(),
            from: time(speech.first),
            ahead: speech.ahead,
            until: time(speech.last_loud),
            speech_frames: speech.loud_frames,
            above_noise: level - self.noise,
            level,
        }
    }
}

fn frames_of(span: Duration) -> usize {
    (span.as_millis() / 10) as usize
}

/// The mean power of a frame, without its mean, as a share of full scale.
fn power(frame: &[i16]) -> f32 {
    let count = frame.len() as f32;
    let mean = frame.iter().map(|sample| f32::from(*sample)).sum::<f32>() / count;
    let squares = frame.iter().map(|sample| (f32::from(*sample) - mean).powi(2)).sum::<f32>();
    squares / count / 32_768f32.powi(2)
}

fn decibels(power: f32) -> f32 {
    (10.0 * power.max(1e-10).log10()).max(-100.0)
}

fn from_decibels(level: f32) -> f32 {
    10f32.powf(level / 10.0)
}
