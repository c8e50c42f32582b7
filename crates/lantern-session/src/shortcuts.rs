//! Keys that the desktop's own settings and the window manager's file give to something: whose they
//! are, how to free them, and how to give them back.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use lantern_model::{Key, KeyCombination, Modifier, ModifierSet};

use lantern_system::home_folder;

/// Something that takes a combination.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shortcut {
    /// The modifiers.
    pub families: ModifierSet,
    /// The key.
    pub key: Key,
    /// What takes it: the setting, or the file and its line.
    pub setting: String,
    /// What frees it: a command, or what to change by hand.
    pub free: Change,
    /// What gives it back.
    pub give_back: Change,
}

impl Shortcut {
    /// The combination as a rule writes it.
    pub fn combo(&self) -> KeyCombination {
        KeyCombination::with(self.families, self.key)
    }
}

/// How something is changed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// By this command.
    Command(Vec<String>),
    /// By hand, as said here.
    ByHand(String),
}

impl Change {
    /// The line to type, or to follow.
    pub fn line(&self) -> String {
        match self {
            Change::Command(words) => words
                .iter()
                .map(|word| shlex::try_quote(word).map_or(word.clone(), Into::into))
                .collect::<Vec<_>>()
                .join(" "),
            Change::ByHand(words) => words.clone(),
        }
    }
}

/// Everything that takes a combination in this session; `manager` is the window manager's name.
pub fn shortcuts(manager: &str) -> Vec<Shortcut> {
    let desktop = std::env::var("XDG_CURRENT_DESKTOP").unwrap_or_default();
    let mut found = from_settings(&said("gsettings", &["list-recursively"]), &desktop);
    let channel = ["-c", "xfce4-keyboard-shortcuts", "-lv"];
    found.extend(from_channel(&said("xfconf-query", &channel)));
    for (path, text) in files(manager) {
        found.extend(from_file(&path, &text));
    }
    found
}

/// What a program prints; nothing if it is not there or fails.
fn said(program: &str, words: &[&str]) -> String {
    let output = Command::new(program).args(words).stdin(Stdio::null()).output();
    output.map(|output| String::from_utf8_lossy(&output.stdout).into_owned()).unwrap_or_default()
}

/// Whether settings of that schema are in force on that desktop: they may be installed without it.
fn is_in_force(schema: &str, desktop: &str) -> bool {
    const OWN: [(&str, &[&str]); 3] = [
        ("org.gnome.", &["gnome", "unity", "budgie"]),
        ("org.mate.", &["mate"]),
        ("org.cinnamon.", &["cinnamon"]),
    ];
    let desktop = desktop.to_lowercase();
    let own = OWN.iter().find(|(prefix, _)| schema.starts_with(prefix));
    own.is_none_or(|(_, desktops)| desktops.iter().any(|name| desktop.contains(name)))
}

/// Lines `SCHEMA KEY VALUE` of the desktop's settings, whose values are combinations.
fn from_settings(listed: &str, desktop: &str) -> Vec<Shortcut> {
    let mut found = Vec::new();
    for line in listed.lines() {
        let mut words = line.splitn(3, ' ');
        let (Some(schema), Some(name), Some(value)) = (words.next(), words.next(), words.next())
        else {
            continue;
        };
        if !is_in_force(schema, desktop) {
            continue;
        }
        let all: Vec<&str> = value.split('\'').skip(1).step_by(2).collect();
        for one in &all {
            // A plain key in a setting is a word like any other.
            let Some((families, key)) = combination(one).filter(|(f, _)| !f.is_empty()) else {
                continue;
            };
            let left: Vec<String> = all
                .iter()
                .filter(|other| *other != one)
                .map(|other| format!("'{other}'"))
                .collect();
            let without = match value.starts_with('\'') {
                true => "''".to_owned(),
                false => format!("[{}]", left.join(", ")),
            };
            let set = |value: &str| {
                Change::Command(
                    ["gsettings", "set", schema, name, value].map(str::to_owned).to_vec(),
                )
            };
            let setting = format!("the desktop's setting {schema} {name}");
            let (free, give_back) = (set(&without), set(value));
            found.push(Shortcut { families, key, setting, free, give_back });
        }
    }
    found
}

