//! Words and signs of other languages, by the place where people write them, with what to write instead.

/// What to write instead of a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Instead {
    /// This, in place of the word: nothing else has to change.
    Replace(&'static str),
    /// What the help says; the person has to decide more than a word.
    Write(&'static str),
}
use Instead::{Replace, Write};

/// Words with the same advice.
type Row = (&'static [&'static str], Instead);

/// Finds `word` in a table.
pub(super) fn instead_of(table: &[Row], word: &str) -> Option<Instead> {
    table.iter().find(|(words, _)| words.contains(&word)).map(|(_, instead)| *instead)
}

/// Words that begin a rule.
pub(super) const RULES: &[&str] =
    &["on", "upon", "whenever", "bind", "hotkey", "shortcut", "keybind", "trigger", "rule"];

/// Where a part of a file begins.
pub(super) const PARTS: &[Row] = &[
    (&["function", "func", "fn", "def", "proc", "procedure", "sub", "routine"], Replace("macro")),
    (&["include", "import", "require", "source", "load"], Replace("use")),
    (&["var", "const", "variable", "local", "define"], Replace("let")),
    (
        &["map", "rebind", "swap", "alias", "substitute"],
        Write("for a key that becomes another one write `remap caps-lock to escape`"),
    ),
    (
        &["abbreviation", "abbrev", "abbr", "expand", "snippet", "replace"],
        Write("for an abbreviation write `when typed \"brw\" { type \"by return of the wagon\" }`"),
    ),
    (&["profile", "mode"], Replace("layer")),
    (&["app", "program", "application"], Replace("in app")),
    (&["rem", "comment"], Write("a comment begins with `#`")),
    (&["option", "options", "config"], Write("settings stand in `settings { ... }`")),
    (&["timer", "interval", "schedule", "cron"], Write(TIMER)),
    (&["phrase", "speech", "speak", "spoken"], Write(SPOKEN)),
];

const TIMER: &str = "for a timer write `when every 5min`, for a time of day `when at 06:30`";
const SPOKEN: &str = "a rule for a spoken phrase begins `when voice \"open the drawer\"`";

/// Where a trigger stands, behind `when`.
pub(super) const TRIGGERS: &[Row] = &[
    (&["phrase", "speech", "spoken", "speak", "say", "hear", "heard"], Replace("voice")),
    (&["hotkey", "shortcut", "combo", "keypress", "keydown", "pressed"], Replace("key")),
    (&["press", "tap", "tapped"], Replace("key")),
    (&["double", "doubletap", "double-tap"], Write("for two presses write `key f9 twice`")),
    (
        &["long", "longpress", "long-press", "hold", "holding", "held"],
        Write("for a long press write `key f9 held 500ms`"),
    ),
    (
        &["mouse", "click", "clicked", "button", "left-click", "right-click"],
        Write("a button of the mouse is a key: `key back-button`"),
    ),
    (&["wheel", "scroll"], Write("a turn of the wheel is a key: `key wheel-up`")),
    (&["time", "clock", "daily"], Replace("at")),
    (&["timer", "interval"], Replace("every")),
    (
        &["after"],
        Write("for a timer write `every 5min`; `after quiet 2s` is a clause behind a trigger"),
    ),
    (&["text", "string", "abbreviation", "abbrev", "typing", "word"], Replace("typed")),
    (&["start", "startup", "login", "boot", "launch", "launched"], Replace("started")),
    (
        &["app", "program", "application", "focus", "focused", "active"],
        Write("write `window focused app \"xterm\"`"),
    ),
    (&["opened", "open", "opens"], Write("write `window opened app \"xterm\"`")),
    (
        &["serial", "device", "port", "usb"],
        Write("for a line from a device write `line from DEVICE`"),
    ),
    (
        &["draw", "drawn", "shape", "stroke", "swipe"],
        Write("for a drawn shape write `gesture NAME while holding right-button`"),
    ),
    (&["mqtt", "topic", "subscribe"], Write("write `message \"store/door\" on BROKER`")),
    (&["http", "web", "request", "webhook", "url"], Write("write `call \"/path\" on LISTENER`")),
];

/// Where a clause stands, behind a trigger.
pub(super) const CLAUSES: &[Row] = &[
    (&["double", "doubled", "double-tap"], Replace("twice")),
    (&["long", "longpress", "long-press"], Replace("held 500ms")),
    (&["up", "release"], Replace("released")),
    (
        &["when", "where", "unless", "only", "whenever"],
        Write("a condition is `if ...`, a program is `in app \"xterm\"`"),
    ),
    (&["app", "title", "layer"], Write("a place begins with `in`: `in app \"xterm\"`")),
    (&["window", "program", "on"], Write("for one program write `in app \"xterm\"`")),
    (&["called", "name"], Replace("named")),
    (&["repeat", "repeats", "repeated"], Replace("repeating")),
    (&["pass", "passthrough", "through"], Replace("passing")),
    (
        &["global", "globally", "everywhere", "always"],
        Write("leave it out: a rule without a place holds everywhere"),
    ),
    (&["down", "pressed", "press"], Write("leave it out: `key` means the press")),
    (&["once"], Write("a limit is `at most once per 2s`")),
    (&["locked"], Replace("even when locked")),
];

