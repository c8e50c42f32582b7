//! Values from outside that try to become commands or arguments.

use lantern_stage::wait_until;

use crate::at_work;
use crate::home::Home;

/// Values that a shell would act on, were they not quoted.
const VALUES: [&str; 9] = [
    "$(touch owned)",
    "a `touch owned`",
    "; touch owned #",
    "' ; touch owned ; '",
    "\" ; touch owned ; \"",
    "a b",
    "\\",
    "-n",
    "* ? ~ {a,b}",
];

/// Lines in which a value would be acted on, or not be one word.
const REFUSED: [&str; 12] = [
    "shell \"echo \\\"{v}\\\"\"",
    "shell \"echo 'a {v} b'\"",
    "shell \"cat <<E\\n{v}\\nE\"",
    "shell \"echo \\\\{v}\"",
    "shell \"echo `echo {v}`\"",
    "shell \"echo $(( {v} ))\"",
    "shell \"echo ${{x:-{v}}}\"",
    "shell \"echo x # {v}\"",
    "shell \"echo ${v}\"",
    "launch \"{v} core\"",
    "launch \"touch-{v}\"",
    "launch \"touch '{v}'\"",
];

#[test]
fn lines_in_which_a_value_is_no_word_are_refused() {
    let home = Home::new();
    for line in REFUSED {
        // Backquotes would end a text that begins with one.
        home.write("bench.lantern", format!("macro note(v) {{ {line} }}\n"));
        let called = home.call(&["check", "bench.lantern"]);
        assert!(
            called.status == 1 && called.stdout.contains("unsafe-value"),
            "{line}: {}",
            called.stdout
        );
    }
}

#[test]
fn a_value_is_one_word_of_a_shell_and_one_argument_of_a_program() {
    let home = Home::new();
    let lines = [
        "shell \"printf '%s\\\\n' {v} >> words\"",
        "shell \"w={v}; printf '%s\\\\n' \\\"$w\\\" >> words\"",
        "shell \"printf '%s\\\\n' $(printf '%s' {v}) >> /dev/null; printf '%s\\\\n' x{v} >> words\"",
    ];
    let shells: String = lines
        .iter()
        .enumerate()
        .map(|(number, line)| {
            format!("macro shell-{number}(v) {{ {line}; log upper(\"done\") }}\n")
        })
        .collect();
    let tool = home
        .write("count.sh", "#!/bin/sh\nfor word; do printf '%s\\n' \"$word\"; done > \"$0.$#\"\n");
    let executable = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(&tool, executable).expect("it is ours");
    let rules = format!(
        "{shells}macro start(v) {{ launch \"{0} first {{v}} last\" }}\nmacro name(v) {{ launch v else {{ log upper(\"no such\") }} }}\n",
        tool.display()
    );
    let mut run = at_work::run(&home, &rules);
    for value in VALUES {
        for (number, before) in [(0, ""), (1, ""), (2, "x")] {
            home.call(&["fire", &format!("shell-{number}"), "--", value]);
            run.expect("DONE");
            let words = std::fs::read_to_string(home.path().join("words")).expect("it was written");
            let expected = if before.is_empty() { value.to_owned() } else { format!("x{value}") };
            assert_eq!(words.trim_end_matches('\n'), expected, "shell-{number}");
            std::fs::remove_file(home.path().join("words")).expect("it is there");
        }
        home.call(&["fire", "start", "--", value]);
        let told = home.path().join("count.sh.3");
        wait_until("the program to have three arguments", || {
            std::fs::read_to_string(&told).is_ok_and(|text| text.ends_with("last\n"))
        });
        let text = std::fs::read_to_string(&told).expect("it is there");
        assert_eq!(text, format!("first\n{value}\nlast\n"));
        std::fs::remove_file(&told).expect("it is there");
    }
    // A name that comes from outside names a program, and brings no arguments.
    home.call(&["fire", "name", "--", &format!("{} owned", tool.display())]);
    run.expect("NO SUCH");
    run.stop();
    assert!(!home.path().join("owned").exists());
}

/// Pieces of lines that open, close and join everything a shell knows.
const PIECES: [&str; 24] = [
    "\"", "\"", "'", "'", "\\", "`", "`", "$(", ")", "${x:-", "}", "$((", "))", "$[", "]", "#",
    " ", "\n", "<<E\n", "E\n", ";", "echo ", "$", "(",
];

/// A line as a rule writes it, between double quotes.
fn escaped(piece: &str) -> String {
    piece
        .replace('\\', "\\\\")
        .replace('"', "\\\"")
        .replace('\n', "\\n")
        .replace('{', "{{")
        .replace('}', "}}")
}

/// Lines of random pieces: what the checker accepts, a real shell executes nothing of.
#[test]
fn no_accepted_line_executes_its_value() {
    let home = Home::new();
    let mut random = fastrand::Rng::with_seed(23);
    let lines: Vec<(String, String)> = (0..1000)
        .map(|_| {
            let count = random.usize(1..12);
            let mut piece = || PIECES[random.usize(..PIECES.len())];
            let before: String = (0..count).map(|_| piece()).collect();
            let after: String = (0..2).map(|_| piece()).collect();
            (format!("echo {before}"), after)
        })
        .collect();
    let macros: String = lines
        .iter()
        .enumerate()
        .map(|(number, (before, after))| {
            format!(
                "macro m-{number}(v) {{ shell \"{}{{v}}{}\" }}\n",
                escaped(before),
                escaped(after)
            )
        })
        .collect();
    home.write("bench.lantern", macros);
    let called = home.call(&["check", "--json", "bench.lantern"]);
    let data: serde_json::Value = serde_json::from_str(&called.stdout).expect("it is data");
    let refused: std::collections::BTreeSet<u64> = data["findings"]
        .as_array()
        .expect("a list")
        .iter()
        .filter(|finding| finding["name"] == "unsafe-value")
        .map(|finding| finding["line"].as_u64().expect("a line"))
        .collect();
    let mut accepted = 0;
    for (number, (before, after)) in lines.iter().enumerate() {
        if refused.contains(&(number as u64 + 1)) {
            continue;
        }
        accepted += 1;
        for value in [
            "$(touch owned)",
            "`touch owned`",
            "\n touch owned\n",
            "'; touch owned; '",
            "); touch owned; (",
        ] {
            let line = format!("{before}'{}'{after}", value.replace('\'', "'\\''"));
            for shell in ["/bin/sh", "/bin/bash"] {
                let mut command = std::process::Command::new(shell);
                command.args(["-c", &line]).current_dir(home.path());
                command.stdin(std::process::Stdio::null()).output().expect("there is a shell");
                assert!(!home.path().join("owned").exists(), "{shell} executed {line:?}");
            }
        }
    }
    assert!(
        accepted > 100 && refused.len() > 300,
        "{accepted} accepted, {} refused",
        refused.len()
    );
}