/// Lines `/commands/custom/COMBINATION  COMMAND` of a settings channel.
fn from_channel(listed: &str) -> Vec<Shortcut> {
    let mut found = Vec::new();
    for line in listed.lines() {
        let Some((property, value)) = line.trim().split_once(char::is_whitespace) else {
            continue;
        };
        let Some((families, key)) = property.rsplit('/').next().and_then(combination) else {
            continue;
        };
        let words = |more: &[&str]| {
            let begin = ["xfconf-query", "-c", "xfce4-keyboard-shortcuts", "-p", property];
            let words = begin.iter().chain(more);
            Change::Command(words.map(|word| (*word).to_owned()).collect())
        };
        found.push(Shortcut {
            families,
            key,
            setting: format!("the desktop's setting {property} ({})", value.trim()),
            free: words(&["-r"]),
            give_back: words(&["-n", "-t", "string", "-s", value.trim()]),
        });
    }
    found
}

/// The files in which that window manager's keys stand.
fn files(manager: &str) -> Vec<(PathBuf, String)> {
    let home = std::env::var_os("HOME").map(PathBuf::from).unwrap_or_default();
    let config = home_folder("XDG_CONFIG_HOME", ".config").unwrap_or_default();
    let places: Vec<PathBuf> = match manager.to_lowercase().as_str() {
        "openbox" => vec![config.join("openbox/rc.xml"), "/etc/xdg/openbox/rc.xml".into()],
        "i3" => vec![
            config.join("i3/config"),
            home.join(".i3/config"),
            "/etc/xdg/i3/config".into(),
            "/etc/i3/config".into(),
        ],
        _ => Vec::new(),
    };
    // The first that is there is the one in force.
    let read = |path: PathBuf| std::fs::read_to_string(&path).ok().map(|text| (path, text));
    places.into_iter().find_map(read).into_iter().collect()
}

/// Keys in a window manager's file: `<keybind key="C-A-t">`, or `bindsym Mod1+t ...`.
fn from_file(path: &Path, text: &str) -> Vec<Shortcut> {
    let mut names: BTreeMap<String, String> = BTreeMap::new();
    let mut found = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.trim();
        let mut words = line.split_whitespace();
        let combo = match words.next() {
            Some("set") => {
                if let (Some(name), Some(value)) = (words.next(), words.next()) {
                    names.insert(name.to_owned(), value.to_owned());
                }
                continue;
            }
            Some("bindsym") => words.find(|word| !word.starts_with("--")).map(|word| {
                names.iter().fold(word.to_owned(), |word, (name, value)| word.replace(name, value))
            }),
            Some("<keybind") => line.split('"').nth(1).map(str::to_owned),
            _ => None,
        };
        let Some((families, key)) = combo.as_deref().and_then(combination) else {
            continue;
        };
        let place = format!("line {} of {}", index + 1, path.display());
        let (free, again) = match line.starts_with('<') {
            true => ("take that <keybind> out", "openbox --reconfigure"),
            false => ("put # before it", "i3-msg reload"),
        };
        found.push(Shortcut {
            families,
            key,
            setting: format!("the window manager, by {place}"),
            free: Change::ByHand(format!("{free} ({place}), then: {again}")),
            give_back: Change::ByHand(format!("undo that change ({place}), then: {again}")),
        });
    }
    found
}

/// A combination in any of the ways in which desktops write one.
fn combination(text: &str) -> Option<(ModifierSet, Key)> {
    let mut families = ModifierSet::NONE;
    let mut rest = text;
    while let Some((name, after)) = rest.strip_prefix('<').and_then(|rest| rest.split_once('>')) {
        families = families.with(family(name)?);
        rest = after;
    }
    for sign in ['+', '-'] {
        while let Some((name, after)) = rest.split_once(sign).filter(|(_, after)| !after.is_empty())
        {
            let Some(family) = family(name) else { break };
            families = families.with(family);
            rest = after;
        }
    }
    Some((families, key(rest)?))
}

fn family(name: &str) -> Option<Modifier> {
    Some(match name.to_lowercase().as_str() {
        "control" | "ctrl" | "primary" | "c" => Modifier::Ctrl,
        "alt" | "mod1" | "a" => Modifier::Alt,
        "shift" | "s" => Modifier::Shift,
        "super" | "mod4" | "w" => Modifier::Super,
        "mod5" => Modifier::Level3,
        _ => return None,
    })
}

