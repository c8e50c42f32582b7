//! Steps, lowered to operations.

use lantern_model::code::{AssignTarget, Expr, HintPlaceExpr, MoveTarget, Op, StopTarget};

use super::Checker;
use super::kinds::ValueKind;
use super::names::ItemKind;
use super::needs::Need;
use super::routines::Body;
use crate::codes::Code;
use crate::tree::{self, MoveOrigin, Name, Step, StepKind};
use crate::{Finding, Span};

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
        let place = (self.place(step.span), step.span);
        let op = match &step.kind {
            StepKind::Tap { combos, times, pace } => Op::Tap {
                combos: combos.iter().map(|combo| self.lower_combo(combo)).collect(),
                times: self.lower_optional(times.as_ref(), ValueKind::Number, "how often"),
                pace: self.lower_optional(pace.as_ref(), ValueKind::Duration, "a duration"),
            },
            StepKind::Press(combo) => Op::Press(self.lower_combo(combo)),
            StepKind::Release(combo) => Op::Release(self.lower_combo(combo)),
            StepKind::Toggle(combo) => Op::Toggle(self.lower_combo(combo)),
            StepKind::Type { text, pace, anyway } => {
                self.check_typed_on_layout(text);
                Op::Type {
                    text: self.lower_shown(text),
                    pace: self.lower_optional(pace.as_ref(), ValueKind::Duration, "a duration"),
                    despite_focus_change: *anyway,
                }
            }
            StepKind::Move { to, over } => Op::Move {
                to: self.lower_move_target(to),
                over: self.lower_optional(over.as_ref(), ValueKind::Duration, "a duration"),
            },
            StepKind::Do(command) => match self.lower_command(command, step.span) {
                Some(op) => op,
                None => return,
            },
            StepKind::WaitUntil { condition, limit } => Op::WaitUntil {
                condition: self.lower_kind(
                    condition,
                    ValueKind::Truth,
                    "true or false after `until`",
                ),
                timeout: self.lower_optional(limit.as_ref(), ValueKind::Duration, "a duration"),
            },
            StepKind::Wait(span) => {
                Op::Wait(self.lower_optional(span.as_ref(), ValueKind::Duration, "a duration"))
            }
            StepKind::Log(text) => Op::Log(self.lower_shown(text)),
            StepKind::Hint { text, at, span } => Op::Hint {
                text: self.lower_shown(text),
                at: match at {
                    tree::HintPlaceSyntax::Pointer => HintPlaceExpr::Pointer,
                    tree::HintPlaceSyntax::Corner(corner) => HintPlaceExpr::Corner(*corner),
                    tree::HintPlaceSyntax::Point(x, y) => {
                        let (x, y) = self.lower_point(x, y);
                        HintPlaceExpr::Point(x, y)
                    }
                },
                duration: self.lower_optional(span.as_ref(), ValueKind::Duration, "a duration"),
            },
            StepKind::Stop => Op::Stop(StopTarget::ThisRun),
            StepKind::StopAll => Op::Stop(StopTarget::All),
            StepKind::StopUntilResumed => Op::Stop(StopTarget::AllUntilResumed),
            StepKind::StopNamed(name) => {
                self.find(ItemKind::Rule, name);
                Op::Stop(StopTarget::Named(self.names.full(&name.text)))
            }
            StepKind::Listen(heed) => Op::Listen(*heed),
            StepKind::Pause(name) | StepKind::Resume(name) => {
                self.find(ItemKind::Rule, name);
                let paused = matches!(step.kind, StepKind::Pause(_));
                Op::Pause { name: self.names.full(&name.text), paused }
            }
            StepKind::Enter(name) | StepKind::Leave(name) => {
                let on = matches!(step.kind, StepKind::Enter(_));
                let Some(layer) = self.find_layer(name) else { return };
                if on {
                    self.lowered.entered_layers.insert(layer);
                }
                Op::Layer { layer, on }
            }
            StepKind::Call(name, arguments) => match self.lower_call(name, arguments) {
                Some(call) => call,
                None => return,
            },
            StepKind::Let(name, value) => {
                let (expr, kind) = self.lower_expr(value);
                Op::Set(AssignTarget::Local(self.declare_local(name, kind)), expr)
            }
            StepKind::Set(name, value) => match self.lower_set(name, value) {
                Some(set) => set,
                None => return,
            },
            StepKind::Hold(..)
            | StepKind::Drag { .. }
            | StepKind::With(..)
            | StepKind::Repeat { .. }
            | StepKind::For { .. }
            | StepKind::If { .. }
            | StepKind::AnyOf(_) => {
                self.lower_nested(step, body);
                return;
            }
            StepKind::Unread => return,
        };
        body.push(op, place);
        if let Some(otherwise) = &step.otherwise {
            self.lower_otherwise(step, otherwise, body);
        }
    }

    /// Lowers the block behind `else`. If the step before it succeeds, execution continues after the block.
    fn lower_otherwise(&mut self, step: &Step, otherwise: &[Step], body: &mut Body) {
        let place = (self.place(step.span), step.span);
        let can_fail = matches!(
            step.kind,
            StepKind::Do(_)
                | StepKind::Type { .. }
                | StepKind::Move { .. }
                | StepKind::With(..)
                | StepKind::WaitUntil { .. }
        );
        if !can_fail {
            self.say(
                Finding::new(Code::BadClause, step.span, "this step cannot fail")
                    .label("`else` behind it is never done")
                    .help(
                        "`else` goes behind steps such as `run`, `get`, `wait until` or `with app`",
                    ),
            );
        }
        let skip = body.push(Op::OnFailure(0), place);
        self.lower_block(otherwise, body);
        body.land(skip);
    }

    fn lower_nested(&mut self, step: &Step, body: &mut Body) {
        let place = (self.place(step.span), step.span);
        match &step.kind {
            StepKind::Hold(combo, steps) => {
                let combo = self.lower_combo(combo);
                body.push(Op::Hold(combo), place);
                self.lower_block(steps, body);
                body.push(Op::EndBlock, place);
            }
            StepKind::Drag { button, to, over } => {
                let button = self.lower_combo(button);
                let to = self.lower_move_target(to);
                let over = self.lower_optional(over.as_ref(), ValueKind::Duration, "a duration");
                body.push(Op::Hold(button), place);
                body.push(Op::Move { to, over }, place);
                body.push(Op::EndBlock, place);
            }
            StepKind::With(program, steps) => {
                let program = self.lower_kind(program, ValueKind::Text, "a program's name");
                self.need(Need::Windows, step.span);
                body.push(Op::With(program), place);
                let mut end = None;
                if let Some(otherwise) = &step.otherwise {
                    let skip = body.push(Op::OnFailure(0), place);
                    self.lower_block(otherwise, body);
                    end = Some(body.push(Op::Jump(0), place));
                    body.land(skip);
                }
                self.lower_block(steps, body);
                body.push(Op::EndBlock, place);
                if let Some(end) = end {
                    body.land(end);
                }
            }
            StepKind::For { name, list, body: steps } => {
                let list = self.lower_kind(list, ValueKind::List, "a list after `in`");
                let mark = self.names.mark();
                let slot = self.declare_local(name, ValueKind::Any);
                body.push(Op::For { list, slot }, place);
                let turn = body.push(Op::NextIteration(0), place);
                self.lower_steps(steps, body);
                self.end_block(mark);
                body.push(Op::Jump(turn), place);
                body.land(turn);
                body.push(Op::EndBlock, place);
            }
            StepKind::AnyOf(blocks) => {
                let choice = body.push(Op::AnyOf(Vec::new()), place);
                let mut ends = Vec::new();
                for block in blocks {
                    body.land(choice);
                    self.lower_block(block, body);
                    ends.push(body.push(Op::Jump(0), place));
                }
                ends.into_iter().for_each(|end| body.land(end));
            }
            StepKind::Repeat { times, every, condition, body: steps } => {
                let times = self.lower_optional(times.as_ref(), ValueKind::Number, "how often");
                let every = self.lower_optional(every.as_ref(), ValueKind::Duration, "a duration");
                body.push(Op::Repeat { times, every }, place);
                let turn = body.push(Op::NextIteration(0), place);
                let test = condition.as_ref().map(|condition| {
                    let test =
                        self.lower_kind(condition, ValueKind::Truth, "true or false after `while`");
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
                let test = self.lower_kind(condition, ValueKind::Truth, "true or false after `if`");
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

    fn lower_point(&mut self, x: &tree::ExprSyntax, y: &tree::ExprSyntax) -> (Expr, Expr) {
        let x = self.lower_kind(x, ValueKind::Number, "pixels across");
        let y = self.lower_kind(y, ValueKind::Number, "pixels down");
        (x, y)
    }

    fn lower_move_target(&mut self, point: &tree::MoveTargetSyntax) -> MoveTarget {
        match point.from {
            MoveOrigin::Corner | MoveOrigin::Pointer => {
                let (x, y) = self.lower_point(&point.x, &point.y);
                if point.from == MoveOrigin::Corner {
                    MoveTarget::At(x, y)
                } else {
                    MoveTarget::By(x, y)
                }
            }
            MoveOrigin::Window | MoveOrigin::Screen => {
                let x = self.lower_kind(&point.x, ValueKind::Share, "a share across, such as 50%");
                let y = self.lower_kind(&point.y, ValueKind::Share, "a share down, such as 50%");
                match point.from {
                    MoveOrigin::Window => MoveTarget::OfWindow(x, y),
                    _ => MoveTarget::OfScreen(x, y),
                }
            }
        }
    }

    fn lower_set(&mut self, name: &Name, value: &tree::ExprSyntax) -> Option<Op> {
        let (expr, kind) = self.lower_expr(value);
        let (target, kept) = self.find_target(name)?;
        self.check_kept(name, kind, kept, value.span);
        Some(Op::Set(target, expr))
    }

    /// A name keeps the kind of its first value.
    pub(super) fn check_kept(&mut self, name: &Name, kind: ValueKind, kept: ValueKind, span: Span) {
        if !kind.fits(kept) {
            self.say(
                Finding::new(
                    Code::WrongKind,
                    span,
                    format!("`{}` holds {}, not {}", name.text, kept.words(), kind.words()),
                )
                .label(kind.words())
                .help("a name keeps the kind of its first value"),
            );
        }
    }

    fn lower_call(&mut self, name: &Name, arguments: &[tree::ExprSyntax]) -> Option<Op> {
        let lowered: Vec<Expr> =
            arguments.iter().map(|argument| self.lower_expr(argument).0).collect();
        let id = self.find_macro(name)?;
        self.body_calls.push((id, name.span));
        let parameters = &self.lowered.set.routines[id.0].parameters;
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
