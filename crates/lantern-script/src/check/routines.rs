//! Macros and the list of operations a body becomes.

use lantern_model::code::Op;
use lantern_model::{Parameter, Routine, RoutineId, SourceLocation};

use super::Checker;
use super::exprs::nothing;
use super::kinds::ValueKind;
use super::names::ItemKind;
use crate::Span;
use crate::tree::Macro;

/// Location of an operation, as a line and column and as a range of the text.
pub(super) type SourceRef = (SourceLocation, Span);

/// Operations as they are made, each with its place.
#[derive(Default)]
pub(super) struct Body {
    ops: Vec<Op>,
    places: Vec<SourceLocation>,
    spans: Vec<Span>,
}

impl Body {
    /// Adds an operation; gives its index.
    pub(super) fn push(&mut self, op: Op, (place, span): SourceRef) -> usize {
        self.ops.push(op);
        self.places.push(place);
        self.spans.push(span);
        self.ops.len() - 1
    }

    /// Lets the jump at `index` go to the next operation.
    pub(super) fn land(&mut self, index: usize) {
        let here = self.ops.len();
        match &mut self.ops[index] {
            Op::Jump(target)
            | Op::JumpUnless(_, target)
            | Op::NextIteration(target)
            | Op::OnFailure(target) => *target = here,
            Op::AnyOf(targets) => targets.push(here),
            other => unreachable!("only jumps land, not {other:?}"),
        }
    }

    /// The body as a routine, and where each of its operations stands.
    pub(super) fn into_routine(self, name: String, slots: usize) -> (Routine, Vec<Span>) {
        let Body { ops, places, spans } = self;
        (Routine { name, slots, ops, places, ..Routine::default() }, spans)
    }
}

impl Checker<'_> {
    pub(super) fn declare_macro(&mut self, definition: &Macro) {
        let id = RoutineId(self.lowered.set.routines.len());
        let parameters = definition.parameters.iter().map(|(parameter, default)| {
            // Defaults are lowered with the body; here it only counts that there is one.
            let default = default.as_ref().map(|_| nothing());
            Parameter { name: parameter.text.clone(), default }
        });
        self.lowered.set.routines.push(Routine {
            name: self.names.full(&definition.name.text),
            parameters: parameters.collect(),
            ..Routine::default()
        });
        self.lowered.calls.push(Vec::new());
        self.lowered.op_spans.push(Vec::new());
        self.declare(ItemKind::Macro, &definition.name, id.0, ValueKind::Any);
        self.declare_started(&definition.body);
    }

    pub(super) fn lower_macro(&mut self, definition: &Macro) {
        self.names.begin_body();
        let entry = self.names.get(ItemKind::Macro, &definition.name.text);
        let id = RoutineId(entry.expect("macros are declared before they are lowered").index);
        let mut parameters = Vec::new();
        let mut kinds = Vec::new();
        for (name, default) in &definition.parameters {
            let default = default.as_ref().map(|default| self.lower_expr(default));
            kinds.push(default.as_ref().map_or(ValueKind::Any, |(_, kind)| *kind));
            let default = default.map(|(expr, _)| expr);
            parameters.push(Parameter { name: name.text.clone(), default });
        }
        for ((name, _), kind) in definition.parameters.iter().zip(kinds) {
            self.declare_local(name, kind);
        }
        let mut body = Body::default();
        self.lower_steps(&definition.body, &mut body);
        self.end_block(0);
        self.lowered.calls[id.0] = std::mem::take(&mut self.body_calls);
        let name = self.names.full(&definition.name.text);
        let (mut routine, spans) = body.into_routine(name, self.names.slots());
        self.lowered.op_spans[id.0] = spans;
        routine.parameters = parameters;
        routine.fingerprint = self.print_of(definition.whole);
        self.lowered.set.routines[id.0] = routine;
    }
}
