//! What rules and steps become.

use lantern_model::code::Op;
use lantern_model::{KeySpec, PressKind, ReentryPolicy, RuleSet, TriggerKind};

use crate::check_text;

fn rules(text: &str) -> RuleSet {
    let checked = check_text(text);
    checked.rules.unwrap_or_else(|| panic!("{:?}", checked.findings))
}

#[test]
fn a_set_of_keys_is_one_trigger_for_each_and_brings_its_key() {
    let set = rules("when key ctrl+[1..4, up except 3] as k => type \"{k}\"\n");
    let keys: Vec<(String, KeySpec)> = set.rules[0]
        .triggers
        .iter()
        .map(|trigger| match &trigger.kind {
            TriggerKind::Key { combo, payload_key: brings, .. } => (combo.to_string(), *brings),
            other => panic!("{other:?}"),
        })
        .collect();
    let combos: Vec<&str> = keys.iter().map(|(combo, _)| combo.as_str()).collect();
    assert_eq!(combos, ["ctrl+1", "ctrl+2", "ctrl+4", "ctrl+up"]);
    assert!(set.rules[0].has_payload);
    assert!(matches!(keys[3].1, KeySpec::Named(key) if key.name() == "up"));
}

#[test]
fn clauses_stand_in_the_rule() {
    let set = rules(
        "in app \"CoreLog\" {\n## Feed\n## more\nwhen key f9 released\n  or key f10\n  named feed again is ignored while held { wait }\n}\n",
    );
    let rule = &set.rules[0];
    assert_eq!(rule.label, "Feed");
    assert_eq!(rule.name.as_deref(), Some("feed"));
    assert_eq!(rule.filter.apps.as_deref(), Some(&["corelog".to_owned()][..]));
    assert_eq!(rule.reentry, ReentryPolicy::Ignore);
    assert!(rule.ends_on_release && !rule.passes_key_through && !rule.repeats_while_held);
    let manners: Vec<PressKind> = rule
        .triggers
        .iter()
        .map(|trigger| match trigger.kind {
            TriggerKind::Key { press: manner, .. } => manner,
            ref other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(manners, [PressKind::Released, PressKind::Pressed]);
    assert_eq!((rule.place.line, rule.place.column), (4, 1));
}

#[test]
fn blocks_become_pairs_of_operations_and_jumps_land_behind_them() {
    let set =
        rules("when key f9 { repeat 3 times { if is-down(shift) { tap a } else { tap b } } }\n");
    let ops = &set.routine(set.rules[0].body).ops;
    let names: Vec<String> = ops
        .iter()
        .map(|op| match op {
            Op::Repeat { .. } => "repeat".to_owned(),
            Op::NextIteration(end) => format!("turn or {end}"),
            Op::JumpUnless(_, to) => format!("unless {to}"),
            Op::Jump(to) => format!("jump {to}"),
            Op::Tap { .. } => "tap".to_owned(),
            Op::EndBlock => "end".to_owned(),
            other => format!("{other:?}"),
        })
        .collect();
    assert_eq!(names, ["repeat", "turn or 7", "unless 5", "tap", "jump 6", "tap", "jump 1", "end"]);
}

#[test]
fn texts_are_read_as_written() {
    let cases = [
        (r#""a\n\t\"\\\u{2122}""#, "a\n\t\"\\™"),
        (r#""{{x}}""#, "{x}"),
        ("`raw {x} \\n`", "raw {x} \\n"),
        ("\"\"\"\n        two\n          lines\n        \"\"\"", "two\n  lines"),
        (r#""""#, ""),
    ];
    for (written, meant) in cases {
        let set = rules(&format!("when key f9 => type {written}\n"));
        let Op::Type { text, .. } = &set.routine(set.rules[0].body).ops[0] else {
            panic!("it types");
        };
        let value = lantern_model::Value::Text(meant.to_owned());
        assert_eq!(*text, lantern_model::code::Expr::Value(value), "{written}");
    }
}

#[test]
fn ten_thousand_levels_deep_is_refused_not_fatal() {
    for (open, close) in [("(", ")"), ("[", "]"), ("not ", ""), ("-", "")] {
        let text = format!("let n = {}1{}\n", open.repeat(10_000), close.repeat(10_000));
        assert!(check_text(&text).rules.is_none());
    }
    let text = format!("when key f9 {{ {} }}", "repeat {".repeat(10_000));
    assert!(check_text(&text).rules.is_none());
    let text = format!("{} when key f9 => tap a", "in app \"x\" {\n".repeat(10_000));
    assert!(check_text(&text).rules.is_none());
}
