//! Reading and checking a set, its growth, and laying it out: each as a ratio to a smaller case in
//! the same run. `cargo bench -p lantern-script`

#![expect(clippy::disallowed_types, reason = "a benchmark measures time")]

mod mix;

use std::time::{Duration, Instant};

use lantern_script::{Source, check, format};

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
    let lay_out = shortest(5, || format(sets[1].1.text()));
    println!(
        "lay out 10,000: {:.1} ms, {:.2} of checking",
        lay_out.as_secs_f64() * 1e3,
        ratio(lay_out, times[1])
    );
}
