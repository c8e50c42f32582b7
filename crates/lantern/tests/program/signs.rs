//! Sounds, notices and speech with a real sound server, notification daemon and speech program; and
//! what is said when they are missing.

use std::fs::File;
use std::path::{Path, PathBuf};
use std::process::{Child, Stdio};

use lantern_stage::{Display, Person};

use crate::running::Running;

/// A display with a sound server.
fn with_sound() -> (Display, Person) {
    let mut display = Display::start("us");
    display.start_sound();
    let person = Person::sit_down(&display);
    (display, person)
}

/// What the output's volume reads, in whole percent.
fn volume(display: &Display) -> String {
    let said = display.ask("pactl", &["get-sink-volume", "bench"]);
    let percent = said.split('/').nth(1).expect("it says a share");
    percent.trim().to_owned()
}

fn is_muted(display: &Display) -> bool {
    display.ask("pactl", &["get-sink-mute", "bench"]).contains("yes")
}

#[test]
fn x11_the_volume_changes_by_exactly_that_step() {
    let (display, mut person) = with_sound();
    display.ask("pactl", &["set-sink-volume", "bench", "40%"]);
    let rules = "when key f7 => volume up 3%
when key f8 => volume down 5%
when key f9 => volume toggle mute
when key f10 => volume set 99%
when key f11 => log \"done\"
";
    let running = Running::start(&display, rules);
    person.tap("f7");
    person.tap("f7");
    display.wait_until("46 %", |display| volume(display) == "46%");
    display.wait_until("all", |display| {
        person.tap("f7");
        volume(display) == "100%"
    });
    person.tap("f10");
    display.wait_until("99 %", |display| volume(display) == "99%");
    person.tap("f7");
    display.wait_until("all", |display| volume(display) == "100%");
    person.tap("f8");
    display.wait_until("95 %", |display| volume(display) == "95%");
    assert!(!is_muted(&display));
    person.tap("f9");
    display.wait_until("silence", is_muted);
    person.tap("f9");
    display.wait_until("sound", |display| !is_muted(display));
    assert_eq!(volume(&display), "95%");
    running.stop();
}

#[test]
fn x11_a_sound_server_that_was_started_anew_is_found_again() {
    let (mut display, mut person) = with_sound();
    let mut running = Running::start(&display, "when key f7 => volume set 30%\n");
    person.tap("f7");
    display.wait_until("30 %", |display| volume(display) == "30%");
    display.end_last();
    person.tap("f7");
    let line = running.wait_for("failed");
    assert!(line.contains("no sound server answers; install and start"), "{line}");
    display.start_sound();
    person.tap("f7");
    display.wait_until("30 %", |display| volume(display) == "30%");
    running.stop();
}

/// Frames of silence ahead of the tone: an output that was at rest may swallow the first ones.
const AHEAD: u32 = 24_000;

/// A WAV file of silence and a falling tone, in 48,000 frames a second, both channels alike.
fn write_tone(path: &Path) -> Vec<i16> {
    let samples: Vec<i16> = (0..AHEAD + 16_000)
        .flat_map(|at| {
            let at = at.saturating_sub(AHEAD);
            let phase = f64::from(at) * (0.09 - f64::from(at) * 2e-6);
            let sample = (phase.sin() * 12_000.0) as i16;
            [sample, sample]
        })
        .collect();
    let bytes: Vec<u8> = samples.iter().flat_map(|sample| sample.to_le_bytes()).collect();
    let mut file = Vec::new();
    file.extend_from_slice(b"RIFF");
    file.extend_from_slice(&(36 + bytes.len() as u32).to_le_bytes());
    file.extend_from_slice(b"WAVEfmt ");
    file.extend_from_slice(&16u32.to_le_bytes());
    file.extend_from_slice(&1u16.to_le_bytes());
    file.extend_from_slice(&2u16.to_le_bytes());
    file.extend_from_slice(&48_000u32.to_le_bytes());
    file.extend_from_slice(&192_000u32.to_le_bytes());
    file.extend_from_slice(&4u16.to_le_bytes());
    file.extend_from_slice(&16u16.to_le_bytes());
    file.extend_from_slice(b"data");
    file.extend_from_slice(&(bytes.len() as u32).to_le_bytes());
    file.extend_from_slice(&bytes);
    std::fs::write(path, file).expect("the file can be written");
    samples
}

