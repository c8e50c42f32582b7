//! Wrong inputs of people who know other languages, with the advice for each.

use std::fmt::Write as _;

use lantern_script::Checked;

use crate::check_text;

/// A wrong line each; blank lines and those with `#` in front divide the file for its reader.
const WRONG_INPUTS: &str = include_str!("wrong_inputs.txt");

fn wrong_inputs() -> impl Iterator<Item = &'static str> {
    WRONG_INPUTS.lines().filter(|line| !line.is_empty() && !line.starts_with("# "))
}

/// The text with every certain fix made.
fn mended(text: &str, checked: &Checked) -> Option<String> {
    let mut fixes: Vec<_> = checked
        .findings
        .iter()
        .filter_map(|finding| finding.fix.as_ref())
        .filter(|fix| fix.is_certain)
        .collect();
    fixes.sort_by_key(|fix| std::cmp::Reverse(fix.span));
    if fixes.is_empty() {
        return None;
    }
    let mut text = text.to_owned();
    for fix in fixes {
        text.replace_range(fix.span.range(), &fix.text);
    }
    Some(text)
}

#[test]
fn every_wrong_input_is_answered_as_its_snapshot_says() {
    let mut told = String::new();
    for line in wrong_inputs() {
        let text = format!("{line}\n");
        let checked = check_text(&text);
        writeln!(told, "{line}").expect("a string takes all");
        for finding in &checked.findings {
            writeln!(told, "    {}", finding.message).expect("a string takes all");
            if let Some(help) = &finding.help {
                writeln!(told, "      help: {help}").expect("a string takes all");
            }
        }
        if let Some(mended) = mended(&text, &checked) {
            writeln!(told, "      fix:  {}", mended.trim_end()).expect("a string takes all");
        }
        told.push('\n');
    }
    insta::assert_snapshot!(told);
}

#[test]
fn every_wrong_input_has_an_error_and_advice() {
    for line in wrong_inputs() {
        let checked = check_text(&format!("{line}\n"));
        let errors: Vec<_> = checked.findings.iter().filter(|finding| finding.is_error()).collect();
        assert!(!errors.is_empty(), "{line}: nothing is wrong");
        for error in errors {
            assert!(error.help.is_some(), "{line}: {} has no advice", error.message);
        }
    }
}

#[test]
fn a_certain_fix_leaves_no_error() {
    for line in wrong_inputs() {
        let mut text = format!("{line}\n");
        let mut checked = check_text(&text);
        let before: Vec<String> =
            checked.findings.iter().map(|finding| finding.message.clone()).collect();
        // What one mistake hid may need a fix of its own.
        for _ in 0..4 {
            let Some(better) = mended(&text, &checked) else { break };
            text = better;
            checked = check_text(&text);
        }
        if text.trim_end() == line {
            continue;
        }
        let left: Vec<&str> = checked
            .findings
            .iter()
            .filter(|finding| finding.is_error())
            .map(|finding| finding.message.as_str())
            .filter(|message| !before.iter().any(|earlier| earlier == message))
            // The files and macros that some name are not there.
            .filter(|message| !message.starts_with("there is no file"))
            .filter(|message| !message.starts_with("there is no layer"))
            .filter(|message| *message != "there is no value `n`")
            .collect();
        assert!(left.is_empty(), "{line}\nbecame {text}but: {left:?}");
    }
}
