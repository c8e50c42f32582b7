//! What is said about spoken phrases.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// `lantern voice`
#[derive(Debug, Args)]
pub struct VoiceArguments {
    /// What to do.
    #[command(subcommand)]
    pub command: VoiceCommand,
}

/// Commands about spoken phrases.
#[derive(Debug, Subcommand)]
pub enum VoiceCommand {
    /// Listen, and show what is heard, how sure it is and which rule it would fire.
    #[command(
        after_help = "Example:\n  lantern voice hear bench.lantern --seconds 20\n\nNothing is fired. The bar shows how loud it is; its mark is the room's own noise."
    )]
    Hear(VoiceHearArguments),
    /// Show what is heard in recordings, with scores.
    #[command(
        after_help = "Example:\n  lantern voice try --rules bench.lantern said.wav\n\n`-` reads raw samples from standard input: 16 bits, 16,000 a second, one channel."
    )]
    Try(VoiceTryArguments),
    /// Learn a phrase from how you say it, in any language, with no model.
    #[command(
        after_help = "Example:\n  lantern voice teach \"next section\"\n  lantern voice teach\n\nWithout a phrase it lists what was taught. What is kept are features of the sound, no sound."
    )]
    Teach(VoiceTeachArguments),
    /// Say that what was said last was understood wrongly, and what to learn from it.
    #[command(
        after_help = "Example:\n  lantern voice wrong\n  lantern voice wrong --meant \"lantern next section\"\n\nWithout an option it shows what was heard and asks. Nothing is learnt unasked; what is kept are features, no sound."
    )]
    Wrong(VoiceWrongArguments),
    /// Rank pairs of phrases by how alike they sound.
    #[command(
        after_help = "Example:\n  lantern voice alike bench.lantern --least 60\n\nPronunciations are those of an installed dictionary, or letter rules for English."
    )]
    Alike(VoiceAlikeArguments),
}

/// `lantern voice hear`
#[derive(Debug, Args)]
pub struct VoiceHearArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// A part of the microphone's name; the one of the settings if missing.
    #[arg(long, value_name = "NAME")]
    pub microphone: Option<String>,
    /// End after so many seconds.
    #[arg(long, value_name = "N")]
    pub seconds: Option<u64>,
}

/// `lantern voice teach`
#[derive(Debug, Args)]
pub struct VoiceTeachArguments {
    /// The phrase, with the attention word if it needs one.
    pub phrase: Option<String>,
    /// Recordings of it, one example each, instead of the microphone.
    #[arg(requires = "phrase")]
    pub recordings: Vec<PathBuf>,
    /// How often it is said.
    #[arg(long, value_name = "N", default_value_t = 3)]
    pub times: usize,
    /// A part of the microphone's name.
    #[arg(long, value_name = "NAME")]
    pub microphone: Option<String>,
    /// Forget the phrase.
    #[arg(long, requires = "phrase", conflicts_with = "recordings")]
    pub forget: bool,
}

/// `lantern voice wrong`
#[derive(Debug, Args)]
pub struct VoiceWrongArguments {
    /// It was this phrase.
    #[arg(long, value_name = "PHRASE", conflicts_with = "never")]
    pub meant: Option<String>,
    /// It was no command: never again take it for one.
    #[arg(long)]
    pub never: bool,
    /// Print what was heard as data, and learn nothing.
    #[arg(long, conflicts_with_all = ["meant", "never"])]
    pub json: bool,
}

/// `lantern voice try`
#[derive(Debug, Args)]
pub struct VoiceTryArguments {
    /// Recordings: WAV, FLAC, Ogg or MP3; `-` is raw standard input.
    #[arg(required = true)]
    pub recordings: Vec<PathBuf>,
    /// The file of rules; the person's own if missing.
    #[arg(long, value_name = "FILE")]
    pub rules: Option<PathBuf>,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern voice alike`
#[derive(Debug, Args)]
pub struct VoiceAlikeArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Leave out pairs that are less alike than this, in percent.
    #[arg(long, value_name = "PERCENT", default_value_t = 50.0)]
    pub least: f64,
    /// Show so many pairs at the most.
    #[arg(long, value_name = "N", default_value_t = 20)]
    pub most: usize,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}
