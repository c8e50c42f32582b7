//! How a command ends: done, with findings, or not at all.

use std::io;
use std::path::PathBuf;
use std::process::ExitCode;

#[cfg(feature = "audio")]
use lantern_audio::AudioError;
use lantern_backend::BackendError;
#[cfg(feature = "net")]
use lantern_net::LinkError;

use crate::drawing_error::DrawingError;
use crate::policy_error::PolicyError;
use crate::style;

/// How a command ended that did its work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Status {
    /// Done, and nothing to complain about.
    Done,
    /// Done, with a finding, a failed expectation, or nothing matched.
    Found,
}

impl From<Status> for ExitCode {
    fn from(status: Status) -> ExitCode {
        match status {
            Status::Done => ExitCode::SUCCESS,
            Status::Found => ExitCode::from(1),
        }
    }
}

/// Why a command could not do its work.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// A file cannot be read.
    #[error("cannot read {path}: {source}")]
    Read {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A file is too large to be one of ours.
    #[error("{path} is {size} MB; a file of rules is at most {most} MB")]
    TooLarge {
        /// Its path.
        path: PathBuf,
        /// Its size.
        size: u64,
        /// The largest that is read.
        most: usize,
    },
    /// A file is not text.
    #[error("{path} is not UTF-8 text: byte {at} (line {line}) cannot be read")]
    NotText {
        /// Its path.
        path: PathBuf,
        /// The first bad byte.
        at: usize,
        /// Its line.
        line: usize,
    },
    /// A file cannot be written.
    #[error("cannot write {path}: {source}")]
    Write {
        /// Its path.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A file that would be written is there already.
    #[error("{path} is there already")]
    Exists {
        /// Its path.
        path: PathBuf,
    },
    /// No file was named, and the person has none.
    #[error("no file is named, and {path} does not exist")]
    NoFile {
        /// Where the person's own file would be.
        path: PathBuf,
    },
    /// The person has no home to keep anything in.
    #[error("there is no home folder")]
    NoHome,
    /// Another one works on this display.
    #[error("{who} on this display already")]
    RunsAlready {
        /// Which file it runs, as which process and since when.
        who: String,
    },
    /// A file of rules, or a folder above it, is another user's.
    #[error("{path} belongs to another user (number {owner}), so it does not run")]
    NotYours {
        /// Its path.
        path: PathBuf,
        /// The user's number.
        owner: u32,
    },
    /// Others than the person may write a file of rules.
    #[error("others may write {path}, so it does not run")]
    OthersMayWrite {
        /// Its path.
        path: PathBuf,
    },
    /// The policy of the administrator cannot be read or understood.
    #[error("the policy of this machine, {}, cannot be used: {source}", path.display())]
    BrokenPolicy {
        /// The file.
        path: PathBuf,
        /// What is wrong.
        source: PolicyError,
    },
    /// The policy of the administrator forbids what rules can do.
    #[error("{place}: the administrator of this machine forbids `{power}`: {what}")]
    Forbidden {
        /// The file and line.
        place: String,
        /// The name of the power.
        power: &'static str,
        /// What the rules can do.
        what: String,
        /// The file of the policy.
        path: PathBuf,
    },
    /// Nothing runs in this session.
    #[error("nothing runs {}", if display.is_empty() { "in this session".to_owned() } else { format!("on {display}") })]
    NobodyRuns {
        /// Its name.
        display: String,
    },
    /// The one that runs is of another version and speaks otherwise.
    #[error("what runs is lantern {theirs}, and this is {}", env!("CARGO_PKG_VERSION"))]
    OtherVersion {
        /// Its version.
        theirs: String,
    },
    /// The one that runs does not do what was asked.
    #[error("{message}")]
    Refused {
        /// Why.
        message: String,
    },
    /// The rules have errors, so they do not run.
    #[error("{path} has errors, so it does not run")]
    Broken {
        /// The file.
        path: String,
    },
    /// Words on the command line that are not what belongs there.
    #[error("{message}")]
    WrongWords {
        /// What is wrong.
        message: String,
        /// What to write instead.
        advice: String,
    },
    /// A layout that is not known by name.
    #[error("there is no layout `{name}` here")]
    NoSuchLayout {
        /// The name.
        name: String,
        /// Those that are.
        known: String,
    },
    /// A used file can do things that were not agreed to.
    #[error("{path} uses a file that can do more than was agreed to")]
    NotAgreed {
        /// The first file.
        path: String,
    },
    /// A picture or record was asked for of several scenes at once.
    #[error("a picture or record is of one scene")]
    OneScene,
    /// A picture's name tells no format.
    #[error("{path} is neither .svg nor .png")]
    NoPictureFormat {
        /// The name.
        path: PathBuf,
    },
    /// A file of drawings cannot be read.
    #[error("{path} shows no drawing: {source}")]
    NoDrawing {
        /// Which.
        path: PathBuf,
        /// Why.
        source: DrawingError,
    },
    /// The name of a file of drawings tells no format.
    #[error("{path} is neither .csv nor .svg")]
    NoDrawingFormat {
        /// The name.
        path: PathBuf,
    },
    /// There are more drawings than help.
    #[error("{path} would have {count} drawings; {most} are the most for one shape")]
    TooManyDrawings {
        /// Where.
        path: PathBuf,
        /// How many.
        count: usize,
        /// How many may be.
        most: usize,
    },
    /// No key has that name.
    #[error("there is no key `{name}`")]
    NoSuchKey {
        /// The name.
        name: String,
    },
    /// Another program has the key.
    #[error("another program has {key}")]
    KeyTaken {
        /// The key.
        key: String,
    },
    /// A picture could not be made.
    #[error("cannot draw {path}: {source}")]
    Picture {
        /// Where it was to be.
        path: PathBuf,
        /// Why.
        source: io::Error,
    },
    /// A finding that does not exist.
    #[error("there is no finding `{name}`")]
    NoSuchFinding {
        /// The name.
        name: String,
        /// The nearest one.
        near: Option<String>,
    },
    /// The back end cannot be had, or is gone.
    #[error(transparent)]
    Backend(#[from] BackendError),
    /// A device is not there, or broke off.
    #[cfg(feature = "net")]
    #[error(transparent)]
    Device(#[from] LinkError),
    /// Sound or speech does not work.
    #[cfg(feature = "audio")]
    #[error(transparent)]
    Sound(#[from] AudioError),
    /// The program was built without it.
    #[cfg_attr(
        all(
            feature = "audio",
            feature = "evdev",
            feature = "net",
            feature = "pictures",
            feature = "wayland"
        ),
        expect(dead_code)
    )]
    #[error("this program was built without {what}")]
    NotBuilt {
        /// What is missing.
        what: &'static str,
        /// The Cargo feature that has it.
        feature: &'static str,
    },
    /// The system refused something that always works.
    #[error("{what}: {source}")]
    System {
        /// What we were doing.
        what: &'static str,
        /// Why not.
        source: io::Error,
    },
}

impl Failure {
    /// What the person can do about it.
    fn hint(&self) -> Option<String> {
        Some(match self {
            Failure::NoHome => "set HOME, or XDG_DATA_HOME".to_owned(),
            Failure::Read { .. } => "check the path and that you may read it".to_owned(),
            Failure::TooLarge { .. } => "is this the file you meant?".to_owned(),
            Failure::NotText { .. } => {
                "save it again as UTF-8 in your editor, or check that it is the file you meant"
                    .to_owned()
            }
            Failure::Write { .. } => "check the folder and that you may write to it".to_owned(),
            Failure::Exists { .. } => "files are never overwritten; name another folder".to_owned(),
            Failure::NoFile { path } => format!(
                "write one there, or name a file: `lantern new` makes an example; then copy it to {}",
                path.display()
            ),
            Failure::RunsAlready { .. } => {
                "saving its file changes its rules at once; `--take-over` ends it and takes its place"
                    .to_owned()
            }
            Failure::NotYours { .. } => {
                "its owner could change what runs in your name: make a copy of your own".to_owned()
            }
            Failure::OthersMayWrite { path } => format!("chmod go-w {}", path.display()),
            Failure::BrokenPolicy { .. } => {
                "no rules run before an administrator corrects it; docs/administrators.md says how"
                    .to_owned()
            }
            Failure::Forbidden { path, .. } => {
                format!("remove that step, or ask the administrator about {}", path.display())
            }
            Failure::NobodyRuns { .. } => "`lantern run` starts it".to_owned(),
            Failure::OtherVersion { .. } => "start it anew: `lantern run --take-over`".to_owned(),
            Failure::Broken { .. } => "mend what is said above and try again".to_owned(),
            Failure::WrongWords { advice, .. } => advice.clone(),
            Failure::NoSuchLayout { known, .. } => format!("the layouts known by name are {known}"),
            Failure::NotAgreed { path } => {
                format!("look at it, then agree: lantern check --powers --agree {path}")
            }
            Failure::OneScene => "play them one after another".to_owned(),
            Failure::NoPictureFormat { .. } => "name a file that ends in .svg or .png".to_owned(),
            Failure::NoDrawing { .. } => {
                "a drawing is rows of `drawing,stroke,x,y` in a .csv, or a <path> in a .svg"
                    .to_owned()
            }
            Failure::NoDrawingFormat { .. } => "name a file that ends in .csv or .svg".to_owned(),
            Failure::TooManyDrawings { .. } => "begin again with `--anew`".to_owned(),
            Failure::NoSuchKey { .. } => "`lantern keys` lists them all".to_owned(),
            Failure::KeyTaken { .. } => {
                "if it is `lantern run`, `lantern pause` frees it; or hold another with `--holding`"
                    .to_owned()
            }
            Failure::Picture { .. } => "a picture as .svg needs no drawing; try that".to_owned(),
            Failure::NoSuchFinding { near: Some(near), .. } => format!("did you mean `{near}`?"),
            Failure::NoSuchFinding { near: None, .. } => {
                "`lantern explain` lists them all".to_owned()
            }
            Failure::Backend(error) => error.hint().to_owned(),
            Failure::NotBuilt { feature, .. } => {
                format!("build it with `cargo build --release --features {feature}`")
            }
            #[cfg(feature = "net")]
            Failure::Device(error) => return error.hint(),
            #[cfg(feature = "audio")]
            Failure::Sound(error) => return error.hint().map(str::to_owned),
            Failure::System { .. } | Failure::Refused { .. } => return None,
        })
    }

    /// Prints it to standard error; the exit status is 2, or 1 where the back end went away.
    pub fn report(&self) -> ExitCode {
        crate::output::complain!("{}error{0:#}: {self}", style::ERROR);
        let mut cause = std::error::Error::source(self);
        if matches!(self, Failure::Backend(_)) {
            while let Some(inner) = cause {
                crate::output::complain!("  because: {inner}");
                cause = inner.source();
            }
        }
        if let Some(hint) = self.hint() {
            crate::output::complain!("  {}help{0:#}: {hint}", style::HELP);
        }
        match self {
            Failure::Backend(BackendError::Lost(_)) | Failure::Refused { .. } => ExitCode::from(1),
            _ => ExitCode::from(2),
        }
    }
}
