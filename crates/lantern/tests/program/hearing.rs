//! Speech, from a recording or a real sound server's microphone to the rule that it fires.

use std::path::{Path, PathBuf};

use lantern_stage::{Display, Stage};

use crate::home::Home;
use crate::running::Running;

/// Rules that are spoken to.
const RULES: &str = "settings { attention = \"lantern\" }
words rack = \"north | south | door\"
## Next section
when voice \"next [core] section\" => type \"section 2\"
## Bag
when voice \"bag <number> to the <rack> rack\" as said => log \"bag {said.number}, {said.rack}\"
";

/// A recording that ships with the example.
fn recording(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../examples/sounds").join(name)
}

/// The same sound once more in another form.
fn converted(home: &Home, name: &str, words: &[&str]) -> PathBuf {
    sox(home, name, words, &[])
}

/// A recording in another form, or changed by effects.
fn sox(home: &Home, name: &str, form: &[&str], effects: &[&str]) -> PathBuf {
    let path = home.path().join(format!("{}.wav", effects.join("-")));
    let mut sox = std::process::Command::new("sox");
    let status = sox.arg(recording(name)).args(form).arg(&path).args(effects).status();
    assert!(status.expect("sox is installed").success());
    path
}

fn try_on(home: &Home, file: &Path) -> crate::home::Called {
    try_by(home, RULES, file)
}

fn try_by(home: &Home, rules: &str, file: &Path) -> crate::home::Called {
    home.write("bench.lantern", rules);
    let file = file.to_str().expect("it is text");
    home.call(&["voice", "try", "--rules", "bench.lantern", file])
}

#[test]
fn recordings_are_recognised_with_scores() {
    let home = Home::new();
    let heard = try_on(&home, &recording("bag.wav"));
    assert_eq!(heard.status, 0, "{}{}", heard.stdout, heard.stderr);
    assert!(heard.stdout.contains("lantern bag seventeen to the north rack"), "{}", heard.stdout);
    let talk = try_on(&home, &recording("talk.wav"));
    assert_eq!(talk.status, 1, "{}", talk.stdout);
    assert!(talk.stdout.contains("none of the phrases") || talk.stdout.contains("not sure enough"));
    // "The lantern next section": a phrase to the letter, but for the word before it.
    let spoken_of = try_on(&home, &recording("spoken-of.wav"));
    assert_eq!(spoken_of.status, 1, "{}", spoken_of.stdout);
    assert!(spoken_of.stdout.contains("lantern next section"), "{}", spoken_of.stdout);
    // "The lander on the rack" sounds like "lantern note a crack".
    let crack = RULES.replace("next [core] section", "note a crack");
    let sounds_like = try_by(&home, &crack, &recording("lander.wav"));
    assert_eq!(sounds_like.status, 1, "{}", sounds_like.stdout);
    assert!(sounds_like.stdout.contains("lantern note a crack"), "{}", sounds_like.stdout);
    let called = try_on(&home, &recording("called.wav"));
    assert!(called.stdout.contains("called by the attention word"), "{}", called.stdout);
}

#[test]
fn recordings_are_the_same_as_data() {
    let home = Home::new();
    home.write("bench.lantern", RULES);
    let files = ["bag.wav", "talk.wav"].map(|name| recording(name).display().to_string());
    let mut words = vec!["voice", "try", "--json", "--rules", "bench.lantern"];
    words.extend(files.iter().map(String::as_str));
    let heard = home.call(&words);
    let data: serde_json::Value = serde_json::from_str(&heard.stdout).expect("it is JSON");
    let said = &data["files"][0]["utterances"][0];
    assert_eq!((&said["counts"], &said["outcome"]), (&true.into(), &"Bag".into()));
    assert!(said["score"].as_f64().is_some_and(|score| score > 0.5));
    assert_eq!(data["files"][1]["utterances"][0]["counts"], false);
}

