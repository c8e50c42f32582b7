//! Loops that never pause.

use std::time::Duration;

use lantern_model::code::{Expr, Op};
use lantern_model::{RoutineId, Value};

use super::LintInput;
use super::never_firing::known_truth;
use crate::Finding;
use crate::check::graph;
use crate::codes::Code;

pub(super) fn busy_loops(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    let pausing = pausing_routines(input);
    for (number, routine) in input.lowered.set.routines.iter().enumerate() {
        for (at, op) in routine.ops.iter().enumerate() {
            let Op::Repeat { times: None, every } = op else { continue };
            let Some(Op::NextIteration(end)) = routine.ops.get(at + 1) else { continue };
            let paced = every.as_ref().is_some_and(|every| !is_zero(every));
            let body = at + 2..*end;
            let pauses =
                |op: &Op| takes_time(op) || matches!(op, Op::Call(called, _) if pausing[called.0]);
            if paced || routine.ops[body].iter().any(pauses) {
                continue;
            }
            let span = input.lowered.op_spans[number][at];
            findings.push(
                Finding::new(Code::BusyLoop, span, "this loop never pauses")
                    .label("as fast as it can, until it is stopped")
                    .help(
                        "give it a pace, `repeat every 20ms { ... }`, or let it wait for something",
                    ),
            );
        }
    }
}

/// For each routine, whether it takes time, itself or in a routine that it calls.
fn pausing_routines(input: &LintInput<'_>) -> Vec<bool> {
    let routines = &input.lowered.set.routines;
    let called = |op: &Op| match op {
        Op::Call(RoutineId(called), _) => Some(*called),
        _ => None,
    };
    let calls: Vec<Vec<usize>> =
        routines.iter().map(|routine| routine.ops.iter().filter_map(called).collect()).collect();
    let pauses = routines.iter().map(|routine| routine.ops.iter().any(takes_time)).collect();
    graph::reaches(&calls, pauses)
}

/// Whether an operation takes time, or ends the loop around it for sure.
fn takes_time(op: &Op) -> bool {
    match op {
        Op::Wait(_) | Op::WaitUntil { .. } | Op::Command { .. } | Op::With(_) => true,
        Op::Tap { pace, .. } | Op::Type { pace, .. } => pace.is_some(),
        Op::Move { over, .. } => over.is_some(),
        Op::Repeat { every: Some(every), .. } => !is_zero(every),
        Op::Stop(_) => true,
        Op::JumpUnless(test, _) => known_truth(test) == Some(false),
        _ => false,
    }
}

fn is_zero(expr: &Expr) -> bool {
    matches!(expr, Expr::Value(Value::Duration(span)) if *span == Duration::ZERO)
}
