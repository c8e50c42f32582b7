//! The command line. Arguments are only parsed here; commands resolve what they need.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

use crate::event_log::LogLevel;

mod outside;
mod session;
mod shape;
mod voice;

pub use outside::{
    FansArguments, PedalsArguments, PortsArguments, StandinArguments, StandinCommand,
};
pub use session::{
    EndArguments, FireArguments, PauseArguments, RecordArguments, ResumeArguments, StatusArguments,
    StopArguments, WatchArguments, WhyArguments,
};
pub use shape::{
    ShapeAlikeArguments, ShapeArguments, ShapeCommand, ShapeDrawArguments, ShapeRecordArguments,
    ShapeTryArguments,
};
pub use voice::{
    VoiceAlikeArguments, VoiceArguments, VoiceCommand, VoiceHearArguments, VoiceTeachArguments,
    VoiceTryArguments, VoiceWrongArguments,
};

/// Rules for the desktop: keys that type, click, hold and launch, whichever window is active.
#[derive(Debug, Parser)]
#[command(name = "lantern", version, max_term_width = 100, disable_help_subcommand = true)]
pub struct Arguments {
    /// What to do.
    #[command(subcommand)]
    pub command: ProgramCommand,
}

/// Every command, in the order in which a person needs them.
#[derive(Debug, Subcommand)]
pub enum ProgramCommand {
    /// Play the shipped example on a simulated desktop; no display is needed.
    #[command(after_help = "Example:\n  lantern demo")]
    Demo(DemoArguments),
    /// Write the shipped example and its rehearsal scene as files to start from.
    #[command(
        after_help = "Example:\n  lantern new my-desk\n  lantern rehearse my-desk/bench.lantern my-desk/night.scene"
    )]
    New(NewArguments),
    /// List keys: names, caps, W3C codes, X keysyms, kernel codes.
    #[command(
        after_help = "Examples:\n  lantern keys function pad\n  lantern keys c..k --except f --separator ' '\n  lantern keys f5..f10 --json\n  lantern keys --bound bench.lantern --picture keys.png\n  lantern keys function pad --free bench.lantern\n  lantern keys ctrl+alt+i --free bench.lantern\n  lantern keys --take super+e"
    )]
    Keys(KeysArguments),
    /// Say what the next key or button you press is called, what it sends, and who has it.
    #[command(
        after_help = "Examples:\n  lantern capture\n  lantern capture --count 3 --json\n\nWhile it waits, the key reaches no other program."
    )]
    Capture(CaptureArguments),
    /// List the open windows with the text by which a rule knows each.
    #[command(after_help = "Examples:\n  lantern windows\n  lantern windows --json")]
    Windows(WindowsArguments),
    /// Say everything that is wrong in files of rules.
    #[command(
        after_help = "Examples:\n  lantern check bench.lantern\n  lantern check --fix bench.lantern drawers.lantern\n  lantern check bench.lantern --layout de --backend x11\n  lantern check --powers bench.lantern"
    )]
    Check(CheckArguments),
    /// Bring files of rules and scenes into their canonical layout.
    #[command(
        after_help = "Examples:\n  lantern fmt bench.lantern night.scene\n  lantern fmt --check *.lantern\n  lantern fmt - < bench.lantern\n\nLine breaks, comments and meaning stay as they are."
    )]
    Fmt(FmtArguments),
    /// Explain a finding by its name; without one, list them all.
    #[command(after_help = "Example:\n  lantern explain taken-twice")]
    Explain(ExplainArguments),
    /// List the serial ports that are there, with what is plugged in and which device of a file it is.
    #[command(after_help = "Examples:\n  lantern ports\n  lantern ports bench.lantern --json")]
    Ports(PortsArguments),
    /// Work on spoken phrases.
    Voice(VoiceArguments),
    /// Work on shapes that are drawn.
    Shape(ShapeArguments),
    /// Play scenes against a file of rules on a simulated desktop, as a test.
    #[command(
        after_help = "Examples:\n  lantern rehearse bench.lantern night.scene\n  lantern rehearse bench.lantern night.scene --why\n  lantern rehearse bench.lantern night.scene --timeline night.svg\n  lantern rehearse bench.lantern night.scene --record fuller.scene"
    )]
    Rehearse(RehearseArguments),
    /// Work by the rules on the real desktop until stopped; reads them anew when they are saved.
    #[command(
        after_help = "Example:\n  lantern run bench.lantern\n\nCtrl+C or SIGTERM ends it and lets every key go. Ctrl+Alt+Shift+Escape, or the `panic`\nsetting, stops every run at any time."
    )]
    Run(RunArguments),
    /// Say what runs: its file and since when, runs, held keys, started programs, pauses.
    #[command(after_help = "Examples:\n  lantern status\n  lantern status --json")]
    Status(StatusArguments),
    /// Watch what is decided as it happens, with what runs and what is held.
    #[command(
        after_help = "Examples:\n  lantern watch\n  lantern watch --plain | grep failed\n  lantern watch --raw\n  lantern watch --raw --port /dev/ttyACM0 --speed 9600\n\nKeys: arrows and Enter stop a run or end a program, s stops all, p pauses and resumes, f shows\nfailures only, ? helps, q leaves. With --plain they work as well, if it reads from a terminal."
    )]
    Watch(WatchArguments),
    /// Save what you do as a scene to rehearse with; typed characters are masked.
    #[command(
        after_help = "Examples:\n  lantern record night.scene\n  lantern record night.scene --for 30s --letters\n\nKeys, buttons and the program in front are recorded, nothing while the screen is locked, and\nnever what is typed into a password field that tells of itself."
    )]
    Record(RecordArguments),
    /// Run a macro, or a rule that has a name, now.
    #[command(
        after_help = "Examples:\n  lantern fire log-line \"core 12\" 20ms\n  lantern fire feed"
    )]
    Fire(FireArguments),
    /// End what runs and let its keys go.
    #[command(
        after_help = "Examples:\n  lantern stop feed\n  lantern stop --run 12\n  lantern stop --all"
    )]
    Stop(StopArguments),
    /// Hear nothing for a while: every key is the programs' again, but the panic combination.
    #[command(
        after_help = "Examples:\n  lantern pause\n  lantern pause --for 1h\n  lantern pause feed"
    )]
    Pause(PauseArguments),
    /// Continue after a pause or the panic combination.
    #[command(after_help = "Examples:\n  lantern resume\n  lantern resume feed")]
    Resume(ResumeArguments),
    /// End a program that a rule started.
    #[command(after_help = "Example:\n  lantern end 4711")]
    End(EndArguments),
    /// Read the file anew, as saving it does.
    #[command(after_help = "Example:\n  lantern reload")]
    Reload,
    /// End the Cold Lantern that runs, also one that was started at login; its keys are released.
    #[command(
        after_help = "Example:\n  lantern quit\n\nIt starts again at the next login if it is installed as a service: `lantern service --remove`."
    )]
    Quit,
    /// List every file that the program writes for itself; --erase removes them after asking.
    #[command(after_help = "Examples:\n  lantern files\n  lantern files --erase")]
    Files(FilesArguments),
    /// Say why the last input did what it did, or what keeps a combination from firing.
    #[command(
        after_help = "Examples:\n  lantern why\n  lantern why ctrl+f9\n  lantern why 3\n\nA lone digit is how many inputs ago; the key of a digit is written pad-3 or '3'."
    )]
    Why(WhyArguments),
    /// Add a rule: press the key, say what it does; it is written, checked and tried.
    #[command(
        after_help = "Examples:\n  lantern add --type \"section 4\"\n  lantern add bench.lantern --launch corelog --description \"Open the core log\"\n  lantern add --tap ctrl+shift+e --app scanner"
    )]
    Add(AddArguments),
    /// Print what can be pressed, said, typed and drawn, by place, with descriptions.
    #[command(
        after_help = "Examples:\n  lantern sheet bench.lantern\n  lantern sheet bench.lantern --html sheet.html\n  lantern sheet bench.lantern --picture sheet.png\n  lantern sheet bench.lantern --sends\n  lantern sheet --now"
    )]
    Sheet(SheetArguments),
    /// Be a small device that is not there: for trying rules, and for the documents.
    Standin(StandinArguments),
    /// Start with the session: print a systemd user unit and an autostart entry, or install them.
    #[command(
        after_help = "Examples:\n  lantern service bench.lantern\n  lantern service bench.lantern --install\n  lantern service --remove"
    )]
    Service(ServiceArguments),
    /// Print completions for a shell.
    #[command(
        after_help = "Example:\n  lantern completions bash > ~/.local/share/bash-completion/completions/lantern"
    )]
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },
    /// Write the manual pages into a folder.
    #[command(after_help = "Example:\n  lantern man ~/.local/share/man/man1")]
    Man {
        /// The folder; made if it is not there.
        folder: PathBuf,
    },
    /// Say what works on this machine, what does not, and what mends it.
    #[command(after_help = "Examples:\n  lantern doctor\n  lantern doctor --json")]
    Doctor(DoctorArguments),
    /// Ask the person something in a small window; started by `run`.
    #[command(hide = true, name = "internal-question")]
    Question(QuestionArguments),
    /// Let keys go when the program that pressed them is gone; started by `run`.
    #[command(hide = true, name = "internal-guardian")]
    Guardian(GuardianArguments),
}

