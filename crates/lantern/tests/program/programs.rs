//! Programs: by desktop entry, by their own name, by what opens a file or an address; and their end.

use std::path::Path;

use lantern_stage::{Display, Person};

use crate::running::Running;

/// A display, a person, and a folder for entries in the person's own data.
fn desk() -> (Display, Person) {
    let display = Display::start("us");
    let person = Person::sit_down(&display);
    std::fs::create_dir_all(display.folder().join("data/applications/store"))
        .expect("it can be made");
    (display, person)
}

fn write(display: &Display, name: &str, text: &str) {
    let path = display.folder().join(name);
    std::fs::create_dir_all(path.parent().expect("it has one")).expect("it can be made");
    std::fs::write(path, text).expect("it can be written");
}

/// A program that writes down its folder and its arguments, a line each.
fn write_logger(display: &Display) -> String {
    use std::os::unix::fs::PermissionsExt;
    let path = display.folder().join("core log");
    let marks = display.folder().join("started");
    let script = format!(
        "#!/bin/sh\n{{ pwd; printf '%s\\n' \"$@\"; echo end; }} > '{0}.new'; mv '{0}.new' '{0}'\n",
        marks.display()
    );
    std::fs::write(&path, script).expect("it can be written");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o755)).expect("it is ours");
    path.display().to_string()
}

/// What the logger was started with, once it was.
fn started(display: &Display) -> Vec<String> {
    let marks = display.folder().join("started");
    display.wait_until("the program", |_| marks.is_file());
    let text = std::fs::read_to_string(&marks).expect("it is there");
    std::fs::remove_file(&marks).expect("it is ours");
    let mut lines: Vec<String> = text.lines().map(str::to_owned).collect();
    assert_eq!(lines.pop().as_deref(), Some("end"));
    lines
}

#[test]
fn x11_a_desktop_entry_is_started_as_its_standard_says() {
    let (display, mut person) = desk();
    let logger = write_logger(&display);
    let folder = display.folder().join("rack 4");
    std::fs::create_dir(&folder).expect("it can be made");
    let entry = format!(
        "[Desktop Entry]\nType=Application\nName=Core Log\nName[de]=Kernbuch\nIcon=core\n\
         Path={}\nExec=\"{logger}\" --depth=%f %U %i %c \"two words\" 100%%\n",
        folder.display()
    );
    write(&display, "data/applications/store/core-log.desktop", &entry);
    let hidden =
        format!("[Desktop Entry]\nType=Application\nName=Melter\nHidden=true\nExec=\"{logger}\"\n");
    write(&display, "data/applications/melter.desktop", &hidden);
    let missing =
        "[Desktop Entry]\nType=Application\nName=Drill\nTryExec=no-such-drill\nExec=drill\n";
    write(&display, "data/applications/drill.desktop", missing);
    let terminal = format!(
        "[Desktop Entry]\nType=Application\nName=Night log\nTerminal=true\nExec=\"{logger}\" night\n"
    );
    write(&display, "data/applications/night.desktop", &terminal);
    let rules = "when key f5 => launch \"store-core-log\"
when key f6 => launch \"core log\" as book
when key f7 => launch \"melter\"
when key f8 => launch \"drill\"
when key f9 => launch \"Night Log\"
when key f10 => launch \"store-core-log.desktop\"
";
    let mut running = Running::start(&display, rules);
    let expected = [
        &folder.display().to_string(),
        "--depth=",
        "--icon",
        "core",
        "Core Log",
        "two words",
        "100%",
    ];
    for key in ["f5", "f6", "f10"] {
        person.tap(key);
        let line = running.wait_for("started Core Log, process ");
        assert!(line.trim_end().ends_with(|sign: char| sign.is_ascii_digit()), "{line}");
        assert_eq!(started(&display), expected, "{key}");
    }
    for (key, name) in [("f7", "melter"), ("f8", "drill")] {
        person.tap(key);
        let line = running.wait_for("failed");
        assert!(line.contains(&format!("there is no program or desktop entry `{name}`")), "{line}");
    }
    person.tap("f9");
    assert_eq!(started(&display)[1..], ["night"]);
    running.stop();
}