#[test]
fn any_form_of_sound_will_do() {
    let home = Home::new();
    for words in [&["-r", "44100", "-c", "2"][..], &["-r", "8000"], &["-r", "48000", "-b", "24"]] {
        let heard = try_on(&home, &converted(&home, "next-section.wav", words));
        assert!(heard.stdout.contains("next section"), "{words:?}: {}", heard.stdout);
    }
    let samples = std::fs::read(recording("next-section.wav")).expect("it is there");
    let mut command = home.command();
    command.args(["voice", "try", "--rules", "bench.lantern", "-"]);
    command.stdin(std::process::Stdio::piped()).stdout(std::process::Stdio::piped());
    let mut child = command.spawn().expect("the program starts");
    let mut stdin = child.stdin.take().expect("it is a pipe");
    // Raw samples begin behind the 44 bytes of a WAV file's head.
    std::io::Write::write_all(&mut stdin, &samples[44..]).expect("it reads");
    drop(stdin);
    let output = child.wait_with_output().expect("it ends");
    let said = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(said.contains("next section"), "{said}");
}

#[test]
fn sounds_without_speech_say_so_and_what_is_none_is_named() {
    let home = Home::new();
    let whole = std::fs::read(recording("bag.wav")).expect("it is there");
    let silent = [&whole[..44], &vec![0; 64_000]].concat();
    let clipped: Vec<u8> = (0..32_000).flat_map(|_| i16::MAX.to_le_bytes()).collect();
    for (name, bytes) in
        [("silent.wav", silent), ("clipped.wav", [&whole[..44], &clipped].concat())]
    {
        let heard = try_on(&home, &home.write(name, &bytes));
        assert_eq!(heard.status, 1, "{name}: {}", heard.stdout);
        assert!(heard.stderr.contains("no speech in it"), "{name}: {}", heard.stderr);
    }
    // A truncated file is recognised up to its end.
    let cut = try_on(&home, &home.write("cut.wav", &whole[..whole.len() / 2]));
    assert_eq!((cut.status, cut.stderr.as_str()), (1, ""), "{}", cut.stdout);
    for (name, bytes) in [("empty.wav", &b""[..]), ("words.wav", b"These are words.")] {
        let none = try_on(&home, &home.write(name, bytes));
        assert_eq!(none.status, 2, "{name}: {}", none.stdout);
        assert!(none.stderr.contains("is no sound"), "{name}: {}", none.stderr);
    }
    let absent = try_on(&home, Path::new("absent.wav"));
    assert!(absent.stderr.contains("cannot read absent.wav"), "{}", absent.stderr);
}

/// A desktop with a terminal and a microphone that hears what is played into it.
fn with_ears() -> Stage {
    let mut stage = Stage::set("us");
    start_sound(&mut stage.display);
    stage
}

fn start_sound(display: &mut Display) {
    display.start_sound();
    display.ask("pactl", &["load-module", "module-null-sink", "sink_name=room"]);
    display.ask("pactl", &["set-default-source", "room.monitor"]);
}

/// Plays speech into the room. Enough of it is ready that a busy machine leaves no gaps.
fn speak(display: &Display, name: &str) {
    let file = recording(name).display().to_string();
    display.ask("paplay", &["--device=room", "--latency-msec=800", &file]);
}

#[test]
fn x11_what_is_said_into_the_microphone_reaches_the_terminal() {
    let mut stage = with_ears();
    let mut running = Running::start(&stage.display, RULES);
    running.wait_for("the microphone is open");
    speak(&stage.display, "next-section.wav");
    running.wait_for("fired by voice");
    assert_eq!(stage.terminal.read(9), "section 2");
    speak(&stage.display, "talk.wav");
    let line = running.wait_for("not understood");
    assert!(line.contains("sure enough") || line.contains("none of the phrases"), "{line}");
    running.stop();
}

#[test]
fn x11_a_microphone_that_went_is_found_again_and_is_closed_when_nothing_counts() {
    let mut stage = with_ears();
    let rules = format!("{RULES}when voice \"stop listening\" in layer quiet => log \"x\"\n");
    let mut running = Running::start(&stage.display, &rules);
    running.wait_for("the microphone is open");
    stage.display.end_last();
    running.wait_for("hears nothing");
    start_sound(&mut stage.display);
    running.wait_for("the microphone is open");
    let lantern = |words: &[&str]| crate::running::lantern(&stage.display, words);
    assert!(lantern(&["pause"]).status.success());
    running.wait_for("the microphone is closed");
    let listening = stage.display.ask("pactl", &["list", "short", "source-outputs"]);
    assert_eq!(listening, "", "no phrase is active in a pause");
    assert!(lantern(&["resume"]).status.success());
    running.wait_for("the microphone is open");
    running.stop();
}