/// `lantern add`
#[derive(Debug, Args)]
pub struct AddArguments {
    /// The file of rules; the person's own if missing, which is made if it is not there.
    pub file: Option<PathBuf>,
    /// It types this text.
    #[arg(long = "type", value_name = "TEXT", group = "does")]
    pub text: Option<String>,
    /// It launches this desktop entry or program.
    #[arg(long, value_name = "PROGRAM", group = "does")]
    pub launch: Option<String>,
    /// It opens this file, folder or address.
    #[arg(long, value_name = "TARGET", group = "does")]
    pub open: Option<String>,
    /// It presses these keys.
    #[arg(long, value_name = "COMBINATION", group = "does")]
    pub tap: Option<String>,
    /// Only in this program.
    #[arg(long, value_name = "NAME")]
    pub app: Option<String>,
    /// What to call it in lists.
    #[arg(long, value_name = "WORDS")]
    pub description: Option<String>,
}

/// `lantern sheet`
#[derive(Debug, Args)]
pub struct SheetArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Write a page for a browser or printer.
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Draw it: a name that ends in .svg or .png.
    #[arg(long, value_name = "FILE")]
    pub picture: Option<PathBuf>,
    /// What can be said to the one that runs, here and now.
    #[arg(long, conflicts_with_all = ["file", "html", "picture"])]
    pub now: bool,
    /// List the combinations that rules send, instead of what fires them.
    #[arg(long, conflicts_with_all = ["now", "html", "picture"])]
    pub sends: bool,
    /// Print data instead of tables.
    #[arg(long)]
    pub json: bool,
}

