//! Keys that are pressed and, on some way through the steps, never released.

use std::collections::BTreeSet;

use lantern_model::code::{KeyCombinationExpr, Op};
use lantern_model::{Routine, RoutineId};

use super::LintInput;
use crate::Finding;
use crate::codes::Code;

pub(super) fn unreleased_presses(input: &LintInput<'_>, findings: &mut Vec<Finding>) {
    for rule in &input.lowered.set.rules {
        let RoutineId(number) = rule.body;
        let routine = &input.lowered.set.routines[number];
        for (at, op) in routine.ops.iter().enumerate() {
            let Op::Press(combo) = op else { continue };
            if rule.ends_on_release || !reaches_end(input, routine, at + 1, combo) {
                continue;
            }
            let span = input.lowered.op_spans[number][at];
            findings.push(
                Finding::new(
                    Code::UnreleasedPress,
                    span,
                    "nothing releases this on some way to the end",
                )
                .label("let go only because the run ends")
                .help("write `release` behind it, or a block that releases it: `hold KEY { ... }`"),
            );
        }
    }
}

/// Whether the end is reached from an operation without releasing the keys.
fn reaches_end(
    input: &LintInput<'_>,
    routine: &Routine,
    from: usize,
    combo: &KeyCombinationExpr,
) -> bool {
    let releases = |op: &Op| matches!(op, Op::Release(other) if other == combo);
    let mut open = vec![from];
    let mut seen = BTreeSet::new();
    while let Some(at) = open.pop() {
        let Some(op) = routine.ops.get(at) else { return true };
        if !seen.insert(at) {
            continue;
        }
        match op {
            Op::Release(other) if other == combo => {}
            Op::Call(called, _) if input.lowered.set.performs(*called, &releases) => {}
            // It waits to be stopped, which is meant.
            Op::Wait(None) => {}
            Op::Stop(_) => return true,
            Op::Jump(target) | Op::OnFailure(target) => open.push(*target),
            Op::JumpUnless(_, target) | Op::NextIteration(target) => open.extend([at + 1, *target]),
            Op::AnyOf(targets) => open.extend(targets),
            _ => open.push(at + 1),
        }
    }
    false
}
