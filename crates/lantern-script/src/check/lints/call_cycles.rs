//! Macros that call themselves.

use lantern_model::RoutineId;

use super::LintInput;
use crate::check::graph;
use crate::codes::Code;
use crate::{Finding, Span};

/// Says which macros call themselves, straight or through others.
pub(in crate::check) fn call_cycles(input: &LintInput<'_>) -> Vec<Finding> {
    let lowered = input.lowered;
    let edges: Vec<Vec<usize>> =
        lowered.calls.iter().map(|calls| calls.iter().map(|(id, _)| id.0).collect()).collect();
    let component = graph::components(&edges);
    let mut findings = Vec::new();
    for (caller, calls) in lowered.calls.iter().enumerate() {
        let closes = |(id, _): &&(RoutineId, Span)| component[id.0] == component[caller];
        if let Some((_, span)) = calls.iter().find(closes) {
            let name = &lowered.set.routines[caller].name;
            findings.push(
                Finding::new(Code::CallsItself, *span, format!("the macro `{name}` calls itself"))
                    .label("leads back to the same macro")
                    .help("use `repeat` to do something again; 200 calls within calls end the run"),
            );
        }
    }
    findings
}