#[test]
fn x11_files_folders_and_addresses_open_with_the_persons_programs() {
    let (display, mut person) = desk();
    let logger = write_logger(&display);
    let entry = |name: &str, code: &str, kinds: &str| {
        let text = format!(
            "[Desktop Entry]\nType=Application\nName={name}\nExec=\"{logger}\" {name} {code}\n\
             MimeType={kinds}\n"
        );
        write(&display, &format!("data/applications/{name}.desktop"), &text);
    };
    entry("reader", "%f", "text/plain;");
    entry("browser", "%u", "x-scheme-handler/https;");
    entry("files", "%U", "inode/directory;");
    entry("tables", "%F", "text/csv;");
    let lists = "[Default Applications]\nx-scheme-handler/https=gone.desktop;browser.desktop\n\
                 text/csv=tables.desktop\ninode/directory=files.desktop\ntext/plain=reader.desktop\n";
    write(&display, "config/mimeapps.list", lists);
    write(&display, "racks/depths 4.csv", "core,depth\n12,310\n");
    write(&display, "racks/hut.conf", "rack 4\n");
    write(&display, "racks/core.xyz", "\u{1}\u{2}");
    let rules = "when key f5 => open \"https://store.example/rack?4&5\"
when key f6 => open \"~/racks/depths 4.csv\"
when key f7 => open \"~/racks\"
when key f8 => open \"~/racks/hut.conf\"
when key f9 => open \"~/racks/none.csv\"
when key f10 => open \"boat:rack-4\"
when key f11 => open (\"file://\" + home-path)
";
    let home = display.folder().display().to_string();
    let rules = format!("let home-path = \"{home}/racks/depths%204.csv\"\n{rules}");
    let mut running = Running::start(&display, &rules);
    let path = |name: &str| Path::new(&home).join(name).display().to_string();
    for (key, words) in [
        ("f5", ["browser".to_owned(), "https://store.example/rack?4&5".to_owned()]),
        ("f6", ["tables".to_owned(), path("racks/depths 4.csv")]),
        ("f7", ["files".to_owned(), path("racks")]),
        ("f8", ["reader".to_owned(), path("racks/hut.conf")]),
        ("f11", ["tables".to_owned(), path("racks/depths 4.csv")]),
    ] {
        person.tap(key);
        assert_eq!(started(&display)[1..], words, "{key}");
    }
    person.tap("f9");
    let line = running.wait_for("failed");
    assert!(line.contains("none.csv") && line.contains("No such file"), "{line}");
    person.tap("f10");
    let line = running.wait_for("failed");
    assert!(
        line.contains("no program is set to open boat:rack-4 (x-scheme-handler/boat)"),
        "{line}"
    );
    running.stop();
}

#[test]
fn x11_a_program_that_never_ends_is_ended_with_all_it_started() {
    let (display, mut person) = desk();
    let marks = display.folder().join("pid");
    let rules = format!(
        "when key f7 => launch \"sh -c 'sleep 7000 & echo $! > {0}; wait'\" as saw
when key f8 => end saw
when key f9 {{ run \"sleep\", \"7000\" at most 300ms else {{ log \"late\" }}; tap a }}
",
        marks.display()
    );
    let mut running = Running::start(&display, &rules);
    person.tap("f7");
    let line = running.wait_for("started sh, process ");
    let process: u32 =
        line.rsplit(' ').next().and_then(|word| word.parse().ok()).expect("a number");
    assert!(Path::new(&format!("/proc/{process}")).exists());
    let read = || std::fs::read_to_string(&marks).unwrap_or_default();
    display.wait_until("its child", |_| read().ends_with('\n'));
    let child = read().trim().to_owned();
    let lives = |pid: &str| {
        let status = std::fs::read_to_string(format!("/proc/{pid}/stat")).unwrap_or_default();
        !status.is_empty() && !status.contains(") Z ")
    };
    assert!(lives(&child));
    person.tap("f8");
    // What it started itself it also takes away when it has ended; only then does it know of it.
    let is_taken_away = || !Path::new(&format!("/proc/{process}")).exists();
    display.wait_until("the end of both", |_| !lives(&child) && is_taken_away());
    person.tap("f8");
    let line = running.wait_for("failed");
    assert!(line.contains("it has ended already"), "{line}");
    person.tap("f9");
    running.wait_for(": ended");
    running.stop();
}
