//! Steps that ask something of programs, devices or the person, and their outcomes.

use lantern_model::code::Op;
use lantern_model::{Command, CommandKind, EffectId, EffectKind, RunId, Time, Value};

use crate::engine::Engine;
use crate::runs::RunState;
use crate::steps::{StepFlow, StepResult};
use crate::timers::Timer;

impl Engine {
    pub(crate) fn do_command(&mut self, now: Time, id: RunId, op: &Op) -> StepResult {
        let Op::Command { kind: verb, arguments: words, value, timeout: limit, into, name } = op
        else {
            unreachable!("only deeds come here, not {op:?}");
        };
        let words = self.ask(now, id, |scope| {
            words.iter().map(|word| scope.shown(word)).collect::<Result<Vec<_>, _>>()
        })?;
        let value =
            self.ask(now, id, |scope| value.as_ref().map(|v| scope.value(v)).transpose())?;
        let limit = self.ask(now, id, |scope| scope.optional_duration(limit.as_ref()))?;
        if verb.is_input() && !self.acquire_input(now, id)? {
            return Ok(self.continue_now(id));
        }
        if *verb == CommandKind::Paste
            && let Err(message) = self.check_open_field()
        {
            self.release_input(id);
            return Err(message);
        }
        let words = match verb {
            CommandKind::Play if words.len() > 1 => {
                vec![words[self.choose(id, words.len())].clone()]
            }
            _ => words,
        };
        let verb = match verb {
            CommandKind::End(name) => match self.started_effects.get(name) {
                Some(effect) => CommandKind::EndStarted(*effect),
                None => return Err(format!("nothing was started as {name} yet")),
            },
            other => other.clone(),
        };
        let sounds = matches!(verb, CommandKind::Say | CommandKind::Play);
        let effect = self.emit(
            Some(id),
            EffectKind::Execute(Command { kind: verb, arguments: words, value, timeout: limit }),
        );
        if sounds {
            self.own_sounds.insert(effect);
        }
        if let Some(name) = name {
            self.started_effects.insert(name.clone(), effect);
        }
        let run = self.runs.get_mut(id);
        run.state = RunState::Awaiting(effect, *into);
        run.operations = 0;
        if let Some(limit) = limit {
            self.timers.set(Timer::Timeout(id), now + limit);
        }
        Ok(StepFlow::Wait)
    }

    /// An effect is done, or failed.
    pub(crate) fn handle_outcome(
        &mut self,
        now: Time,
        effect: EffectId,
        result: Result<Option<Value>, String>,
    ) {
        if self.own_sounds.remove(&effect) {
            self.end_sound(now);
        }
        let Some(id) = self.runs_by_effect.remove(&effect).filter(|id| self.awaits(*id, effect))
        else {
            return;
        };
        let asking = matches!(self.runs.live[&id].state, RunState::QueryingInputMethod(..));
        let value = match result {
            Ok(value) => value,
            // An input method that does not answer is assumed to pass keys through.
            Err(_) if asking => None,
            Err(mut message) => {
                if let RunState::SendingInput(job, _) = &self.runs.live[&id].state {
                    message.push_str(&job.typed_words());
                }
                if matches!(self.runs.live[&id].state, RunState::AwaitingFocus { .. }) {
                    self.release_front_unless_within(id);
                }
                self.runs.get_mut(id).state = RunState::Sleeping;
                self.fail_waiting(now, id, message);
                return;
            }
        };
        match &mut self.runs.get_mut(id).state {
            RunState::SendingInput(_, under_way) => {
                *under_way = None;
                self.advance_job(now, id);
            }
            RunState::QueryingInputMethod(..) => self.type_unless_composed(now, id, value),
            RunState::AwaitingFocus { effect, .. } => {
                *effect = None;
                self.conditions_dirty = true;
            }
            RunState::Awaiting(_, into) => {
                if let Some(target) = into.take() {
                    let value = value.unwrap_or_else(|| Value::Text(String::new()));
                    self.put(id, target, value);
                }
                self.release_input(id);
                self.make_ready(id);
            }
            _ => {}
        }
    }

    /// Whether the run still waits for the effect.
    fn awaits(&self, id: RunId, effect: EffectId) -> bool {
        self.runs.live.get(&id).is_some_and(|run| match &run.state {
            RunState::Awaiting(awaited, _) | RunState::QueryingInputMethod(awaited, _) => {
                *awaited == effect
            }
            RunState::SendingInput(_, under_way) => *under_way == Some(effect),
            RunState::AwaitingFocus { effect: awaited, .. } => *awaited == Some(effect),
            _ => false,
        })
    }

    /// Cancels the effect that the run waits for.
    pub(crate) fn cancel(&mut self, now: Time, id: RunId, state: &RunState) {
        if let RunState::Awaiting(effect, _) = state {
            if self.own_sounds.remove(effect) {
                self.end_sound(now);
            }
            self.emit(Some(id), EffectKind::Cancel(*effect));
        }
    }
}