#[test]
fn x11_without_a_sound_server_it_is_said_and_keys_go_on() {
    let mut stage = Stage::set("us");
    let mut running =
        Running::start(&stage.display, &format!("{RULES}when key f9 => type \"ok\"\n"));
    let line = running.wait_for("hears nothing");
    assert!(line.contains("install and start a sound server"), "{line}");
    stage.person.tap("f9");
    assert_eq!(stage.terminal.read(2), "ok");
    running.stop();
}

#[test]
fn a_phrase_is_taught_listed_recognised_and_forgotten() {
    let home = Home::new();
    home.write("bench.lantern", "when voice \"naechste probe\" => log \"x\"\n");
    let none = home.call(&["voice", "teach"]);
    assert_eq!(none.status, 1, "{}", none.stderr);
    let said = recording("next-section.wav").display().to_string();
    let slower = sox(&home, "next-section.wav", &[], &["tempo", "0.9"]).display().to_string();
    let taught = home.call(&["voice", "teach", "naechste probe", &said, &slower]);
    assert_eq!(
        taught.stdout, "\"naechste probe\" is learnt from 2 examples\n",
        "{}",
        taught.stderr
    );
    assert!(home.call(&["voice", "teach"]).stdout.contains("naechste probe  2"));
    let faster = sox(&home, "next-section.wav", &[], &["tempo", "1.08"]);
    let faster = faster.display().to_string();
    let heard = home.call(&["voice", "try", "--rules", "bench.lantern", &faster]);
    assert!(heard.stdout.contains("naechste probe  when voice"), "{}", heard.stdout);
    let other = recording("talk.wav").display().to_string();
    assert_eq!(home.call(&["voice", "try", "--rules", "bench.lantern", &other]).status, 1);
    assert_eq!(home.call(&["voice", "teach", "naechste probe", "--forget"]).status, 0);
    assert_eq!(home.call(&["voice", "teach", "naechste probe", "--forget"]).status, 1);
    home.write(".local/share/cold-lantern/voice.json", "{\"format\": \"other\"");
    let broken = home.call(&["voice", "teach"]);
    assert_eq!(broken.status, 2, "{}", broken.stdout);
    assert!(broken.stderr.contains("voice.json"), "{}", broken.stderr);
}

#[test]
fn x11_a_program_may_hear_instead() {
    let mut stage = Stage::set("us");
    let fifo = stage.display.folder().join("said");
    let log = stage.display.folder().join("told");
    let script = stage.display.folder().join("hear");
    // It saves its input, and prints what is written into a pipe.
    let (told, said) = (log.display(), fifo.display());
    let text = format!("exec 3<&0; cat <&3 >'{told}' & exec cat <>'{said}'\n");
    std::fs::write(&script, text).expect("the file can be written");
    let made = std::process::Command::new("mkfifo").arg(&fifo).status();
    assert!(made.expect("mkfifo is there").success());
    let setting = format!("recogniser = \"sh {}\"; attention", script.display());
    let mut running = Running::start(&stage.display, &RULES.replace("attention", &setting));
    running.wait_for("the microphone is open");
    stage.display.wait_until("the phrases", |_| {
        std::fs::read_to_string(&log).is_ok_and(|told| told.contains("next [core] section"))
    });
    let say = |line: &str| {
        let mut pipe = std::fs::OpenOptions::new().write(true).open(&fifo).expect("it is read");
        std::io::Write::write_all(&mut pipe, line.as_bytes()).expect("it is read");
    };
    say("no line of data\n{\"text\": \"lantern next section\", \"confidence\": 0.2}\n");
    let unsure = running.wait_for("not understood");
    assert!(unsure.contains("not sure enough") && unsure.contains("20 %"), "{unsure}");
    say(
        "{\"text\": \"Lantern, next core section!\", \"confidence\": 0.9, \"from\": 1, \"until\": 2.5}\n",
    );
    running.wait_for("fired by voice");
    assert_eq!(stage.terminal.read(9), "section 2");
    let now = crate::running::lantern(&stage.display, &["sheet", "--now"]);
    let now = String::from_utf8_lossy(&now.stdout).into_owned();
    assert!(now.contains("say \"lantern next [core] section\" "), "{now}");
    crate::running::lantern(&stage.display, &["pause"]);
    let none = crate::running::lantern(&stage.display, &["sheet", "--now"]);
    assert_eq!(none.status.code(), Some(1), "a pause hears nothing");
    crate::running::lantern(&stage.display, &["resume"]);
    running.stop();
    let left =
        std::process::Command::new("pgrep").args(["-f", &script.display().to_string()]).status();
    assert!(!left.expect("pgrep is there").success(), "the program has ended with us");
}

