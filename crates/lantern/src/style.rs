//! One colour for one sort of thing, everywhere. `anstream` leaves them away where they do not
//! belong.

use anstyle::{AnsiColor, Style};

/// Something that is wrong.
pub const ERROR: Style = AnsiColor::BrightRed.on_default().bold();
/// Something to look at.
pub const WARNING: Style = AnsiColor::Yellow.on_default().bold();
/// Advice.
pub const HELP: Style = AnsiColor::BrightCyan.on_default().bold();
/// Heads of tables.
pub const HEAD: Style = Style::new().bold();
/// What came in.
pub const CAME_IN: Style = AnsiColor::Cyan.on_default();
/// A rule.
pub const RULE: Style = AnsiColor::Magenta.on_default();
/// What went out.
pub const WENT_OUT: Style = AnsiColor::Green.on_default();
/// What matters less.
pub const FAINT: Style = Style::new().dimmed();

/// Line numbers, frames and other places of a finding.
pub const FRAME: Style = AnsiColor::BrightBlue.on_default().bold();

/// Every one of them.
pub const ALL: [Style; 9] = [ERROR, WARNING, HELP, HEAD, CAME_IN, RULE, WENT_OUT, FAINT, FRAME];
