//! Time from a key of the keyboard to the injected key at the focused window, beside a baseline: the
//! smallest client that does the same. `cargo bench --bench desktop` prints the figures.
//!
//! Both run at the same time as processes of their own, each with its key, and take turns of a few
//! presses. A noisy machine is then as noisy for the one as for the other.

mod baseline;
mod measure;

use std::time::Duration;

use lantern_stage::{Display, Editor, Person, Target};
use measure::{Client, Running, Samples, print_pair, stolen_time};

/// How often two that cannot be there at the same time take turns.
const TURNS: usize = 12;
/// Presses in one such turn.
const PRESSES: usize = 200;
/// Presses in one turn of baseline and program.
const FEW_PRESSES: usize = 10;
/// How often they take turns.
const SHORT_TURNS: usize = TURNS * PRESSES / FEW_PRESSES;
/// From one press to the next at the pace of a quick hand: the cores have gone to sleep by then, and
/// little of anybody's code is in the cache.
const PAUSE_OF_A_HAND: Duration = Duration::from_millis(20);
/// How often they take turns then.
const TURNS_OF_A_HAND: usize = 60;

/// The baseline answers this key, the program the next one.
const BASELINE_KEY: (&str, u8) = ("f8", 74);
const BASELINE_BUTTON: (&str, u8) = ("right-button", 3);
/// The key of the program, for when the baseline takes its place.
const F9: u8 = 75;

fn main() {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    if let [role, task, detail] = arguments.as_slice()
        && role == "baseline"
    {
        baseline::work(task, detail.parse().expect("it is a number"));
        return;
    }
    let mut bench = Bench::on(Display::start("us"));
    let plain = "when key f9 => tap a\n";
    let lifting = "when key ctrl+shift+f9 => tap a\n";
    let on_button = "when key middle-button => tap a\n";
    println!("{} presses of each, microseconds", TURNS * PRESSES);
    let ten = format!("{plain}{}", other_rules(9));
    let ten_lifting = format!("{lifting}{}", other_rules(9));
    let many = many_rules();
    let hungry = hungry_rules();
    // `cargo bench --bench desktop -- unbound` measures one part only.
    let wanted = arguments.iter().find(|argument| !argument.starts_with('-'));
    let wants = |part: &str| wanted.is_none_or(|wanted| wanted == part);
    if wants("hotkey") {
        bench.compare("hotkey to injected key, 10 rules", "plain", "f9", &ten);
        let what = "hotkey to injected key, ctrl+shift held, 10 rules";
        bench.compare(what, "lifting", "ctrl+shift+f9", &ten_lifting);
        let what = "hotkey to injected key, 10,000 rules on 100 combinations by program";
        bench.compare(what, "plain", "f9", &many);
    }
    if wants("remap") {
        bench.compare("remapped key to the key it stands for", "remap", "f9", "remap f9 to a\n");
    }
    if wants("button") {
        bench.compare("button to injected key", "button", "middle-button", on_button);
    }
    if wants("typing") {
        bench.typing();
    }
    if wants("pace") {
        bench.pace();
    }
    if wants("pastes") {
        pastes();
    }
    if wants("companions") {
        companions();
    }
    if wants("counts") {
        bench.compare_rules("10,000 rules against 10", ["10", "10,000"], [&ten, &many]);
        let what = "one program that needs 100 combinations at once, against 10 rules";
        bench.compare_rules(what, ["10", "100 taken"], [&ten, &hungry]);
    }
    if wants("unbound") {
        // As on any desktop, a window manager has keys of its own taken already: the first grab on
        // a screen costs every key more than the next hundred do.
        let mut bench = Bench::with_window_manager();
        bench.unbound("a key that is not bound, 10,000 rules", &many);
        bench.unbound("a key that is not bound, 100 combinations taken", &hungry);
    }
    if wants("clicks") {
        bench.clicks();
    }
    if wants("footprint") {
        bench.footprint();
    }
    if wants("hand") {
        println!("\nat the pace of a hand, {} presses of each", TURNS_OF_A_HAND * FEW_PRESSES);
        bench.pause = PAUSE_OF_A_HAND;
        bench.turns = TURNS_OF_A_HAND;
        bench.compare("hotkey to injected key", "plain", "f9", plain);
        bench.compare("button to injected key", "button", "middle-button", on_button);
    }
}

