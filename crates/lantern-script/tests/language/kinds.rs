//! Kinds of values: what goes together is accepted, what does not is said, before anything runs.

use crate::names;

/// A value of each kind, as written.
const VALUES: [(&str, &str); 7] = [
    ("number", "2"),
    ("text", "\"ice\""),
    ("truth", "true"),
    ("duration", "20ms"),
    ("share", "10%"),
    ("key", "key up"),
    ("list", "[1, 2]"),
];

fn value(kind: &str) -> &'static str {
    VALUES.iter().find(|(name, _)| *name == kind).expect("it is a kind").1
}

/// What is said of an expression.
fn said(expr: &str) -> Vec<&'static str> {
    names(&format!("let x = {expr}\nwhen key f9 => log x\n"))
}

/// Holds every pair of kinds against an operator: those listed fit, all others do not.
fn only_fits(operator: &str, fitting: &[(&str, &str)]) {
    for (left, left_text) in VALUES {
        for (right, right_text) in VALUES {
            let expr = format!("{left_text} {operator} {right_text}");
            let fits = fitting.contains(&(left, right));
            let expected: &[&str] = if fits { &[] } else { &["wrong-kind"] };
            assert_eq!(said(&expr), expected, "{expr}");
        }
    }
}

#[test]
fn plus_joins_texts_and_adds_what_is_measured() {
    let same = ["number", "text", "duration", "share"].map(|kind| (kind, kind));
    only_fits("+", &same);
}

#[test]
fn minus_takes_from_its_like() {
    only_fits("-", &["number", "duration", "share"].map(|kind| (kind, kind)));
}

#[test]
fn times_stretches_durations_and_shares() {
    only_fits(
        "*",
        &[
            ("number", "number"),
            ("duration", "number"),
            ("number", "duration"),
            ("share", "number"),
            ("number", "share"),
        ],
    );
}

#[test]
fn division_shrinks_or_compares() {
    only_fits(
        "/",
        &[
            ("number", "number"),
            ("duration", "number"),
            ("duration", "duration"),
            ("share", "number"),
        ],
    );
    only_fits("%", &[("number", "number")]);
}

#[test]
fn only_what_has_an_order_is_compared_by_it() {
    for operator in ["<", "<=", ">", ">="] {
        only_fits(operator, &["number", "duration", "share"].map(|kind| (kind, kind)));
    }
}

#[test]
fn equality_is_for_two_of_one_kind() {
    let same = VALUES.map(|(kind, _)| (kind, kind));
    only_fits("==", &same);
    only_fits("!=", &same);
}

#[test]
fn and_or_not_are_for_truths() {
    only_fits("and", &[("truth", "truth")]);
    only_fits("or", &[("truth", "truth")]);
    for (kind, text) in VALUES {
        let expected: &[&str] = if kind == "truth" { &[] } else { &["wrong-kind"] };
        assert_eq!(said(&format!("not {text}")), expected, "not {text}");
    }
}

#[test]
fn lists_contain_anything_and_texts_contain_texts() {
    let lists = VALUES.map(|(kind, _)| ("list", kind));
    let all: Vec<_> = lists.into_iter().chain([("text", "text")]).collect();
    only_fits("contains", &all);
}

#[test]
fn steps_want_their_kinds() {
    let steps = [
        ("wait {}", &["duration"][..]),
        ("tap a {} times", &["number"]),
        ("tap a every {}", &["duration"]),
        ("type \"x\" every {}", &["duration"]),
        ("tap ({})", &["key"]),
        ("hold ctrl+({}) { wait }", &["key"]),
        ("move by {}, 1", &["number"]),
        ("move to 1, {}", &["number"]),
        ("scroll down {}", &["number"]),
        ("repeat {} times { wait }", &["number"]),
        ("repeat every {} { wait }", &["duration"]),
        ("repeat while {} { wait }", &["truth"]),
        ("if {} { wait }", &["truth"]),
        ("launch {}", &["text"]),
        ("run \"x\" at most {}", &["duration"]),
        ("hint \"x\" for {}", &["duration"]),
        ("hint \"x\" at {}, 1", &["number"]),
        ("log {}", &["number", "text", "truth", "duration", "share", "key", "list"]),
        ("type {}", &["number", "text", "truth", "duration", "share", "key", "list"]),
    ];
    for (step, fitting) in steps {
        for (kind, _) in VALUES {
            let text = step.replacen("{}", "x", 1);
            let rules = format!("let x = {}\nwhen key f9 {{ {text} }}\n", value(kind));
            let expected: &[&str] = if fitting.contains(&kind) { &[] } else { &["wrong-kind"] };
            assert_eq!(names(&rules), expected, "{text} with {kind}");
        }
    }
}

#[test]
fn a_name_keeps_its_kind_wherever_it_is_set() {
    for (kind, text) in VALUES {
        for (other, other_text) in VALUES {
            let rules = format!(
                "let x = {text}\nwhen key f9 {{ let y = {text}; log \"{{x}} {{y}}\"; set x = {other_text}; set y = {other_text} }}\n"
            );
            let expected: &[&str] = if kind == other { &[] } else { &["wrong-kind"; 2] };
            assert_eq!(names(&rules), expected, "{kind} set to {other}");
        }
    }
}

#[test]
fn what_is_known_only_when_it_runs_is_left_to_the_run() {
    for body in [
        "wait x",
        "tap (x)",
        "move by x, x",
        "log x + x",
        "if x { wait }",
        "repeat x times { wait }",
    ] {
        let rules = format!("macro m(x) {{ {body} }}\nwhen key f9 => m(1)\n");
        assert_eq!(names(&rules), [""; 0], "{body}");
    }
}

#[test]
fn operators_bind_as_they_are_read_and_sides_are_checked_once() {
    assert_eq!(said("1 + 2 * 3 < 4 and not 5 == 6 or true"), [""; 0]);
    assert_eq!(said("(1 + 2) * 20ms + 5ms < 1s"), [""; 0]);
    assert_eq!(said("not 1 < 2 and true"), [""; 0]);
    assert_eq!(said("1 + 2 and true"), ["wrong-kind"]);
    assert_eq!(said("(1 + \"a\") * (2 - true)"), ["wrong-kind"; 2]);
}