/// Something that writes down what the output plays.
struct Recorder {
    child: Child,
    path: PathBuf,
}

impl Recorder {
    fn start(display: &Display) -> Recorder {
        let path = display.folder().join("played.raw");
        let child = display
            .command("parec")
            .args(["--device=bench.monitor", "--format=s16le", "--rate=48000", "--channels=2"])
            .arg("--latency-msec=200")
            .stdout(File::create(&path).expect("it can be made"))
            .stderr(Stdio::null())
            .spawn()
            .expect("parec is installed");
        let recorder = Recorder { child, path };
        display.wait_until("the recorder", |_| recorder.size() > 0);
        recorder
    }

    fn size(&self) -> u64 {
        std::fs::metadata(&self.path).map_or(0, |about| about.len())
    }

    /// What was played, once that many more bytes were.
    fn samples(&mut self, display: &Display, more: u64) -> Vec<i16> {
        let wanted = self.size() + more;
        display.wait_until("what was played", |_| self.size() >= wanted);
        let _ = self.child.kill();
        let _ = self.child.wait();
        let bytes = std::fs::read(&self.path).expect("it is there");
        bytes.chunks_exact(2).map(|two| i16::from_le_bytes([two[0], two[1]])).collect()
    }
}

impl Drop for Recorder {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

#[test]
fn x11_a_sound_is_played_as_it_is_in_each_format() {
    let (display, mut person) = with_sound();
    let folder = display.folder().to_owned();
    let wave = folder.join("bell.wav");
    let tone = write_tone(&wave);
    for ending in ["flac", "ogg", "mp3"] {
        let made = display
            .command("sox")
            .arg(&wave)
            .arg(folder.join(format!("bell.{ending}")))
            .status()
            .expect("sox is installed");
        assert!(made.success(), "{ending}");
    }
    let rules = "when key f7 { play \"~/bell.wav\"; log \"over\" }
when key f8 { play \"~/bell.flac\"; log \"over\" }
when key f9 { play \"~/bell.ogg\"; log \"over\" }
when key f10 { play \"~/bell.mp3\"; log \"over\" }
when key f11 { play \"~/bell.txt\" else { log \"no bell\" } }
when key f12 { play \"~/none.wav\" }
";
    std::fs::write(folder.join("bell.txt"), "a bell").expect("it can be written");
    let mut running = Running::start(&display, rules);
    for (key, exact) in [("f7", true), ("f8", true), ("f9", false), ("f10", false)] {
        let mut recorder = Recorder::start(&display);
        person.tap(key);
        running.wait_for(": ended");
        let played = recorder.samples(&display, 20_000);
        let loud: i64 = played.iter().map(|sample| i64::from(*sample).pow(2)).sum();
        let meant: i64 = tone.iter().map(|sample| i64::from(*sample).pow(2)).sum();
        if exact {
            let begin = played.iter().position(|sample| *sample != 0).expect("it sounds");
            let first = tone.iter().position(|sample| *sample != 0).expect("it sounds");
            let (meant, got) = (&tone[first..], &played[begin..]);
            assert!(got.starts_with(meant), "{key}: what was played differs");
            assert!(
                got[meant.len()..].iter().all(|sample| *sample == 0),
                "{key}: and nothing else"
            );
        } else {
            let share = loud as f64 / meant as f64;
            assert!((0.9..1.1).contains(&share), "{key}: {share} of the energy");
        }
    }
    person.tap("f12");
    let line = running.wait_for("none.wav");
    assert!(line.contains("cannot read"), "{line}");
    running.stop();
}

#[test]
fn x11_a_sound_ends_with_its_run() {
    let (display, mut person) = with_sound();
    write_tone(&display.folder().join("bell.wav"));
    let rules = "when key f7 again stops { repeat { play \"~/bell.wav\" } }\n";
    let mut running = Running::start(&display, rules);
    person.tap("f7");
    let sounds =
        |display: &Display| !display.ask("pactl", &["list", "short", "sink-inputs"]).is_empty();
    display.wait_until("the sound", sounds);
    person.tap("f7");
    running.wait_for("stopped");
    display.wait_until("silence", |display| !sounds(display));
    running.stop();
}

#[test]
fn x11_a_text_is_said_aloud() {
    let (display, mut person) = with_sound();
    let rules = "when key f7 { say \"section twelve\"; log \"over\" }\n";
    let mut running = Running::start(&display, rules);
    let mut recorder = Recorder::start(&display);
    person.tap("f7");
    running.wait_for(": ended");
    let played = recorder.samples(&display, 0);
    let loud = played.iter().filter(|sample| sample.unsigned_abs() > 1000).count();
    assert!(loud > 4000, "only {loud} loud samples of {}", played.len());
    running.stop();
}

#[test]
fn x11_a_notice_is_shown_by_the_sessions_daemon() {
    let mut display = Display::start("us");
    display.start_bus();
    display.start_notices();
    let mut person = Person::sit_down(&display);
    let rules = "when key f7 { notify \"Core 12 <b> & \\\"15\\\"\\nstored in rack 4 & <i>5\"; log \"over\" }\n";
    let mut running = Running::start(&display, rules);
    person.tap("f7");
    running.wait_for(": ended");
    let kept = display.notices();
    assert!(kept.contains(r#"Core 12 <b> & \"15\""#), "{kept}");
    assert!(kept.contains("stored in rack 4 &amp; &lt;i&gt;5"), "{kept}");
    assert!(kept.contains("Cold Lantern"), "{kept}");
    running.stop();
}

#[test]
fn x11_failures_and_the_panic_combination_are_notices() {
    let mut display = Display::start("us");
    display.start_bus();
    display.start_notices();
    let mut person = Person::sit_down(&display);
    let rules = "settings { panic = key f12 }\nwhen key f5 => launch \"no-such-scanner\"\n\
                 when key f6 { notify \"after the second failure\"; log \"x\" }\n";
    let mut running = Running::start(&display, rules);
    for _ in 0..2 {
        person.tap("f5");
        running.wait_for("no-such-scanner");
    }
    person.tap("f6");
    running.wait_for(": ended");
    display.wait_until("the last notice", |display| {
        display.notices().contains("after the second failure")
    });
    let kept = display.notices();
    assert_eq!(kept.matches("\"when key f5 failed\"").count(), 1, "one notice a minute: {kept}");
    person.tap("f12");
    display.wait_until("the notice of the stop", |display| {
        display.notices().contains("Everything is stopped and paused")
    });
    person.press("f12");
    running.wait_for("rules are active again");
    person.release("f12");
    display.wait_until("the notice of the end", |display| {
        display.notices().contains("Rules are active again")
    });
    person.tap("f6");
    running.wait_for(": ended");
    running.stop();
}

#[test]
fn x11_what_is_missing_is_named_in_one_line() {
    let display = Display::start("us");
    let mut person = Person::sit_down(&display);
    write_tone(&display.folder().join("bell.wav"));
    let rules = "when key f5 => notify \"Stored\"
when key f6 => volume up 3%
when key f7 => play \"~/bell.wav\"
when key f8 => say \"stored\"
when key f9 => choose \"Edit\", \"Copy\"
when key f10 => log \"still at work\"
";
    let empty = display.folder().join("empty");
    std::fs::create_dir(&empty).expect("it can be made");
    let mut running = Running::start_with(&display, rules, |command| {
        command.env("PATH", &empty);
    });
    for (key, words) in [
        ("f5", "there is no session bus; start lantern in the session"),
        ("f6", "no sound server answers; install and start a sound server"),
        ("f7", "no sound server answers; install and start a sound server"),
        ("f8", "no speech program is installed; install espeak-ng or speech-dispatcher"),
        ("f9", "there is no session bus"),
    ] {
        person.tap(key);
        running.wait_for(words);
    }
    person.tap("f10");
    running.wait_for("fired");
    running.stop();
}

#[test]
fn x11_a_bus_without_a_daemon_is_said_to_lack_it() {
    let mut display = Display::start("us");
    // A bus without service activation.
    display.set_variable("XDG_DATA_DIRS", "/nowhere");
    display.start_bare_bus();
    let mut person = Person::sit_down(&display);
    let rules = "when key f5 => notify \"Stored\"\nwhen key f9 => choose \"Edit\", \"Copy\"\n";
    let mut running = Running::start(&display, rules);
    person.tap("f5");
    running.wait_for(
        "no notification service runs in this session; install and start a notification daemon",
    );
    person.tap("f9");
    running.wait_for("the accessibility bus cannot be reached; install at-spi2-core");
    running.stop();
}
