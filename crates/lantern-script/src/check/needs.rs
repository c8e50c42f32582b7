//! What a set needs of the back end and the world it runs on, and where: a back end that lacks something
//! can say so ahead of time.

use lantern_model::{CommandKind, KeyCombination, KeySpec};

use super::Checker;
use crate::Span;
use crate::codes::Code;
use crate::finding::Finding;
use crate::tree::{self, KeyPart, TriggerSyntaxKind};

/// Something that not every back end can do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Need {
    /// Buttons, wheel and pen as triggers.
    Buttons,
    /// Keys that stand for others.
    Remaps,
    /// What the person types, as characters.
    Letters,
    /// Input devices told apart.
    Boards,
    /// Where the pointer is.
    Pointer,
    /// Speech heard.
    Voice,
    /// Shapes drawn.
    Shapes,
    /// Lines from serial ports, and to them.
    Serial,
    /// Messages from brokers, and to them.
    Broker,
    /// Things with a web interface.
    Web,
    /// Calls from others.
    Listener,
    /// Telling which program is in front.
    Places,
    /// Windows that open.
    NewWindows,
    /// Windows brought to the front or closed.
    Windows,
    /// Menus of programs.
    Menus,
    /// The clipboard.
    Clipboard,
    /// Notices, sounds and how loud it is.
    Signs,
    /// Questions to the person.
    Questions,
}

impl Need {
    /// What it is, for a message.
    pub const fn words(self) -> &'static str {
        match self {
            Need::Buttons => "buttons, wheel and pen as triggers",
            Need::Remaps => "remaps",
            Need::Letters => "typed abbreviations",
            Need::Boards => "telling input devices apart",
            Need::Pointer => "asking where the pointer is",
            Need::Voice => "voice triggers",
            Need::Shapes => "gestures",
            Need::Serial => "serial ports",
            Need::Broker => "message brokers",
            Need::Web => "web devices",
            Need::Listener => "calls from the web",
            Need::Places => "telling which program is in front",
            Need::NewWindows => "windows that open",
            Need::Windows => "bringing windows to the front and closing them",
            Need::Menus => "menus of programs",
            Need::Clipboard => "the clipboard",
            Need::Signs => "notices and sound",
            Need::Questions => "questions to the person",
        }
    }

    /// The finding that a back end lacks it.
    pub fn lacking(self, span: Span, backend: &str) -> Finding {
        Finding::new(
            Code::NotYet,
            span,
            format!(
                "{}: the {backend} back end does not support that in this version",
                self.words()
            ),
        )
        .label("not yet")
        .help("the rest of the file works; `lantern rehearse` plays this part as well")
    }
}

impl Checker<'_> {
    pub(super) fn need(&mut self, need: Need, span: Span) {
        self.needs.push((need, span));
    }

    pub(super) fn need_for_trigger(&mut self, trigger: &tree::TriggerSyntax) {
        let need = match &trigger.kind {
            TriggerSyntaxKind::Key { combo, .. } if has_pointer_key(combo) => Need::Buttons,
            TriggerSyntaxKind::Keys { combos, .. } if combos.iter().any(has_pointer_key) => {
                Need::Buttons
            }
            TriggerSyntaxKind::Typed(_) => Need::Letters,
            TriggerSyntaxKind::Voice(_) => Need::Voice,
            TriggerSyntaxKind::Gesture { .. } => Need::Shapes,
            TriggerSyntaxKind::Line { .. } => Need::Serial,
            TriggerSyntaxKind::Message { .. } => Need::Broker,
            TriggerSyntaxKind::Call { .. } => Need::Listener,
            TriggerSyntaxKind::Window { opened: true, .. } => Need::NewWindows,
            TriggerSyntaxKind::Window { opened: false, .. } => Need::Places,
            _ => return,
        };
        self.need(need, trigger.span);
    }

    pub(super) fn need_for_verb(&mut self, verb: &CommandKind, span: Span) {
        let need = match verb {
            CommandKind::Launch | CommandKind::Run | CommandKind::Shell | CommandKind::Open => {
                return;
            }
            CommandKind::End(_) | CommandKind::EndStarted(_) | CommandKind::QueryInputMethod => {
                return;
            }
            CommandKind::Focus | CommandKind::FocusWindow(_) | CommandKind::Close => Need::Windows,
            CommandKind::ChooseMenuEntry | CommandKind::Tally => Need::Menus,
            CommandKind::Paste | CommandKind::ReadClipboard => Need::Clipboard,
            CommandKind::Notify | CommandKind::Say | CommandKind::Play | CommandKind::Volume(_) => {
                Need::Signs
            }
            CommandKind::Ask | CommandKind::Confirm | CommandKind::Pick => Need::Questions,
            CommandKind::Send(_) => Need::Serial,
            CommandKind::Publish { .. } => Need::Broker,
            CommandKind::Get(_) | CommandKind::Put(_) | CommandKind::Post(_) => Need::Web,
        };
        self.need(need, span);
    }
}

fn has_pointer_key(combo: &tree::KeyCombinationSyntax) -> bool {
    let is_pointer = |key: &KeySpec| KeyCombination::of(*key).pointer_key().is_some();
    combo.parts.iter().any(|part| match part {
        KeyPart::Key(key, _) => is_pointer(key),
        KeyPart::Set(keys, _) => keys.iter().any(is_pointer),
        KeyPart::Value(_) | KeyPart::Unread(_) => false,
    })
}
