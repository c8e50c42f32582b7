//! The world of a scene: programs that start at once, devices that take what they are sent, and a
//! person who answers when the scene says so.

use std::collections::{BTreeMap, VecDeque};

use lantern_backend::{Backend, BackendError};
use lantern_model::{Command, CommandError, CommandKind, CommandResult, Effect, EffectId, Value};

use super::ScenePlayer;
use crate::text::command_text;
use crate::timeline::SentEffectKind;

/// What the scene has said it will answer, and who waits for an answer.
#[derive(Debug, Default)]
pub(super) struct ScriptedWorld {
    answers: VecDeque<Value>,
    failures: VecDeque<String>,
    asked: Vec<EffectId>,
    started: BTreeMap<EffectId, String>,
    processes: u32,
}

impl ScriptedWorld {
    /// What the next step that asks something gets.
    pub(super) fn answer(&mut self, value: Value) -> Option<(EffectId, CommandResult)> {
        if self.asked.is_empty() {
            self.answers.push_back(value);
            return None;
        }
        Some((self.asked.remove(0), Ok(Some(value))))
    }

    /// The next step that asks something of the world fails.
    pub(super) fn fail(&mut self, reason: String) -> Option<(EffectId, CommandResult)> {
        if self.asked.is_empty() {
            self.failures.push_back(reason);
            return None;
        }
        Some((self.asked.remove(0), Err(CommandError::failed(reason))))
    }

    /// Cancels an effect.
    pub(super) fn abandon(&mut self, effect: EffectId) {
        self.asked.retain(|asked| *asked != effect);
    }
}

impl ScenePlayer {
    pub(super) fn perform_command(
        &mut self,
        effect: &Effect,
        command: &Command,
    ) -> Result<(), BackendError> {
        if !matches!(command.kind, CommandKind::FocusWindow(_))
            && let Some(reason) = self.world.failures.pop_front()
        {
            self.finish_effect(effect.id, Err(CommandError::failed(reason)));
            return Ok(());
        }
        let shown = !matches!(
            command.kind,
            CommandKind::FocusWindow(_) | CommandKind::Paste | CommandKind::ReadClipboard
        );
        if let CommandKind::EndStarted(started) = command.kind {
            let name = self.world.started.remove(&started);
            let result = match name {
                Some(name) => {
                    self.send(effect.run, SentEffectKind::done("end", name));
                    Ok(None)
                }
                None => Err(CommandError::not_found("it has ended already")),
            };
            self.finish_effect(effect.id, result);
            return Ok(());
        }
        if shown {
            self.send(
                effect.run,
                SentEffectKind::done(command.kind.keyword(), command_text(command)),
            );
        }
        if self.backend.execute(self.now, effect.id, command)? {
            return Ok(());
        }
        let answer = match command.kind {
            CommandKind::Launch => {
                let program = command.arguments.first().map_or("", String::as_str);
                let name = program.split(' ').next().unwrap_or(program);
                self.backend.open(name.rsplit('/').next().unwrap_or(name));
                self.world.started.insert(effect.id, program.to_owned());
                self.world.processes += 1;
                Some(Value::Number(f64::from(1000 + self.world.processes)))
            }
            CommandKind::Ask | CommandKind::Confirm | CommandKind::Pick => {
                let Some(answer) = self.world.answers.pop_front() else {
                    self.world.asked.push(effect.id);
                    return Ok(());
                };
                Some(answer)
            }
            CommandKind::Run
            | CommandKind::Shell
            | CommandKind::Get(_)
            | CommandKind::Put(_)
            | CommandKind::Post(_) => self.world.answers.pop_front(),
            _ => None,
        };
        self.finish_effect(effect.id, Ok(answer));
        Ok(())
    }
}
