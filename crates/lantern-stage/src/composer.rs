//! Input methods of both sorts that are in use, with one that composes letters with accents: `e'` is `é`.

use std::fs;

use x11rb::protocol::xproto::ConnectionExt as _;

use crate::Display;

/// A sort of input method.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Composer {
    /// ibus, on a message bus of its own.
    Ibus,
    /// fcitx, on the session's.
    Fcitx,
}

/// Keys as they are first, then with accents.
const PROFILE: &str = "[Groups/0]
Name=Store
Default Layout=us
DefaultIM=m17n_t_latn-post
[Groups/0/Items/0]
Name=keyboard-us
[Groups/0/Items/1]
Name=m17n_t_latn-post
[GroupOrder]
0=Store
";

impl Composer {
    /// Starts it; programs that are started from now on hand it their keys. It composes nothing yet. The
    /// display needs a bus.
    ///
    /// # Panics
    /// When it is not installed or does not come up.
    pub fn start(self, display: &mut Display) {
        let (program, words, name) = match self {
            Composer::Ibus => {
                let words = "--xim --panel disable --config disable --emoji-extension disable";
                ("ibus-daemon", words, "ibus")
            }
            Composer::Fcitx => {
                let folder = display.folder().join("config/fcitx5");
                fs::create_dir_all(&folder).expect("the folder can be made");
                fs::write(folder.join("profile"), PROFILE).expect("the file can be written");
                ("fcitx5", "--disable=wayland", "fcitx")
            }
        };
        let child = display.silent(program).args(words.split(' ')).spawn();
        display.keep(child.unwrap_or_else(|error| panic!("{program} is installed: {error}")));
        let service =
            if self == Composer::Ibus { "org.freedesktop.IBus" } else { "org.fcitx.Fcitx5" };
        display.wait_for_name(service);
        wait_for_xim_server(display, name);
        // The other asks the program in front, of which there is none yet.
        if self == Composer::Ibus {
            self.compose(display, false);
        }
        display.set_variable("GTK_IM_MODULE", name);
        display.set_variable("XMODIFIERS", &format!("@im={name}"));
    }

    /// Has it compose in the program in front, or hand keys on as they are.
    ///
    /// # Panics
    /// When it does not do so.
    pub fn compose(self, display: &Display, on: bool) {
        let (program, words, told): (_, &[&str], _) = match (self, on) {
            (Composer::Ibus, true) => ("ibus", &["engine", "m17n:t:latn-post"], "m17n:t:latn-post"),
            (Composer::Ibus, false) => ("ibus", &["engine", "xkb:us::eng"], "xkb:us::eng"),
            (Composer::Fcitx, true) => ("fcitx5-remote", &["-o"], "m17n_t_latn-post"),
            (Composer::Fcitx, false) => ("fcitx5-remote", &["-c"], "keyboard-us"),
        };
        let ask: &[&str] = if self == Composer::Ibus { &["engine"] } else { &["-n"] };
        // It may fail as long as it starts, or has not heard which program is in front.
        display.wait_until("the input method to change", |display| {
            let changed = display.silent(program).args(words).status();
            changed.expect("it came with the input method");
            let now = display.command(program).args(ask).output();
            String::from_utf8_lossy(&now.expect("it came with it").stdout).trim() == told
        });
    }
}

/// Waits until an input method serves the X Input Method protocol. A terminal that starts earlier
/// connects to it later, in the middle of a text, and loses the keys that it handles meanwhile.
fn wait_for_xim_server(display: &Display, name: &str) {
    let conn = display.connect();
    // Section 3.1 of the protocol: the server owns the selection that is named after it.
    let cookie = conn.intern_atom(false, format!("@server={name}").as_bytes());
    let server = cookie.expect("the server listens").reply().expect("the server answers").atom;
    display.wait_until("the input method to serve the display", |_| {
        let cookie = conn.get_selection_owner(server).expect("the server listens");
        cookie.reply().expect("the server answers").owner != x11rb::NONE
    });
}