/// The intervals between moments.
fn print_intervals(what: &str, moments: &[std::time::Instant]) {
    let mut spans: Vec<f64> =
        moments.windows(2).map(|two| (two[1] - two[0]).as_secs_f64() * 1000.0).collect();
    spans.sort_by(f64::total_cmp);
    let at = |share: f64| spans[((spans.len() - 1) as f64 * share) as usize];
    println!(
        "\n{what}: {} intervals, milliseconds: 1 % {:.2}, median {:.2}, 99 % {:.2}",
        spans.len(),
        at(0.01),
        at(0.5),
        at(0.99)
    );
}

/// From the key to the moment in which the clipboard holds again what it held: an editor has the text then.
fn pastes() {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    let mut person = Person::sit_down(&display);
    let _editor = Editor::open(&mut display, "shift.txt");
    display.copy("what was there", "UTF8_STRING");
    let running = Client::Program { rules: "when key f9 => paste \"core 12\"\n" }.start(&display);
    let mut spans = Samples::default();
    for _ in 0..50 {
        let copies = display.copies();
        let start = std::time::Instant::now();
        person.tap("f9");
        let owners = copies.collect(Duration::from_millis(600));
        assert_eq!(owners.len(), 2, "first the text is there, then what was there before");
        spans.add(owners[1] - start);
    }
    let (median, p99) = (spans.median() / 1000.0, spans.p99() / 1000.0);
    println!("\n50 pastes into an editor, milliseconds: median {median:.1}, 99 % {p99:.1}");
    running.stop();
}

/// Memory and wake-ups once the bus, sound and accessibility have each been used.
fn companions() {
    let mut display = Display::start("us");
    display.manage();
    display.start_bus();
    display.start_notices();
    display.start_accessibility();
    display.start_sound();
    let mut person = Person::sit_down(&display);
    let target = Target::open(&display);
    let rules = "when key f5 => notify \"stored\"\nwhen key f6 => volume down 3%\n\
                 when key f7 => choose \"Edit\", \"Copy\"\nwhen key f8 => hint \"rack 4\" for 100ms\n";
    let running = Client::Program { rules }.start(&display);
    for key in ["f5", "f6", "f7", "f8"] {
        person.tap(key);
        target.rest(Duration::from_secs(1));
    }
    // The notice goes away in the meantime, of which its server tells.
    std::thread::sleep(Duration::from_secs(12));
    let before = running.sleeps();
    std::thread::sleep(Duration::from_secs(10));
    println!("\nafter a notice, a change of volume, a look for menus and a hint");
    println!("  {} wake-ups in ten seconds", running.sleeps() - before);
    println!("  {:.1} MB proportional memory", running.memory());
    running.stop();
}

/// Rules that want other keys.
fn other_rules(count: usize) -> String {
    (0..count).map(|n| format!("when key super+ctrl+f{} => tap b\n", n + 1)).collect()
}

/// A hundred combinations, the first of them `f9`.
fn combination(number: usize) -> String {
    let modifiers = ["ctrl+alt+", "super+", "super+alt+", "ctrl+super+", "alt+shift+"];
    match number {
        0 => "f9".to_owned(),
        number => format!("{}f{}", modifiers[number / 20], number % 20 + 1),
    }
}

/// 1,000 programs with ten rules each, all from the same 100 combinations.
fn many_rules() -> String {
    let mut text = String::new();
    for app in 0..1000 {
        let name = if app == 500 { "corelog".to_owned() } else { format!("program-{app}") };
        text.push_str(&format!("in app \"{name}\" {{\n"));
        for rule in 0..10 {
            let combo = combination((app % 10) + rule * 10);
            text.push_str(&format!(
                "when key {combo} => tap {}\n",
                if combo == "f9" { 'a' } else { 'b' }
            ));
        }
        text.push_str("}\n");
    }
    text
}

/// 100 rules on 100 combinations, all for the program in front.
fn hungry_rules() -> String {
    let step = |number| if number == 0 { "a" } else { "b" };
    (0..100).map(|n| format!("when key {} => tap {}\n", combination(n), step(n))).collect()
}

struct Bench {
    display: Display,
    person: Person,
    target: Target,
    /// From when a press has settled to the next.
    pause: Duration,
    /// How often baseline and program take turns.
    turns: usize,
}

impl Bench {
    fn on(display: Display) -> Bench {
        let person = Person::sit_down(&display).unchecked();
        let target = Target::open(&display);
        target.pretend_active("corelog");
        Bench { display, person, target, pause: Duration::ZERO, turns: SHORT_TURNS }
    }

