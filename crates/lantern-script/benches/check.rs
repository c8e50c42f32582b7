//! Reading and checking a set, its growth, and laying it out: each as a ratio to a smaller case in
//! the same run. `cargo bench -p lantern-script`

#![expect(clippy::disallowed_types, reason = "a benchmark measures time")]

mod mix;

use std::time::{Duration, Instant};

use lantern_script::{Source, check, format, render};

/// The shortest of several tries: the one least disturbed.
fn shortest<T>(tries: usize, mut work: impl FnMut() -> T) -> Duration {
    (0..tries)
        .map(|_| {
            let start = Instant::now();
            std::hint::black_box(work());
            start.elapsed()
        })
        .min()
        .expect("it is tried at least once")
}

/// The text with that many values that nothing uses, spread evenly.
fn with_warnings(text: &str, count: usize) -> String {
    let lines: Vec<&str> = text.lines().collect();
    let items: Vec<usize> = (0..lines.len()).filter(|at| lines[*at].starts_with("when ")).collect();
    let step = items.len() / count;
    let mut out = String::with_capacity(text.len() + 32 * count);
    let mut next = items.iter().step_by(step).take(count).enumerate().peekable();
    for (at, line) in lines.iter().enumerate() {
        if let Some((number, _)) = next.next_if(|(_, item)| **item == at) {
            out.push_str(&format!("let spare-{number} = {number}\n"));
        }
        out.push_str(line);
        out.push('\n');
    }
    out
}

/// Checks a set and renders what is found; gives the length of that.
fn show(source: &Source) -> usize {
    let findings = check(source).findings;
    findings.iter().map(|finding| render(finding, source, false).len()).sum()
}

fn main() {
    let sets: Vec<(usize, Source)> = [1_000, 10_000, 40_000]
        .map(|count| (count, Source::new("bench.lantern", mix::mix(count))))
        .into();
    let (_, findings) = {
        let checked = check(&sets[1].1);
        (checked.rules.expect("nothing stands against it"), checked.findings)
    };
    println!("10,000 rules: {} findings", findings.len());
    let mut times = Vec::new();
    for (count, source) in &sets {
        let time = shortest(5, || check(source));
        times.push(time);
        println!("check {count:>6} rules   {:>8.1} ms", time.as_secs_f64() * 1e3);
    }
    let ratio = |a: Duration, b: Duration| a.as_secs_f64() / b.as_secs_f64();
    println!(
        "40,000 to 10,000: {:.2} (aim under 5); 10,000 to 1,000: {:.2}",
        ratio(times[2], times[1]),
        ratio(times[1], times[0])
    );
    let warned = Source::new("bench.lantern", with_warnings(sets[2].1.text(), 1000));
    let plain = shortest(5, || show(&sets[2].1));
    let warned = shortest(5, || show(&warned));
    println!(
        "check and show 40,000 rules: {:.1} ms, with 1,000 warnings more {:.1} ms, {:.2} of it (aim under 1.2)",
        plain.as_secs_f64() * 1e3,
        warned.as_secs_f64() * 1e3,
        ratio(warned, plain)
    );
    let lay_out = shortest(5, || format(sets[1].1.text()));
    println!(
        "lay out 10,000: {:.1} ms, {:.2} of checking",
        lay_out.as_secs_f64() * 1e3,
        ratio(lay_out, times[1])
    );
}
