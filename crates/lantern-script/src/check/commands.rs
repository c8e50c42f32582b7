//! Steps that ask something of programs, devices or the person, lowered.

use lantern_model::code::{AssignTarget, Expr, Function, Op};
use lantern_model::{CommandKind, Value, VolumeChange};

use super::Checker;
use super::kinds::ValueKind;
use super::names::ItemKind;
use super::shell::ShellLexer;
use crate::codes::Code;
use crate::tree::{self, CommandSyntax, ExprSyntaxKind, TextPart};
use crate::{Finding, Span};

impl Checker<'_> {
    pub(super) fn lower_command(&mut self, command: &CommandSyntax, span: Span) -> Option<Op> {
        let verb = self.lower_verb(command)?;
        self.need_for_verb(&verb, span);
        let words = match verb {
            CommandKind::Shell => self.lower_shell(command),
            CommandKind::Launch => {
                command.words.iter().map(|word| self.lower_launch(word)).collect()
            }
            CommandKind::Open | CommandKind::Focus | CommandKind::Close => {
                let what = if verb == CommandKind::Open {
                    "an address or file"
                } else {
                    "a program's name"
                };
                command
                    .words
                    .iter()
                    .map(|word| self.lower_kind(word, ValueKind::Text, what))
                    .collect()
            }
            CommandKind::Tally => {
                let number = |word| self.lower_kind(word, ValueKind::Number, "the number to pick");
                command.words.iter().map(number).collect()
            }
            CommandKind::Get(_) | CommandKind::Put(_) | CommandKind::Post(_) => {
                command.words.iter().map(|word| self.lower_path(word)).collect()
            }
            _ => command.words.iter().map(|word| self.lower_shown(word)).collect(),
        };
        let value = command.value.as_ref().map(|value| match verb {
            CommandKind::Volume(_) => {
                self.lower_kind(value, ValueKind::Share, "a share, such as 5%")
            }
            CommandKind::Pick => self.lower_kind(value, ValueKind::List, "a list to pick from"),
            _ => self.lower_shown(value),
        });
        let limit = self.lower_optional(command.limit.as_ref(), ValueKind::Duration, "a duration");
        let into = self.lower_into(command, &verb);
        let name = match verb {
            CommandKind::Launch => command.name.as_ref().map(|name| self.names.full(&name.text)),
            _ => None,
        };
        self.check_amount(&verb, value.as_ref(), command);
        Some(Op::Command { kind: verb, arguments: words, value, timeout: limit, into, name })
    }

    fn lower_verb(&mut self, command: &CommandSyntax) -> Option<CommandKind> {
        if let CommandKind::End(_) = command.verb {
            let name = command.name.as_ref()?;
            self.find(ItemKind::Started, name)?;
            return Some(CommandKind::End(self.names.full(&name.text)));
        }
        let Some(device) = &command.device else {
            return Some(command.verb.clone());
        };
        let id = match command.verb {
            CommandKind::Send(_) => self.find_device_of(device, "serial"),
            CommandKind::Publish { .. } => self.find_device_of(device, "broker"),
            _ => self.find_device_of(device, "web"),
        }?;
        Some(match command.verb {
            CommandKind::Send(_) => CommandKind::Send(id),
            CommandKind::Publish { retained, .. } => CommandKind::Publish { broker: id, retained },
            CommandKind::Get(_) => CommandKind::Get(id),
            CommandKind::Put(_) => CommandKind::Put(id),
            _ => CommandKind::Post(id),
        })
    }

    /// A line for the shell, each value in it as one word.
    fn lower_shell(&mut self, command: &CommandSyntax) -> Vec<Expr> {
        let Some(line) = command.words.first() else { return Vec::new() };
        let ExprSyntaxKind::Text(parts) = &line.kind else {
            if line.kind != ExprSyntaxKind::Unread {
                self.say(
                    Finding::new(Code::WrongKind, line.span, "`shell` takes the line itself")
                        .label("not a text as written")
                        .help("write shell `line`, or shell \"line {value}\": a value in it becomes one word"),
                );
            }
            return Vec::new();
        };
        vec![self.lower_command_line(parts, "shell")]
    }

    /// A program's name, or its command line with each value in it as one argument.
    fn lower_launch(&mut self, word: &tree::ExprSyntax) -> Expr {
        let ExprSyntaxKind::Text(parts) = &word.kind else {
            return as_word(self.lower_kind(word, ValueKind::Text, "a program's name"));
        };
        match parts.as_slice() {
            [] | [TextPart::Literal(_)] => self.lower_text(parts),
            [TextPart::Value(value)] => as_word(self.lower_expr(value).0),
            parts => {
                if let Some(value) = value_in_first_word(parts) {
                    let title = "a value cannot be the program of a line";
                    self.say(
                        Finding::new(Code::UnsafeValue, value.span, title)
                            .label("it would choose what is started")
                            .help("write the program itself, and values behind it: launch \"mousepad {file}\""),
                    );
                }
                self.lower_command_line(parts, "launch")
            }
        }
    }

    /// A command line, each value in it as exactly one word.
    fn lower_command_line(&mut self, parts: &[TextPart], step: &str) -> Expr {
        let mut lexer = ShellLexer::new();
        let lower = |part: &TextPart| match part {
            TextPart::Literal(text) => {
                lexer.literal(text);
                Expr::Value(Value::Text(text.clone()))
            }
            TextPart::Value(value) => {
                if let Err(place) = lexer.value() {
                    let title = format!("in `{step}` a value here cannot become exactly one word");
                    self.say(
                        Finding::new(Code::UnsafeValue, value.span, title)
                            .label(place.words())
                            .help(place.help()),
                    );
                }
                Expr::Call(Function::ShellWord, vec![self.lower_expr(value).0])
            }
        };
        Expr::Text(parts.iter().map(lower).collect())
    }

    /// A path of a web device. A value in it is part of one segment, or of a query: it can neither lead to
    /// another path nor end it.
    fn lower_path(&mut self, word: &tree::ExprSyntax) -> Expr {
        let ExprSyntaxKind::Text(parts) = &word.kind else { return self.lower_shown(word) };
        let lower = |part: &TextPart| match part {
            TextPart::Literal(text) => Expr::Value(Value::Text(text.clone())),
            TextPart::Value(value) => {
                Expr::Call(Function::PathSegment, vec![self.lower_expr(value).0])
            }
        };
        Expr::Text(parts.iter().map(lower).collect())
    }

    fn lower_into(&mut self, command: &CommandSyntax, verb: &CommandKind) -> Option<AssignTarget> {
        let (fresh, name) = command.into.as_ref()?;
        let kind = match verb {
            CommandKind::Confirm => ValueKind::Truth,
            CommandKind::Launch => ValueKind::Number,
            CommandKind::Run
            | CommandKind::Shell
            | CommandKind::Ask
            | CommandKind::ReadClipboard => ValueKind::Text,
            _ => ValueKind::Any,
        };
        if *fresh {
            return Some(AssignTarget::Local(self.declare_local(name, kind)));
        }
        let (target, kept) = self.find_target(name)?;
        self.check_kept(name, kind, kept, name.span);
        Some(target)
    }

    fn check_amount(&mut self, verb: &CommandKind, value: Option<&Expr>, command: &CommandSyntax) {
        let CommandKind::Volume(change) = verb else { return };
        let most = if *change == VolumeChange::Set { 1.5 } else { 1.0 };
        if let (Some(Expr::Value(Value::Share(share))), Some(written)) = (value, &command.value)
            && !(0.0..=most).contains(share)
        {
            self.say(
                Finding::new(Code::BadNumber, written.span, "it cannot be that loud")
                    .label("out of range")
                    .help(format!("from 0% to {}%", most * 100.0)),
            );
        }
    }
}

/// The first value of a line, if it is in the line's first word.
fn value_in_first_word(parts: &[TextPart]) -> Option<&tree::ExprSyntax> {
    let mut before = String::new();
    for part in parts {
        match part {
            TextPart::Literal(text) => before.push_str(text),
            TextPart::Value(value) => {
                let is_first = !before.trim_start().contains(char::is_whitespace);
                return is_first.then_some(value);
            }
        }
    }
    None
}

/// What is not known before the rule fires, as one word whatever it holds.
fn as_word(expr: Expr) -> Expr {
    match expr {
        Expr::Value(_) => expr,
        other => Expr::Call(Function::ShellWord, vec![other]),
    }
}