    fn with_window_manager() -> Bench {
        let mut display = Display::start("us");
        display.manage();
        Bench::on(display)
    }

    /// One turn: presses the combination so often and times the injected key.
    fn turn(&mut self, combo: &str, presses: usize, samples: &mut Samples) {
        let keys: Vec<&str> = combo.split('+').collect();
        let (last, held) = keys.split_last().expect("a combination has a key");
        for key in held {
            self.person.press(key);
        }
        self.target.rest(Duration::from_millis(30));
        for _ in 0..presses {
            let start = std::time::Instant::now();
            self.person.press(last);
            let got = self.target.expect_press(measure::A);
            samples.add(got.at - start);
            self.person.release(last);
            // What is put back afterwards must have come before the next press.
            self.target.settle(&self.person, held.len());
            self.target.rest(self.pause);
        }
        for key in held.iter().rev() {
            self.person.release(key);
        }
        self.target.rest(Duration::from_millis(30));
    }

    fn compare(&mut self, what: &str, baseline: &str, combo: &str, rules: &str) {
        let last = combo.rsplit('+').next().expect("a combination has a key");
        let (key, detail) = if baseline == "button" { BASELINE_BUTTON } else { BASELINE_KEY };
        let of_floor = combo.replace(last, key);
        let clients = [Client::Baseline { task: baseline, detail }, Client::Program { rules }];
        let running = clients.map(|client| client.start(&self.display));
        let mut both = [Samples::default(), Samples::default()];
        let (mut kept, mut left_out) = (0, 0);
        while kept < self.turns && left_out < self.turns {
            let stolen = stolen_time();
            let mut turns = [Samples::default(), Samples::default()];
            for (samples, combo) in turns.iter_mut().zip([&of_floor, combo]) {
                self.turn(combo, FEW_PRESSES, samples);
            }
            // What a virtual machine's host takes falls upon the one or the other.
            if stolen_time() == stolen {
                both.iter_mut().zip(turns).for_each(|(all, turn)| all.append(turn));
                kept += 1;
            } else {
                left_out += 1;
            }
        }
        running.into_iter().for_each(Running::stop);
        print_pair(what, "baseline", "lantern", &[&both[0], &both[1]]);
        if left_out > 0 {
            println!("  {left_out} of {} turns left out: the host took time", kept + left_out);
        }
    }

    /// Two sets of rules, both with `f9`.
    fn compare_rules(&mut self, what: &str, names: [&str; 2], rules: [&str; 2]) {
        let mut both = [Samples::default(), Samples::default()];
        for _ in 0..TURNS {
            for (samples, rules) in both.iter_mut().zip(rules) {
                let running = Client::Program { rules }.start(&self.display);
                self.turn("f9", PRESSES, samples);
                running.stop();
            }
        }
        print_pair(what, names[0], names[1], &[&both[0], &both[1]]);
    }

    /// A key that no rule wants: without a program, with the baseline's one grab, with ours.
    fn unbound(&mut self, what: &str, rules: &str) {
        let clients = [
            None,
            Some(Client::Baseline { task: "plain", detail: F9 }),
            Some(Client::Program { rules }),
        ];
        let mut all = [Samples::default(), Samples::default(), Samples::default()];
        // What is measured is a few microseconds, so it takes more turns than the rest.
        for _ in 0..4 * TURNS {
            for (samples, client) in all.iter_mut().zip(&clients) {
                let running = client.as_ref().map(|client| client.start(&self.display));
                if running.is_some() {
                    // The keys for the program in front are really taken.
                    self.person.tap("f9");
                    self.target.expect_press(measure::A);
                    self.target.rest(Duration::from_millis(10));
                }
                self.turn("a", PRESSES, samples);
                if let Some(running) = running {
                    running.stop();
                }
            }
        }
        let [nobody, baseline, program] = all;
        print_pair(what, "nobody", "lantern", &[&nobody, &program]);
        print_pair(
            "  the baseline's one grab beside it",
            "nobody",
            "baseline",
            &[&nobody, &baseline],
        );
    }