/// `lantern service`
#[derive(Debug, Args)]
pub struct ServiceArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Write both where the session looks for them.
    #[arg(long, conflicts_with = "remove")]
    pub install: bool,
    /// Remove what `--install` wrote.
    #[arg(long)]
    pub remove: bool,
}

/// `lantern files`
#[derive(Debug, Args)]
pub struct FilesArguments {
    /// Remove them all, your own rules and taught phrases too; asks first.
    #[arg(long)]
    pub erase: bool,
    /// Remove without asking.
    #[arg(long, requires = "erase")]
    pub yes: bool,
    /// Print data instead of a table.
    #[arg(long, conflicts_with = "erase")]
    pub json: bool,
}

/// `lantern demo`
#[derive(Debug, Args)]
pub struct DemoArguments {
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern new`
#[derive(Debug, Args)]
pub struct NewArguments {
    /// The folder to write to; made if it is not there. Files that exist are never overwritten.
    #[arg(default_value = ".")]
    pub folder: PathBuf,
}

/// `lantern keys`
#[derive(Debug, Args)]
pub struct KeysArguments {
    /// Kinds (letters, digits, pad, function, mouse, ...), ranges (c..k, f5..f10) or single keys;
    /// all keys if none are given.
    pub wanted: Vec<String>,
    /// Show which keys a file of rules takes, modifiers aside; with --picture, on a keyboard.
    #[arg(long, value_name = "FILE", num_args = 0..=1)]
    pub bound: Option<Option<PathBuf>>,
    /// Show which keys a file of rules and the desktop's settings leave free, for all modifiers; of one
    /// combination, whether it is.
    #[arg(long, value_name = "FILE", num_args = 0..=1, conflicts_with = "bound")]
    pub free: Option<Option<PathBuf>>,
    /// Free a combination that the desktop's settings give to something, and say how to give it back.
    #[arg(long, value_name = "COMBINATION", conflicts_with_all = ["bound", "free", "picture", "json"])]
    pub take: Option<String>,
    /// Draw the keyboard with what is taken, by modifiers: .svg or .png.
    #[arg(long, value_name = "FILE")]
    pub picture: Option<PathBuf>,
    /// Kinds, ranges or keys to leave out.
    #[arg(long, num_args = 1.., value_name = "KEYS")]
    pub except: Vec<String>,
    /// Print the names alone, with this between them.
    #[arg(long, value_name = "TEXT", conflicts_with = "json")]
    pub separator: Option<String>,
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern capture`
#[derive(Debug, Args)]
pub struct CaptureArguments {
    /// The file of rules to look into for what the key fires; the person's own if missing.
    pub file: Option<PathBuf>,
    /// Take so many, one after another.
    #[arg(short = 'n', long, value_name = "N", default_value_t = 1)]
    pub count: u32,
    /// Print data instead of text.
    #[arg(long)]
    pub json: bool,
}

/// `lantern windows`
#[derive(Debug, Args)]
pub struct WindowsArguments {
    /// Print data instead of a table.
    #[arg(long)]
    pub json: bool,
}

/// `lantern doctor`
#[derive(Debug, Args)]
pub struct DoctorArguments {
    /// Print data instead of text.
    #[arg(long)]
    pub json: bool,
}

/// `lantern check`
#[derive(Debug, Args)]
pub struct CheckArguments {
    /// The files of rules; the person's own if missing.
    #[arg(value_name = "FILE")]
    pub files: Vec<PathBuf>,
    /// Write the fixes that are certain into the files.
    #[arg(long, conflicts_with = "powers")]
    pub fix: bool,
    /// Say what the set can do: programs it starts, hosts it speaks to, what it sees and hears.
    #[arg(long)]
    pub powers: bool,
    /// Agree to what the set can do now; `run` asks about used files whose powers grow.
    #[arg(long, requires = "powers")]
    pub agree: bool,
    /// Also say what the keys of this layout lack: us, gb, de or fr.
    #[arg(long, value_name = "NAME")]
    pub layout: Option<String>,
    /// Also report what this back end does not support.
    #[arg(long, value_enum, value_name = "BACKEND")]
    pub backend: Option<BackendName>,
    /// Print data instead of text.
    #[arg(long)]
    pub json: bool,
}

/// A back end that rules can run on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum BackendName {
    /// A display of the X Window System.
    X11,
    /// The kernel's own input devices: under Wayland, and on the bare console.
    Evdev,
    /// The desktop's portals, in a Wayland session: shortcuts and input that the person agrees to.
    Portal,
    /// The input method of a compositor of the wlroots family, such as sway: no root is needed.
    Wlroots,
    /// The one that `rehearse` and `demo` play on; it does everything.
    Simulated,
}

