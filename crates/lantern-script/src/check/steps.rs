//! Steps, lowered to operations.

use lantern_model::code::{Expr, Op, StopTarget};

use super::Checker;
use super::kinds::Kind;
use super::names::FoundValue;
use super::routines::Body;
use crate::Finding;
use crate::codes::Code;
use crate::tree::{self, Name, Step, StepKind};

impl Checker<'_> {
    /// The steps of a block, whose names end with it.
    pub(super) fn lower_block(&mut self, steps: &[Step], body: &mut Body) {
        let mark = self.names.mark();
        self.lower_steps(steps, body);
        self.end_block(mark);
    }

    pub(super) fn lower_steps(&mut self, steps: &[Step], body: &mut Body) {
        for step in steps {
            self.lower_step(step, body);
        }
    }

    fn lower_step(&mut self, step: &Step, body: &mut Body) {
        let place = self.place(step.span);
        let op = match &step.kind {
            StepKind::Tap { combos, times, pace } => Op::Tap {
                combos: combos.iter().map(|combo| self.lower_combo(combo)).collect(),
                times: self.lower_optional(times.as_ref(), Kind::Number, "how often"),
                pace: self.lower_optional(pace.as_ref(), Kind::Duration, "a duration"),
            },
            StepKind::Press(combo) => Op::Press(self.lower_combo(combo)),
            StepKind::Release(combo) => Op::Release(self.lower_combo(combo)),
            StepKind::Toggle(combo) => Op::Toggle(self.lower_combo(combo)),
            StepKind::Type { text, pace, anyway } => Op::Type {
                text: self.lower_shown(text),
                pace: self.lower_optional(pace.as_ref(), Kind::Duration, "a duration"),
                anyway: *anyway,
            },
            StepKind::MoveTo(x, y) => {
                let (x, y) = self.lower_point(x, y);
                Op::MoveTo(x, y)
            }
            StepKind::MoveBy(x, y) => {
                let (x, y) = self.lower_point(x, y);
                Op::MoveBy(x, y)
            }
            StepKind::Launch(program) => {
                Op::Launch(self.lower_kind(program, Kind::Text, "a program's name"))
            }
            StepKind::Run { words, limit } => Op::Run {
                words: words.iter().map(|word| self.lower_shown(word)).collect(),
                limit: self.lower_optional(limit.as_ref(), Kind::Duration, "a duration"),
            },
            StepKind::Wait(span) => {
                Op::Wait(self.lower_optional(span.as_ref(), Kind::Duration, "a duration"))
            }
            StepKind::Log(text) => Op::Log(self.lower_shown(text)),
            StepKind::Hint { text, at, span } => Op::Hint {
                text: self.lower_shown(text),
                at: at.as_ref().map(|(x, y)| self.lower_point(x, y)),
                span: self.lower_optional(span.as_ref(), Kind::Duration, "a duration"),
            },
            StepKind::Stop => Op::Stop(StopTarget::ThisRun),
            StepKind::StopAll => Op::Stop(StopTarget::All),
            StepKind::StopNamed(name) => {
                self.check_rule_name(name);
                Op::Stop(StopTarget::Named(name.text.clone()))
            }
            StepKind::Call(name, arguments) => match self.lower_call(name, arguments, body) {
                Some(call) => call,
                None => return,
            },
            StepKind::Let(name, value) => {
                let (expr, kind) = self.lower_expr(value);
                Op::SetLocal(self.declare_local(name, kind), expr)
            }
            StepKind::Set(name, value) => match self.lower_set(name, value) {
                Some(set) => set,
                None => return,
            },
            StepKind::Hold(..) | StepKind::Repeat { .. } | StepKind::If { .. } => {
                self.lower_nested(step, body);
                return;
            }
            StepKind::Unread => return,
        };
        body.push(op, place);
    }

    fn lower_nested(&mut self, step: &Step, body: &mut Body) {
        let place = self.place(step.span);
        match &step.kind {
            StepKind::Hold(combo, steps) => {
                let combo = self.lower_combo(combo);
                body.push(Op::Hold(combo), place);
                self.lower_block(steps, body);
                body.push(Op::EndBlock, place);
            }
            StepKind::Repeat { times, every, condition, body: steps } => {
                let times = self.lower_optional(times.as_ref(), Kind::Number, "how often");
                let every = self.lower_optional(every.as_ref(), Kind::Duration, "a duration");
                body.push(Op::Repeat { times, every }, place);
                let turn = body.push(Op::NextTurn(0), place);
                let test = condition.as_ref().map(|condition| {
                    let test =
                        self.lower_kind(condition, Kind::Truth, "true or false after `while`");
                    body.push(Op::JumpUnless(test, 0), place)
                });
                self.lower_block(steps, body);
                body.push(Op::Jump(turn), place);
                body.land(turn);
                if let Some(test) = test {
                    body.land(test);
                }
                body.push(Op::EndBlock, place);
            }
            StepKind::If { condition, then, otherwise } => {
                let test = self.lower_kind(condition, Kind::Truth, "true or false after `if`");
                let skip = body.push(Op::JumpUnless(test, 0), place);
                self.lower_block(then, body);
                if otherwise.is_empty() {
                    body.land(skip);
                } else {
                    let over = body.push(Op::Jump(0), place);
                    body.land(skip);
                    self.lower_block(otherwise, body);
                    body.land(over);
                }
            }
            other => unreachable!("only steps with blocks come here, not {other:?}"),
        }
    }

    fn lower_point(&mut self, x: &tree::Expr, y: &tree::Expr) -> (Expr, Expr) {
        let x = self.lower_kind(x, Kind::Number, "pixels across");
        let y = self.lower_kind(y, Kind::Number, "pixels down");
        (x, y)
    }

    fn lower_set(&mut self, name: &Name, value: &tree::Expr) -> Option<Op> {
        let (expr, kind) = self.lower_expr(value);
        let target = self.find_target(name)?;
        let (FoundValue::Local(_, kept) | FoundValue::Global(_, kept)) = target;
        if !kind.fits(kept) {
            self.say(
                Finding::new(
                    Code::WrongKind,
                    value.span,
                    format!("`{}` holds {}, not {}", name.text, kept.words(), kind.words()),
                )
                .label(kind.words())
                .help("a name keeps the kind of its first value"),
            );
        }
        Some(match target {
            FoundValue::Local(slot, _) => Op::SetLocal(slot, expr),
            FoundValue::Global(index, _) => Op::SetGlobal(index, expr),
        })
    }

    fn lower_call(&mut self, name: &Name, arguments: &[tree::Expr], body: &mut Body) -> Option<Op> {
        let lowered: Vec<Expr> =
            arguments.iter().map(|argument| self.lower_expr(argument).0).collect();
        let id = self.find_macro(name)?;
        body.calls.push((id, name.span));
        let parameters = &self.set.routines[id.0].parameters;
        let needed = parameters.iter().filter(|parameter| parameter.default.is_none()).count();
        let most = parameters.len();
        if lowered.len() < needed || lowered.len() > most {
            let wanted: Vec<String> = parameters
                .iter()
                .map(|parameter| match parameter.default {
                    Some(_) => format!("[{}]", parameter.name),
                    None => parameter.name.clone(),
                })
                .collect();
            let count = lowered.len();
            let given =
                if count == 1 { "1 value is".to_owned() } else { format!("{count} values are") };
            self.say(
                Finding::new(
                    Code::WrongCount,
                    name.span,
                    format!("{given} given to `{}`", name.text),
                )
                .label("called here")
                .help(format!("it takes `{}({})`", name.text, wanted.join(", "))),
            );
            return None;
        }
        let missing = most - lowered.len();
        let given = lowered.into_iter().map(Some);
        Some(Op::Call(id, given.chain(std::iter::repeat_n(None, missing)).collect()))
    }
}