    /// 1,000 clicks a second for two seconds, and the time from the stop key to the last of them.
    fn clicks(&mut self) {
        let rules = "when key f6 again stops { repeat every 1ms { click left } }\n";
        let running = Client::Program { rules }.start(&self.display);
        println!("\nclicks, asked for 1,000 a second for 2 s, five times");
        for _ in 0..5 {
            self.person.tap("f6");
            let first = self.target.expect(1)[0].at;
            let mut arrived = 1;
            while first.elapsed() < Duration::from_secs(2) {
                let got = self.target.next(Duration::from_millis(100));
                arrived += usize::from(got.is_some_and(|got| got.down));
            }
            let stop = std::time::Instant::now();
            self.person.tap("f6");
            let late = self.target.rest(Duration::from_millis(200));
            let last =
                late.last().map_or(Duration::ZERO, |got| got.at.saturating_duration_since(stop));
            println!(
                "  {:>5} a second arrived; the last one {:.2} ms after the stop key",
                arrived / 2,
                last.as_secs_f64() * 1000.0
            );
        }
        running.stop();
    }

    /// 20,000 characters, against the bare loop.
    fn typing(&mut self) {
        const COUNT: usize = 20_000;
        let rules = format!("when key f9 => type `{}`\n", "a".repeat(COUNT));
        let conn = self.display.connect();
        let mut both = [Samples::default(), Samples::default()];
        for _ in 0..TURNS / 2 {
            let start = std::time::Instant::now();
            baseline::type_bare(&conn, COUNT);
            both[0].add(self.last_of(2 * COUNT) - start);
            let running = Client::Program { rules: &rules }.start(&self.display);
            let start = std::time::Instant::now();
            self.person.tap("f9");
            both[1].add(self.last_of(2 * COUNT) - start);
            running.stop();
        }
        print_pair("20,000 characters typed", "bare loop", "lantern", &[&both[0], &both[1]]);
    }

    /// When the last of so many presses and releases came.
    fn last_of(&self, count: usize) -> std::time::Instant {
        self.target.expect(count).last().expect("something came").at
    }

    /// How even a loop of clicks and a slow movement are.
    fn pace(&mut self) {
        let rules = "when key f6 again stops { repeat every 10ms { click left } }\n\
                     when key f7 { repeat 10 times { move to 100, 100; move to 900, 600 over 300ms } }\n";
        let running = Client::Program { rules }.start(&self.display);
        self.person.tap("f6");
        let presses: Vec<std::time::Instant> =
            self.target.expect(400).into_iter().filter(|got| got.down).map(|got| got.at).collect();
        self.person.tap("f6");
        self.target.rest(Duration::from_millis(100));
        print_intervals("clicks every 10 ms", &presses);
        let moves = self.display.movements();
        self.person.tap("f7");
        let times = moves.collect(Duration::from_millis(600));
        // The jump back to the start is no part of the movement.
        print_intervals("a movement over 300 ms, ten times", &times);
        running.stop();
    }

    /// Prints what it takes to wait, and how often any thread of both processes wakes.
    fn rest_for_a_minute(&self, when: &str, running: &Running) {
        self.target.rest(Duration::from_millis(500));
        let before = running.sleeps();
        std::thread::sleep(Duration::from_secs(60));
        let wakes = running.sleeps() - before;
        let (own, guardian) = (running.memory(), running.guardian_memory());
        println!("  {when}: {wakes} wake-ups of any thread in a minute");
        println!(
            "  {when}: {:.1} MB proportional memory, {guardian:.1} of them the guardian",
            own + guardian
        );
    }

    /// Memory, wake-ups and the time to be ready.
    fn footprint(&mut self) {
        let rules: String = (0..1000)
            .map(|n| {
                let app = if n / 100 == 5 { "corelog".to_owned() } else { format!("p{}", n / 100) };
                format!("when key {} in app \"{app}\" => tap b\n", combination(n % 100))
            })
            .collect();
        println!("\nat rest, 1,000 rules on 100 combinations");
        let mut ready = Samples::default();
        for _ in 0..TURNS {
            let start = std::time::Instant::now();
            let running = Client::Program { rules: &rules }.start(&self.display);
            ready.add(start.elapsed());
            running.stop();
        }
        println!(
            "  ready after {:.1} ms (median), {:.1} ms (slowest)",
            ready.median() / 1000.0,
            ready.p99() / 1000.0
        );
        let running = Client::Program { rules: &rules }.start(&self.display);
        self.rest_for_a_minute("at the start", &running);
        // A day of use: every other second a key.
        for number in 0..20_000 {
            self.person.tap(&combination(number % 5 * 20));
            if number % 100 == 0 {
                self.target.rest(Duration::from_millis(2));
            }
        }
        self.rest_for_a_minute("after 20,000 keys", &running);
        running.stop();
    }
}
