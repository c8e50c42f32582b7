//! What is said to the one that runs.

use std::path::PathBuf;

use clap::Args;

/// `lantern status`
#[derive(Debug, Args)]
pub struct StatusArguments {
    /// Print data instead of tables.
    #[arg(long)]
    pub json: bool,
}

/// `lantern fire`
#[derive(Debug, Args)]
pub struct FireArguments {
    /// The macro, or a rule that has a name.
    pub name: String,
    /// What the macro takes, in order: texts, numbers, durations, shares, true, false.
    #[arg(allow_hyphen_values = true)]
    pub values: Vec<String>,
}

/// `lantern stop`
#[derive(Debug, Args)]
pub struct StopArguments {
    /// The macro or rule whose runs end.
    #[arg(required_unless_present_any = ["all", "run"])]
    pub name: Option<String>,
    /// End every run and let every key go; works too when nothing runs any more.
    #[arg(long, conflicts_with_all = ["name", "run"])]
    pub all: bool,
    /// The number of one run, as `lantern status` tells it.
    #[arg(long, value_name = "NUMBER", conflicts_with = "name")]
    pub run: Option<u64>,
}

/// `lantern pause`
#[derive(Debug, Args)]
pub struct PauseArguments {
    /// A rule that has a name; without one everything pauses.
    pub name: Option<String>,
    /// Resume automatically after this time: 90s, 20min, 1h.
    #[arg(long = "for", value_name = "DURATION")]
    pub span: Option<String>,
}

/// `lantern resume`
#[derive(Debug, Args)]
pub struct ResumeArguments {
    /// A rule that has a name; without one everything is resumed.
    pub name: Option<String>,
}

/// `lantern end`
#[derive(Debug, Args)]
pub struct EndArguments {
    /// The process, as `lantern status` tells it.
    pub process: u32,
}

/// `lantern why`
#[derive(Debug, Args)]
pub struct WhyArguments {
    /// A combination, or how many inputs ago; without either the last input.
    #[arg(value_name = "KEY or NUMBER")]
    pub about: Option<String>,
    /// Print data instead of lines.
    #[arg(long)]
    pub json: bool,
}

/// `lantern watch`
#[derive(Debug, Args)]
pub struct WatchArguments {
    /// Print a line for each decision instead of a view, for pipes and screen readers.
    #[arg(long)]
    pub plain: bool,
    /// Print each decision, or each key, as a line of data.
    #[arg(long)]
    pub json: bool,
    /// Print every key and button with all its names; works with no rules at work.
    #[arg(long, conflicts_with = "plain")]
    pub raw: bool,
    /// With --raw: print what comes from this serial port instead, byte for byte.
    #[arg(long, value_name = "PATH", requires = "raw")]
    pub port: Option<String>,
    /// The port's speed, in bits a second.
    #[arg(long, value_name = "N", default_value_t = 9600, requires = "port")]
    pub speed: u32,
}

/// `lantern record`
#[derive(Debug, Args)]
pub struct RecordArguments {
    /// The scene to write; a file that exists is never overwritten.
    pub file: PathBuf,
    /// Write characters and titles as they are, but for password fields.
    #[arg(long)]
    pub letters: bool,
    /// Record what programs put in as well: of an on-screen keyboard, or of our own rules.
    #[arg(long)]
    pub injected: bool,
    /// Stop automatically after this time: 30s, 5min.
    #[arg(long = "for", value_name = "DURATION")]
    pub span: Option<String>,
}
