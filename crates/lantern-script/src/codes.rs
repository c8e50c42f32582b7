//! Every sort of finding in one table: its stable name, how bad it is, what it means, a bad and a
//! good example. The table feeds `lantern explain`, the documents and the tests.

/// How bad a finding is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The file does not run.
    Error,
    /// The file runs, but something is not as it should be.
    Warning,
}

/// One row of the table.
#[derive(Debug)]
pub struct CodeRow {
    /// Which sort.
    pub code: Code,
    /// Its stable name.
    pub name: &'static str,
    /// How bad it is.
    pub severity: Severity,
    /// What it means, and why it is one.
    pub meaning: &'static str,
    /// A file that has it.
    pub bad: &'static str,
    /// The same without it.
    pub good: &'static str,
}

macro_rules! codes {
    ($($code:ident $name:literal $severity:ident $meaning:literal $bad:expr, $good:literal;)*) => {
        /// The sort of a finding.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
        #[allow(missing_docs)]
        pub enum Code { $($code),* }

        /// The table, in the order in which a file is read.
        pub static CODES: &[CodeRow] = &[$(CodeRow {
            code: Code::$code,
            name: $name,
            severity: Severity::$severity,
            meaning: $meaning,
            bad: $bad,
            good: $good,
        }),*];
    };
}