#[test]
fn x11_a_program_that_does_not_hear_is_named() {
    let stage = Stage::set("us");
    let rules = RULES.replace("attention", "recogniser = \"false\"; attention");
    let mut running = Running::start(&stage.display, &rules);
    let line = running.wait_for("hears nothing");
    assert!(line.contains("`false` does not hear"), "{line}");
    running.stop();
}

#[test]
fn x11_what_was_understood_wrongly_is_learnt_when_the_person_says_so() {
    let stage = with_ears();
    let mut running = Running::start(&stage.display, RULES);
    let lantern = |words: &[&str]| {
        let output = crate::running::lantern(&stage.display, words);
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    };
    running.wait_for("the microphone is open");
    let (status, _, none) = lantern(&["voice", "wrong"]);
    assert!(status == Some(1) && none.contains("nothing was said yet"), "{none}");
    speak(&stage.display, "bag.wav");
    running.wait_for("fired by voice");
    let (_, told, _) = lantern(&["voice", "wrong", "--json"]);
    let told: serde_json::Value = serde_json::from_str(&told).expect("it is JSON");
    assert_eq!(told["words"], "lantern bag seventeen to the north rack");
    assert_eq!(told["others"][1], "lantern next core section");
    assert_eq!(told.get("example"), None, "recognised text is no sound");
    let (status, shown, _) = lantern(&["voice", "wrong"]);
    assert!(
        status == Some(1) && shown.contains("% sure\n  Bag"),
        "nothing is learnt unasked: {shown}"
    );
    let (status, learnt, said) = lantern(&["voice", "wrong", "--never"]);
    assert!(status == Some(0) && learnt.contains("means nothing"), "{learnt}{said}");
    speak(&stage.display, "bag.wav");
    let line = running.wait_for("not understood");
    assert!(line.contains("you said that this means nothing"), "{line}");
    assert!(lantern(&["voice", "teach"]).1.contains("(means nothing)"));
    assert_eq!(lantern(&["voice", "teach", "", "--forget"]).0, Some(0));
    let (_, learnt, _) = lantern(&["voice", "wrong", "--meant", "lantern next section"]);
    assert!(learnt.contains("this is \"lantern next section\" (1 examples of it now)"), "{learnt}");
    let (_, status, _) = lantern(&["status"]);
    assert!(
        status.contains("listens; the room is at") || status.contains("hears speech"),
        "{status}"
    );
    running.stop();
}

#[test]
fn without_the_speech_library_it_is_said_what_to_install_and_what_was_taught_is_heard() {
    let home = Home::new();
    home.write("bench.lantern", RULES);
    // What is found first under that name is no library.
    home.write("lib/libpocketsphinx.so.3", "none");
    let said = recording("next-section.wav").display().to_string();
    let try_it = || {
        let mut command = home.command();
        command.env("LD_LIBRARY_PATH", home.path().join("lib"));
        command.args(["voice", "try", "--rules", "bench.lantern", &said]);
        let output = command.output().expect("the program starts");
        let text = |bytes: &[u8]| String::from_utf8_lossy(bytes).into_owned();
        (output.status.code(), text(&output.stdout), text(&output.stderr))
    };
    let (status, _, talk) = try_it();
    assert!(status == Some(2) && talk.contains("install libpocketsphinx3"), "{talk}");
    let slower = sox(&home, "next-section.wav", &[], &["tempo", "0.94"]).display().to_string();
    let taught = home.call(&["voice", "teach", "lantern next section", &slower]);
    assert_eq!(taught.status, 0, "{}", taught.stderr);
    let (status, heard, talk) = try_it();
    assert!(status == Some(0) && heard.contains("Next section"), "{heard}{talk}");
}

#[test]
fn every_rule_of_the_demo_that_listens_is_heard_and_told_by_a_program() {
    let called = Home::new().call(&["demo", "--json"]);
    let data: serde_json::Value = serde_json::from_str(&called.stdout).expect("it is JSON");
    let speech = data["speech"].as_array().expect("there are lines");
    let lines: Vec<&str> = speech.iter().filter_map(serde_json::Value::as_str).collect();
    let rules = std::fs::read_to_string(recording("../spoken.lantern")).expect("it is there");
    let labels: Vec<&str> = rules.lines().filter_map(|line| line.strip_prefix("## ")).collect();
    assert!(labels.len() > 1, "{rules}");
    for label in labels {
        assert!(
            lines.iter().any(|line| line.ends_with(&format!(": {label}"))),
            "{label}: {lines:?}"
        );
    }
    let told: Vec<&&str> = lines.iter().filter(|line| line.starts_with("from a program")).collect();
    assert!(told[0].ends_with("section 2") && told[1].contains("bag 17"), "{lines:?}");
}