/// The back end to work on, or the one that fits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum BackendChoice {
    /// Chooses by the session.
    Auto,
    /// A display of the X Window System.
    X11,
    /// The kernel's own input devices.
    Evdev,
    /// The desktop's portals.
    Portal,
    /// The input method of a compositor of the wlroots family, such as sway: no root is needed.
    Wlroots,
    /// No desktop: prints what would be sent.
    Simulated,
}

/// `lantern fmt`
#[derive(Debug, Args)]
pub struct FmtArguments {
    /// The files; the person's own if none are given, standard input for `-`.
    pub files: Vec<PathBuf>,
    /// Change nothing; name the files that would change, and exit with 1 if there are any.
    #[arg(long)]
    pub check: bool,
}

/// `lantern explain`
#[derive(Debug, Args)]
pub struct ExplainArguments {
    /// The finding's name.
    pub name: Option<String>,
    /// Print data instead of text.
    #[arg(long)]
    pub json: bool,
}

/// `lantern rehearse`
#[derive(Debug, Args)]
pub struct RehearseArguments {
    /// The file of rules.
    pub file: PathBuf,
    /// The scenes to play, one after another, each from the start.
    #[arg(required = true)]
    pub scenes: Vec<PathBuf>,
    /// Show the whole timeline, with the reason of every decision.
    #[arg(long)]
    pub why: bool,
    /// Draw what happened: inputs, runs as bars, held keys as lines; .svg or .png, one scene.
    #[arg(long, value_name = "FILE")]
    pub timeline: Option<PathBuf>,
    /// Write what came in and what went out as a scene that expects it all; one scene.
    #[arg(long, value_name = "FILE")]
    pub record: Option<PathBuf>,
    /// Print data instead of text.
    #[arg(long)]
    pub json: bool,
}

