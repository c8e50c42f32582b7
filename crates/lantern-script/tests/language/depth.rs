//! Input whose depth or length would exhaust a stack, or time: it is refused, or read in linear time.

use crate::{check_text, names};

fn repeated(count: usize, text: impl Fn(usize) -> String) -> String {
    (0..count).map(text).collect()
}

#[test]
fn a_value_may_have_256_operators_in_a_row_and_no_more() {
    let sum = |count: usize| format!("when key f9 => log \"{{{}1}}\"\n", "1 + ".repeat(count));
    assert_eq!(names(&sum(256)), [""; 0]);
    assert_eq!(names(&sum(257)), ["too-much"]);
    assert_eq!(names(&sum(100_000)), ["too-much"]);
}

#[test]
fn operators_count_through_brackets_calls_lists_and_texts() {
    let long = format!("{}1", "1 + ".repeat(200));
    for value in [
        format!("({long}) + {long}"),
        format!("round({long}) + {long}"),
        format!("[{long}] == [1] or {}", ["n == 1"; 100].join(" or ")),
        format!("\"{{{long}}}\" + {}", ["\"x\""; 100].join(" + ")),
    ] {
        let text = format!("let n = 1\nwhen key f9 {{ log \"{{n}}\"; set n = {value} }}\n");
        assert!(names(&text).contains(&"too-much"), "{value}");
    }
    // Beside each other they do not add up.
    let list = vec![long; 100].join(", ");
    let text = format!("when key f9 => for i in [{list}] {{ log \"{{i}}\" }}\n");
    assert_eq!(names(&text), [""; 0]);
}

#[test]
fn whatever_stands_within_itself_is_refused_not_followed() {
    let deep = 20_000;
    let within = |open: &str, inner: &str, close: &str| {
        format!("{}{inner}{}", open.repeat(deep), close.repeat(deep))
    };
    for text in [
        format!("when key f9 => log \"{{{}}}\"\n", within("(", "1", ")")),
        format!("when key f9 => log \"{{{}}}\"\n", within("[", "1", "]")),
        format!("when key f9 => log \"{{{}1}}\"\n", "- ".repeat(deep)),
        format!("when key f9 if {}true => tap a\n", "not ".repeat(deep)),
        format!("when key f9 => log \"{{{}}}\"\n", within("round(", "1", ")")),
        format!("when key f9 {{ {} }}\n", within("repeat 2 times { ", "tap a", " }")),
        format!("let n = 1\nwhen key f9 {{ {}tap a }}\n", "if n == 1 { tap b } else ".repeat(deep)),
        format!(
            "let n = 1\nwhen key f9 {{ if n == 1 {{ tap b }}{} }}\n",
            " else if n == 2 { tap c }".repeat(deep)
        ),
        within("in app \"x\" {\n", "when key f9 => tap a\n", "}\n"),
        within("layer x {\n", "when key f9 => tap a\n", "}\n"),
        format!("when voice \"next {}\" => tap a\n", within("[", "core", "]")),
    ] {
        assert!(check_text(&text).rules.is_none(), "{}", &text[..60]);
    }
}

#[test]
fn long_chains_of_macros_are_followed_without_depth() {
    let count = 10_000;
    let chain = repeated(count, |n| {
        format!("macro step-{n}() {{ press a; repeat {{ step-{}() }} }}\n", n + 1)
    });
    let text = format!(
        "{chain}macro step-{count}() {{ wait 1s; release a }}\nwhen key f9 {{ press a; step-0() }}\n"
    );
    assert_eq!(names(&text), [""; 0]);
}

#[test]
fn a_ring_of_macros_is_named_at_each_of_them() {
    let count = 3_000;
    let ring =
        repeated(count, |n| format!("macro step-{n}() {{ tap a; step-{}() }}\n", (n + 1) % count));
    let found = names(&format!("{ring}when key f9 => step-0()\n"));
    assert_eq!(found.len(), count);
    assert!(found.iter().all(|code| *code == "calls-itself"));
}
