//! Loops that never pause.

use std::time::Duration;

use lantern_model::code::{Expr, Op};
use lantern_model::{Routine, RoutineId, Value};

use super::Checker;
use super::never::known_truth;
use crate::Finding;
use crate::codes::Code;

impl Checker<'_> {
    pub(super) fn look_for_busy_loops(&self, findings: &mut Vec<Finding>) {
        for (number, routine) in self.set.routines.iter().enumerate() {
            for (at, op) in routine.ops.iter().enumerate() {
                let Op::Repeat { times: None, every } = op else { continue };
                let Some(Op::NextTurn(end)) = routine.ops.get(at + 1) else { continue };
                let paced = every.as_ref().is_some_and(|every| !is_zero(every));
                let body = at + 2..*end;
                if paced || self.pauses(routine, body, &mut vec![number]) {
                    continue;
                }
                let span = self.spans_of[number][at];
                findings.push(
                    Finding::new(Code::BusyLoop, span, "this loop never pauses")
                        .label("as fast as it can, until it is stopped")
                        .help("give it a pace, `repeat every 20ms { ... }`, or let it wait for something"),
                );
            }
        }
    }

    /// Whether something in the stretch takes time, or ends the loop for sure.
    fn pauses(
        &self,
        routine: &Routine,
        stretch: std::ops::Range<usize>,
        seen: &mut Vec<usize>,
    ) -> bool {
        routine.ops[stretch].iter().any(|op| match op {
            Op::Wait(_) | Op::WaitUntil { .. } | Op::Do { .. } | Op::With(_) => true,
            Op::Tap { pace, .. } | Op::Type { pace, .. } => pace.is_some(),
            Op::Move { over, .. } => over.is_some(),
            Op::Repeat { every: Some(every), .. } => !is_zero(every),
            Op::Stop(_) => true,
            Op::JumpUnless(test, _) => known_truth(test) == Some(false),
            Op::Call(RoutineId(called), _) if !seen.contains(called) => {
                seen.push(*called);
                let inner = &self.set.routines[*called];
                self.pauses(inner, 0..inner.ops.len(), seen)
            }
            _ => false,
        })
    }
}

fn is_zero(expr: &Expr) -> bool {
    matches!(expr, Expr::Value(Value::Duration(span)) if *span == Duration::ZERO)
}