/// `lantern run`
#[derive(Debug, Args)]
pub struct RunArguments {
    /// The file of rules; the person's own if missing.
    pub file: Option<PathBuf>,
    /// The back end to use; `auto` chooses by the session. `simulated` sends no input and prints
    /// what it would have sent: for trying devices, and for machines without a desktop.
    #[arg(long, value_enum, value_name = "BACKEND", default_value_t = BackendChoice::Auto)]
    pub backend: BackendChoice,
    /// With `evdev`: use only input devices with this in their name. Can be repeated.
    #[arg(long, value_name = "NAME")]
    pub device: Vec<String>,
    /// With `evdev`: use no input device with this in its name. Can be repeated.
    #[arg(long, value_name = "NAME")]
    pub without_device: Vec<String>,
    /// With `evdev`, where no graphics driver reports it: the screen's size, as 1920x1080.
    #[arg(long, value_name = "WIDTHxHEIGHT")]
    pub screen: Option<String>,
    /// Say what fires as it fires: `--log-level info`.
    #[arg(short, long, conflicts_with = "log_level")]
    pub verbose: bool,
    /// How much to tell. Characters, spoken words and what is typed or pasted are never told at the
    /// default level.
    #[arg(long, value_enum, value_name = "LEVEL", default_value_t)]
    pub log_level: LogLevel,
    /// Write log lines into a file as well, with date and time. At 4 MB it is renamed to NAME.1.
    #[arg(long, value_name = "FILE")]
    pub log_file: Option<PathBuf>,
    /// End the session that runs on this display, and take its place.
    #[arg(long)]
    pub take_over: bool,
}

/// `lantern question`
#[derive(Debug, Args)]
pub struct QuestionArguments {
    /// What may be answered.
    #[arg(value_enum)]
    pub kind: QuestionKind,
}

/// What may be answered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum QuestionKind {
    /// A line of text.
    Text,
    /// Yes or no.
    YesNo,
    /// One of the choices.
    One,
    /// What is in front, numbered on the screen.
    Number,
}

/// `lantern guardian`
#[derive(Debug, Args)]
pub struct GuardianArguments {
    /// The list of keys that are held on a display is standard output.
    #[arg(long, required_unless_present_any = ["keyboard", "keep"])]
    pub held: bool,
    /// What others copied lies in standard input.
    #[arg(long)]
    pub keep: bool,
    /// The keyboard itself is taken.
    #[arg(long)]
    pub keyboard: bool,
}