#[test]
fn what_was_taught_is_ranked_by_how_alike_it_was_said() {
    let home = Home::new();
    home.write("bench.lantern", RULES);
    let said = recording("next-section.wav").display().to_string();
    let slower = sox(&home, "next-section.wav", &[], &["tempo", "0.9"]).display().to_string();
    let bag = recording("bag.wav").display().to_string();
    assert_eq!(home.call(&["voice", "teach", "next section", &said, &slower]).status, 0);
    assert_eq!(home.call(&["voice", "teach", "next sections", &slower, &said]).status, 0);
    assert_eq!(home.call(&["voice", "teach", "bag", &bag]).status, 0);
    let alike = home.call(&["voice", "alike", "bench.lantern"]).stdout;
    assert!(alike.contains("taken for the other") && alike.contains("next sections"), "{alike}");
    let data = home.call(&["voice", "alike", "bench.lantern", "--json"]).stdout;
    let data: serde_json::Value = serde_json::from_str(&data).expect("it is JSON");
    let pairs = data["as_taught"].as_array().expect("there are pairs");
    assert_eq!((pairs.len(), &data["taught"]), (1, &3.into()), "{pairs:?}");
    assert!(pairs[0]["margin"].as_f64().is_some_and(|margin| margin < 1.0), "{pairs:?}");
}

#[test]
fn twenty_minutes_of_chatter_fire_nothing() {
    let home = Home::new();
    let sentences = [
        "the crew carried the old fan behind the store",
        "they wanted the next core of the fence before the storm",
        "somebody left a lantern in the snow near the north rack",
        "we found two bags of coffee at the end of the shift",
        "could you bring the lander to the workshop",
    ];
    // Said by voices of every pace, over and over until it is twenty minutes, with pauses that are long
    // enough to end a command.
    let pause = home.path().join("pause.wav");
    let mut sox = std::process::Command::new("sox");
    sox.args(["-n", "-r", "22050", "-b", "16", "-c", "1"]).arg(&pause).args(["trim", "0", "0.7"]);
    assert!(sox.status().expect("sox is installed").success());
    let mut pieces = Vec::new();
    for (number, sentence) in sentences.iter().enumerate() {
        for voice in ["en-us", "en-gb", "en-gb-scotland"] {
            let path = home.path().join(format!("{number}-{voice}.wav"));
            let pace = format!("{}", 130 + 12 * number);
            let mut speech = std::process::Command::new("espeak-ng");
            let status =
                speech.args(["-v", voice, "-s", &pace, "-w"]).arg(&path).arg(sentence).status();
            assert!(status.expect("espeak-ng is installed").success());
            pieces.extend([path, pause.clone()]);
        }
    }
    home.write("bench.lantern", RULES);
    let hear = |half: &str| {
        let chatter = home.path().join(half);
        let mut sox = std::process::Command::new("sox");
        sox.args(&pieces).args(["-r", "16000"]).arg(&chatter);
        let status = sox.args(["repeat", "11"]).status();
        assert!(status.expect("sox is installed").success());
        let data = std::fs::metadata(&chatter).expect("it is there").len();
        assert!(data > 10 * 60 * 32_000, "{} minutes", data / 60 / 32_000);
        let file = chatter.display().to_string();
        let heard = home.call(&["voice", "try", "--json", "--rules", "bench.lantern", &file]);
        assert_eq!(heard.status, 1, "{}", heard.stdout);
        let data: serde_json::Value = serde_json::from_str(&heard.stdout).expect("it is JSON");
        let utterances = data["files"][0]["utterances"].as_array().expect("there are some");
        assert!(utterances.len() > 100, "{}", utterances.len());
        assert!(utterances.iter().all(|said| said["counts"] == false), "{}", heard.stdout);
    };
    // Half by half, side by side.
    std::thread::scope(|scope| {
        scope.spawn(|| hear("first.wav"));
        hear("second.wav");
    });
}