/// A key by its X name.
fn key(name: &str) -> Option<Key> {
    let plain = name.to_lowercase().replace('_', "-");
    let ours = match plain.as_str() {
        "return" => "enter",
        "kp-enter" => "pad-enter",
        "prior" => "page-up",
        "next" => "page-down",
        "print" => "print-screen",
        "kp-add" => "pad-plus",
        "kp-subtract" => "pad-minus",
        "kp-multiply" => "pad-times",
        "kp-divide" => "pad-divide",
        "bracketleft" => "left-bracket",
        "bracketright" => "right-bracket",
        "grave" | "above-tab" => "backquote",
        "apostrophe" => "quote",
        "xf86audioraisevolume" => "volume-up",
        "xf86audiolowervolume" => "volume-down",
        "xf86audiomute" => "mute",
        "xf86audioplay" => "play",
        "xf86audionext" => "next-track",
        "xf86audioprev" => "previous-track",
        "xf86mail" => "mail",
        "xf86calculator" => "calculator",
        other => other,
    };
    Key::named(ours)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(found: &[Shortcut]) -> Vec<String> {
        let words = |shortcut: &Shortcut| {
            let families: Vec<&str> = shortcut.families.iter().map(Modifier::word).collect();
            format!("{} {}: {}", families.join("+"), shortcut.key.name(), shortcut.free.line())
        };
        found.iter().map(words).collect()
    }

    #[test]
    fn settings_of_the_desktop() {
        let listed = "org.store.desktop.keys close ['<Alt>F4', '<Primary><Shift>q']\n\
                      org.store.desktop.keys open '<Super>e'\n\
                      org.store.desktop.view zoom 'return'\n\
                      org.store.desktop.view list ['name', 'size']\nodd\n";
        let set = "gsettings set org.store.desktop.keys";
        assert_eq!(
            told(&from_settings(listed, "")),
            [
                format!("alt f4: {set} close \"['<Primary><Shift>q']\""),
                format!("shift+ctrl q: {set} close \"['<Alt>F4']\""),
                format!("super e: {set} open \"''\""),
            ]
        );
        let first = &from_settings(listed, "")[0];
        let Change::Command(words) = &first.give_back else { panic!("it is a command") };
        assert_eq!(words[4], "['<Alt>F4', '<Primary><Shift>q']");
        let own = "org.gnome.desktop.wm.keybindings close ['<Alt>F4']";
        assert_eq!(from_settings(own, "Openbox"), []);
        assert_eq!(from_settings(own, "ubuntu:GNOME").len(), 1);
        let channel = "/commands/custom/<Primary><Alt>t    store-terminal --new\n/odd 1\n";
        let line =
            "xfconf-query -c xfce4-keyboard-shortcuts -p '/commands/custom/<Primary><Alt>t' -r";
        assert_eq!(told(&from_channel(channel)), [format!("ctrl+alt t: {line}")]);
    }

    #[test]
    fn files_of_window_managers() {
        let text = "# keys\nset $mod Mod4\nbindsym $mod+Return exec store\n\
                    bindsym --release Mod1+Shift+F5 kill\nbindcode 24 nop\n";
        let found = from_file(Path::new("/desk/config"), text);
        assert_eq!(
            told(&found),
            [
                "super enter: put # before it (line 3 of /desk/config), then: i3-msg reload",
                "shift+alt f5: put # before it (line 4 of /desk/config), then: i3-msg reload",
            ]
        );
        let text = "<keyboard>\n  <keybind key=\"C-A-t\">\n  <keybind key=\"W-minus\"/>\n";
        let found = from_file(Path::new("/desk/rc.xml"), text);
        assert_eq!(found.len(), 2);
        assert_eq!(told(&found)[1].split(':').next(), Some("super minus"));
    }

    #[test]
    fn what_is_no_combination() {
        for odd in ["", "<Hyper>x", "name", "<Alt>", "C-", "<Alt", "+", "-"] {
            assert_eq!(combination(odd), None, "{odd}");
        }
    }
}