/// Where a step stands.
pub(super) const STEPS: &[Row] = &[
    (
        &["print", "echo", "println", "puts", "console"],
        Write("write `log \"...\"` for the terminal, `hint \"...\"` for the screen"),
    ),
    (&["sleep", "delay", "pause-for"], Replace("wait")),
    (
        &["exec", "execute", "start", "spawn", "system", "cmd", "command", "bash", "sh"],
        Write(PROGRAMS),
    ),
    (&["loop", "forever"], Replace("repeat")),
    (&["while"], Replace("repeat while")),
    (&["until"], Write("write `repeat while not ... { ... }`")),
    (&["return", "break", "exit", "quit", "abort", "cancel"], Replace("stop")),
    (&["continue", "goto", "gosub"], Write("decide with `if`, or move the steps to a macro")),
    (&["beep", "sound", "bell"], Write("write `play \"drawer.wav\"`")),
    (&["alert", "msgbox", "popup", "toast", "notification", "message"], Replace("notify")),
    (&["tooltip", "osd", "show", "overlay"], Replace("hint")),
    (&["keydown", "key-down", "down", "hold-down"], Replace("press")),
    (&["keyup", "key-up", "up", "release-key"], Replace("release")),
    (&["keypress", "stroke", "hotkey", "keystroke", "sendkey", "key", "keys"], Replace("tap")),
    (&["write", "text", "input", "insert", "enter-text"], Replace("type")),
    (
        &["kill", "terminate"],
        Write("for a window write `close app \"...\"`, for what a rule launched `end NAME`"),
    ),
    (
        &["mouse", "mousemove", "cursor"],
        Write("write `move to 10, 20`, `click left` or `scroll up`"),
    ),
    (
        &["left-click", "doubleclick", "double-click"],
        Write("write `click left`, or `click left 2 times`"),
    ),
    (&["right-click"], Replace("click right")),
    (&["activate", "switch", "raise"], Write("write `focus app \"xterm\"`")),
    (&["copy"], Write("write `tap ctrl+c`")),
    (&["cut"], Write("write `tap ctrl+x`")),
    (&["browse", "url", "goto-url", "xdg-open"], Replace("open")),
    (&["speak", "tts"], Replace("say")),
    (
        &["curl", "fetch", "http", "request"],
        Write("write `get DEVICE \"/path\"` for a `device` that is a web address"),
    ),
    (&["var", "const", "local", "variable"], Replace("let")),
    (&["elif", "elsif", "elseif", "else"], Write("`else` stands behind the `}` of its `if`")),
    (&["case", "select", "match"], Write("write `if ... { } else if ... { }`")),
    (&["call", "do"], Write("a macro is called by its name with parentheses: `greet()`")),
    (&["maximize", "minimize", "fullscreen"], Write("tap the keys that your desktop has for it")),
    (&["toggle-mute", "mute"], Write("write `volume toggle mute`")),
];

const PROGRAMS: &str = "write `launch \"...\"` for a program, `shell \"...\"` for a command line, \
     `open \"...\"` for a file or an address";

/// The value that a word of other languages means.
pub(crate) fn everyday_value(word: &str) -> Option<&'static str> {
    match word {
        "yes" | "on" | "enabled" => Some("true"),
        "no" | "off" | "disabled" => Some("false"),
        "null" | "nil" | "none" => Some("\"\""),
        _ => None,
    }
}

/// Units of time as they are written in full, each with the unit of the language.
pub(super) const UNITS: &[Row] = &[
    (&["ms", "msec", "millis", "millisecond", "milliseconds"], Replace("ms")),
    (&["s", "sec", "secs", "second", "seconds"], Replace("s")),
    (&["m", "min", "mins", "minute", "minutes"], Replace("min")),
    (&["h", "hour", "hours"], Replace("h")),
    (&["percent"], Replace("%")),
];

/// Signs of other languages, wherever they stand.
pub(super) const SIGNS: &[Row] = &[
    (&["&&", "&"], Replace("and")),
    (&["||", "|"], Replace("or")),
    (&["!"], Replace("not ")),
    (&["->"], Replace("=>")),
    (&[":="], Replace("=")),
];
