//! Steps that ask something of programs, devices or the person.

use lantern_model::{CommandKind, DeviceId, VolumeChange};

use super::{Parsed, Parser};
use crate::token::{Sign, TokenKind};
use crate::tree::{CommandSyntax, ExprSyntax};

/// Their first words.
pub(super) const COMMANDS: &[&str] = &[
    "launch", "run", "shell", "open", "end", "focus", "close", "choose", "paste", "notify", "say",
    "play", "volume", "ask", "confirm", "pick", "send", "publish", "get", "put", "post", "read",
    "tally",
];

/// Those that give a value as the whole right side of `let` or `set`.
pub(super) const GIVES_VALUE: &[&str] =
    &["launch", "run", "shell", "ask", "confirm", "pick", "get", "put", "post", "read"];

/// A device that is not looked up yet.
const SOME: DeviceId = DeviceId(usize::MAX);

impl Parser<'_> {
    pub(super) fn parse_command(&mut self) -> Parsed<CommandSyntax> {
        let piece = self.next();
        let mut command = CommandSyntax {
            verb: CommandKind::Open,
            device: None,
            words: Vec::new(),
            value: None,
            limit: None,
            name: None,
            into: None,
        };
        match self.slice(piece.span) {
            "launch" => {
                command.take(CommandKind::Launch, vec![self.parse_expr()?]);
                if self.take_word("as") {
                    command.name = Some(self.expect_name("a name for what is started")?);
                }
            }
            "run" => command.take(CommandKind::Run, self.parse_exprs()?),
            "shell" => command.take(CommandKind::Shell, vec![self.parse_expr()?]),
            "open" => command.take(CommandKind::Open, vec![self.parse_expr()?]),
            "end" => {
                let name = self.expect_path("the name of what was launched")?;
                command.verb = CommandKind::End(name.text.clone());
                command.name = Some(name);
            }
            "focus" => command.take(CommandKind::Focus, vec![self.parse_program()?]),
            "close" => command.take(CommandKind::Close, vec![self.parse_program()?]),
            "choose" => command.take(CommandKind::ChooseMenuEntry, self.parse_exprs()?),
            "tally" => {
                let shows =
                    self.at_end_of_statement() || self.is_word("at") || self.is_word("else");
                let number = if shows { Vec::new() } else { vec![self.parse_expr()?] };
                command.take(CommandKind::Tally, number);
            }
            "paste" => command.take(CommandKind::Paste, vec![self.parse_expr()?]),
            "notify" => command.take(CommandKind::Notify, vec![self.parse_expr()?]),
            "say" => command.take(CommandKind::Say, vec![self.parse_expr()?]),
            "play" => self.parse_play(&mut command)?,
            "volume" => self.parse_volume(&mut command)?,
            "ask" => command.take(CommandKind::Ask, vec![self.parse_expr()?]),
            "confirm" => command.take(CommandKind::Confirm, vec![self.parse_expr()?]),
            "pick" => {
                command.take(CommandKind::Pick, vec![self.parse_expr()?]);
                self.expect_sign(Sign::Comma, "between the question and the list")?;
                self.take_line_ends();
                command.value = Some(self.parse_expr()?);
            }
            "read" => {
                self.expect_word("clipboard", "after `read`")?;
                command.verb = CommandKind::ReadClipboard;
            }
            other => {
                let verb = match other {
                    "send" => CommandKind::Send(SOME),
                    "publish" => CommandKind::Publish { broker: SOME, retained: false },
                    "get" => CommandKind::Get(SOME),
                    "put" => CommandKind::Put(SOME),
                    _ => CommandKind::Post(SOME),
                };
                self.parse_to_device(verb, &mut command)?;
            }
        }
        command.limit = self.parse_limit()?;
        Ok(command)
    }

    /// `at most D`
    pub(super) fn parse_limit(&mut self) -> Parsed<Option<ExprSyntax>> {
        if self.take_words(&["at", "most"]) { Ok(Some(self.parse_expr()?)) } else { Ok(None) }
    }

    fn parse_exprs(&mut self) -> Parsed<Vec<ExprSyntax>> {
        let mut values = vec![self.parse_expr()?];
        while self.take_sign(Sign::Comma) {
            self.take_line_ends();
            values.push(self.parse_expr()?);
        }
        Ok(values)
    }

    fn parse_program(&mut self) -> Parsed<ExprSyntax> {
        self.expect_word("app", "before the program's name")?;
        self.parse_expr()
    }

    /// `play FILE`, `play any of FILE, FILE`
    fn parse_play(&mut self, command: &mut CommandSyntax) -> Parsed<()> {
        let several = self.take_words(&["any", "of"]);
        let files = if several { self.parse_exprs()? } else { vec![self.parse_expr()?] };
        command.take(CommandKind::Play, files);
        Ok(())
    }

    fn parse_volume(&mut self, command: &mut CommandSyntax) -> Parsed<()> {
        const CHANGES: [VolumeChange; 5] = [
            VolumeChange::Up,
            VolumeChange::Down,
            VolumeChange::Set,
            VolumeChange::Mute,
            VolumeChange::Unmute,
        ];
        if self.take_words(&["toggle", "mute"]) {
            command.verb = CommandKind::Volume(VolumeChange::ToggleMute);
            return Ok(());
        }
        for change in CHANGES {
            if self.take_word(change.words()) {
                command.verb = CommandKind::Volume(change);
                if !matches!(change, VolumeChange::Mute | VolumeChange::Unmute) {
                    command.value = Some(self.parse_expr()?);
                }
                return Ok(());
            }
        }
        let known = ["up", "down", "set", "mute", "unmute", "toggle"];
        let advice = self.advisor().advise_volume();
        self.fail_advised("`up`, `down`, `set`, `mute`, `unmute` or `toggle mute`", &known, advice)
    }

    /// `send DEVICE TEXT`, `publish BROKER "topic" body TEXT retained`, `put WEB "/path" body VALUE`
    fn parse_to_device(&mut self, verb: CommandKind, command: &mut CommandSyntax) -> Parsed<()> {
        if let Some(advice) = self.advisor().advise_device() {
            let piece = self.peek();
            return self.fail_at(piece, "the device's name", Some(advice));
        }
        command.device = Some(self.expect_path("the device's name")?);
        command.words = vec![self.parse_expr()?];
        let needs_body = matches!(verb, CommandKind::Publish { .. } | CommandKind::Put(_));
        if self.take_word("body") {
            let body = self.parse_expr()?;
            if matches!(verb, CommandKind::Publish { .. }) {
                command.words.push(body);
            } else {
                command.value = Some(body);
            }
        } else if needs_body && self.peek().kind != TokenKind::End {
            return self.fail("`body` and what is sent");
        }
        command.verb = match verb {
            CommandKind::Publish { broker, .. } => {
                CommandKind::Publish { broker, retained: self.take_word("retained") }
            }
            other => other,
        };
        Ok(())
    }
}

impl CommandSyntax {
    fn take(&mut self, verb: CommandKind, words: Vec<ExprSyntax>) {
        self.verb = verb;
        self.words = words;
    }
}