codes! {
    BadCharacter "bad-character" Error
        "A character that the language has no use for. Names are lower-case words joined by hyphens; anything else stands inside a text."
        "let Section = 1\nwhen key f9 => type \"{section}\"\n",
        "let section = 1\nwhen key f9 => type \"{section}\"\n";
    Unclosed "unclosed" Error
        "Something was opened and not closed: a text, a bracket or a block. Reading continues behind it, so that the rest of the file is still checked."
        "when key f9 { type \"core\"\n",
        "when key f9 { type \"core\" }\n";
    BadText "bad-text" Error
        "A text has an escape that is none, or a brace that stands for nothing. In a text, `{value}` puts a value in; `{{` and `}}` are braces."
        "when key f9 => type \"a } b\"\n",
        "when key f9 => type \"a }} b\"\n";
    BadNumber "bad-number" Error
        "A number has a unit that is none, or is out of range. Durations end in ms, s, min or h, shares in %."
        "when key f9 => wait 5sec\n",
        "when key f9 => wait 5s\n";
    Unexpected "unexpected" Error
        "The words do not fit together at this place. The message says what would fit."
        "when f9 => type \"core\"\n",
        "when key f9 => type \"core\"\n";
    BadPhrase "bad-phrase" Error
        "A spoken phrase or list of words is not in the notation: words, `[optional]`, `(one | other)`, `<number>`, `<percent>`, `<list>` and `...`."
        "when voice \"next core [section\" => type \"core\"\n",
        "when voice \"next core [section]\" => type \"core\"\n";
    BadPattern "bad-pattern" Error
        "The text behind `matches` is no regular expression. Raw text between backticks keeps its signs as they are."
        "when key f9 if window.title matches `(core` => type \"core\"\n",
        "when key f9 if window.title matches `^core [0-9]+` => type \"core\"\n";
    NotYet "not-yet" Warning
        "The back end that the rules are to run on does not support this in this version. The rest of the file works; nothing is left out in silence."
        "when voice \"next section\" => type \"core\"\n",
        "when key f9 => type \"core\"\n";
    UnknownVersion "unknown-version" Error
        "The file asks for a version of the language that this program does not know."
        "language 7\nwhen key f9 => type \"core\"\n",
        "language 1\nwhen key f9 => type \"core\"\n";
    NoSuchFile "no-such-file" Error
        "A file that is used is not there. Paths are seen from the folder of the file that names them."
        "use \"cold-rom.lantern\"\n",
        "when key f9 => type \"core\"\n";
    NoExample "no-example" Error
        "A shape is drawn in a file that is not there, or that shows no drawing. Paths are seen from the folder of the file that names them; CSV and SVG are read."
        "shape hook = drawn \"hook.svg\"\nwhen gesture hook while holding f8 => type \"core\"\n",
        "shape hook = path \"down right\"\nwhen gesture hook while holding f8 => type \"core\"\n";
    TooMuch "too-much" Error
        "The set exceeds a limit. Values and blocks nest at most 64 levels deep, and one way through a value has at most 256 operators. A set has at most 256 files and 1,024 uses of files, which nest at most 32 levels deep."
        concat!("when key f9 => wait ", "((((((((((((((((((((((((((((((((((", "((((((((((((((((((((((((((((((((((", "1s", "))))))))))))))))))))))))))))))))))", "))))))))))))))))))))))))))))))))))", "\n"),
        "when key f9 => wait 1s\n";
    UsesItself "uses-itself" Error
        "A file uses itself, straight or through others. The message names the way round."
        "use \"bench.lantern\"\nwhen key f9 => type \"core\"\n",
        "when key f9 => type \"core\"\n";
    NoSuchKey "no-such-key" Error
        "No key has this name. `lantern keys` lists them all; `'x'` is the key for a character and `<KeyX>` a position on the keyboard."
        "when key f25 => type \"core\"\n",
        "when key f24 => type \"core\"\n";
    UselessExcept "useless-except" Warning
        "What stands behind `except` leaves nothing out of the set of keys, or leaves out a key that is listed on its own. Everything behind `except` is left out, up to the bracket."
        "when key ctrl+[a..h except x] => type \"core\"\n",
        "when key ctrl+[a..h except c] => type \"core\"\n";
    NoSuchName "no-such-name" Error
        "Nothing has this name here: no value, macro, rule or setting."
        "let section = 1\nwhen key f9 => type \"{sektion}\"\n",
        "let section = 1\nwhen key f9 => type \"{section}\"\n";
    NamedTwice "named-twice" Error
        "Two things of the same sort have one name, so it would not be clear which is meant."
        "let section = 1\nlet section = 2\nwhen key f9 => type \"{section}\"\n",
        "let section = 1\nlet drawer = 2\nwhen key f9 => type \"{section} {drawer}\"\n";
    WrongKind "wrong-kind" Error
        "A value of one kind stands where another is needed, such as a text where a duration belongs."
        "when key f9 => wait \"long\"\n",
        "when key f9 => wait 2s\n";
    UnsafeValue "unsafe-value" Error
        "In a line for `shell` or `launch` a value must become exactly one word, so that what comes from outside never becomes a command. Inside quotes, backquotes, comments and the like it cannot."
        "when key f9 { let note = ask \"Note?\"; shell \"echo \\\"{note}\\\" >> notes\" }\n",
        "when key f9 { let note = ask \"Note?\"; shell \"echo {note} >> notes\" }\n";
    WrongCount "wrong-count" Error
        "A macro is called with too many or too few values. Parameters without a default must be given."
        "macro note(text) { type text }\nwhen key f9 => note()\n",
        "macro note(text) { type text }\nwhen key f9 => note(\"core\")\n";
    BadClause "bad-clause" Error
        "A clause stands twice, or does not go with the rest of the rule's head."
        "when key f9 repeating repeating => type \"core\"\n",
        "when key f9 repeating => type \"core\"\n";
    TakenTwice "taken-twice" Error
        "Two rules want the same keys in the same place, so only one could ever fire. Give one another key, or a place (`in app`) or a condition (`if`) of its own."
        "when key f9 => type \"core\"\nwhen key f9 => type \"drill\"\n",
        "when key f9 => type \"core\"\nwhen key f10 => type \"drill\"\n";
    TakenByPanic "taken-by-panic" Error
        "The panic combination stops everything and lets go of every key. No rule can have it; choose another in `settings` if you need this one."
        "when key ctrl+alt+shift+escape => type \"core\"\n",
        "when key ctrl+alt+escape => type \"core\"\n";
    NeverFires "never-fires" Warning
        "A rule can never fire: its layer is never entered, its condition never holds, a remap takes its key, or a shorter sequence or abbreviation is through before it."
        "layer nudge { when key up => move by 0, -1 }\n",
        "layer nudge { when key up => move by 0, -1 }\nwhen key f5 => enter layer nudge\n";
    FiresItself "fires-itself" Warning
        "A rule sends what fires it, straight or by way of others. Messages and windows go round for ever; keys that rules send fire no rule, so those only reach the program."
        "device hut = broker \"mqtt://127.0.0.1:1883\"\nwhen message \"saw/+\" on hut => publish hut \"saw/on\" body \"1\"\n",
        "device hut = broker \"mqtt://127.0.0.1:1883\"\nwhen message \"saw/+\" on hut => publish hut \"lamp\" body \"1\"\n";
    BusyLoop "busy-loop" Warning
        "A loop that nothing paces: it runs as fast as it can until it is stopped. The person's keys are still heard, but the machine is kept busy for nothing."
        "let n = 0\nwhen key f9 => repeat { set n = n + 1 }\nwhen key f10 => log \"{n}\"\n",
        "let n = 0\nwhen key f9 => repeat every 20ms { set n = n + 1 }\nwhen key f10 => log \"{n}\"\n";
    UnreleasedPress "unreleased-press" Warning
        "A key is pressed, and on some way to the end of the steps nothing releases it. The end of the run lets it go, which is hardly what was meant."
        "when key f9 { press ctrl; tap c }\n",
        "when key f9 { press ctrl; tap c; release ctrl }\n";
    PlainKey "plain-key" Warning
        "A key of plain use, without a modifier, is taken in every program: a letter can no longer be typed, a button no longer clicked. A modifier, a program, a layer or `passing` gives it back."
        "when key q => type \"core\"\n",
        "when key ctrl+q => type \"core\"\n";
    SlowsTyping "slows-typing" Warning
        "A key that types a character must wait, as it may become something else: keys together, a tap, a sequence. Fast typing feels it."
        "when key j+k => type \"core\"\n",
        "when key f7+f8 => type \"core\"\n";
    SingleWordPhrase "single-word-phrase" Warning
        "A phrase is a single word, and no attention word is set: it is said by chance, and by the radio."
        "when voice \"next\" => type \"core\"\n",
        "when voice \"next core section\" => type \"core\"\n";
    NoAttentionWord "no-attention-word" Warning
        "A program of one's own hears (`recogniser`), and no attention word is set: whether talk is taken for a phrase is up to that program alone."
        "settings { recogniser = \"hear-ice\" }\nwhen voice \"next core section\" => type \"core\"\n",
        "settings { recogniser = \"hear-ice\"; attention = \"lantern\" }\nwhen voice \"next core section\" => type \"core\"\n";
    ReachableWithoutToken "reachable-without-token" Error
        "A listener that can be called from other machines asks for no token, so that every program that reaches this machine could fire its rules."
        "device door = listener \"0.0.0.0:4711\"\nwhen call \"/next\" on door => type \"core\"\n",
        "secret ilva-key = file \"ilva.key\"\ndevice door = listener \"0.0.0.0:4711\" with token ilva = ilva-key\nwhen call \"/next\" on door => type \"core\"\n";
    PlainSecret "plain-secret" Warning
        "A secret is sent over a connection that is not encrypted, to another machine: everyone on the network path can read it."
        "secret fan-key = file \"fan.key\"\ndevice fans = web \"http://192.0.2.7\" with header \"Authorization\" = fan-key\nwhen key f9 => put fans \"/zones/a/fan\" body \"on\"\n",
        "secret fan-key = file \"fan.key\"\ndevice fans = web \"https://192.0.2.7\" with header \"Authorization\" = fan-key\nwhen key f9 => put fans \"/zones/a/fan\" body \"on\"\n";
    NoToken "no-token" Warning
        "A listener asks for no token, so that every program of yours may fire its rules. Programs of other users and pages in a browser are turned away all the same."
        "device door = listener \"127.0.0.1:4711\"\nwhen call \"/next\" on door => type \"core\"\n",
        "secret ilva-key = file \"ilva.key\"\ndevice door = listener \"127.0.0.1:4711\" with token ilva = ilva-key\nwhen call \"/next\" on door => type \"core\"\n";
    TooAlike "too-alike" Warning
        "Two phrases that may be listened for at one time sound alike, measured over their sounds, not their letters."
        "when voice \"write section note\" => type \"core\"\nwhen voice \"right section note\" => type \"drill\"\n",
        "when voice \"write section note\" => type \"core\"\nwhen voice \"open the drawer\" => type \"drill\"\n";
    NotOnLayout "not-on-layout" Warning
        "The keyboard layout that `check --layout NAME` was asked about has no key for this, or does not type these characters. Positions on the keyboard are the same on every layout."
        "when key ctrl+'ß' => type \"core\"\n",
        "when key ctrl+<Minus> => type \"core\"\n";
    CallsItself "calls-itself" Warning
        "A macro calls itself, straight or through others. If nothing stops it, the run is ended after 200 calls within calls."
        "macro dig() { tap down; dig() }\nwhen key f9 => dig()\n",
        "macro dig() { tap down }\nwhen key f9 => repeat 10 times { dig() }\n";
    Unused "unused" Warning
        "Something is named and never used. Remove it, or use it."
        "let section = 1\nwhen key f9 => type \"core\"\n",
        "let section = 1\nwhen key f9 => type \"core {section}\"\n";
}

impl Code {
    /// The code's row.
    pub fn row(self) -> &'static CodeRow {
        &CODES[self as usize]
    }

    /// The code with that name.
    pub fn named(name: &str) -> Option<Code> {
        CODES.iter().find(|row| row.name == name).map(|row| row.code)
    }
}
