//! Rules at work in a home of their own, on no desk, with real devices.

use lantern_stage::Talking;

use crate::home::Home;

/// Rules at work, once they are.
pub fn run(home: &Home, rules: &str) -> Talking {
    run_with(home, rules, &[])
}

/// The same with more words on the command line.
pub fn run_with(home: &Home, rules: &str, more: &[&str]) -> Talking {
    home.write("bench.lantern", rules);
    let words = [&["run", "--backend", "simulated", "bench.lantern"], more].concat();
    let mut talking = start(home, &words);
    talking.expect("active on");
    talking
}

/// Any command that runs until it is stopped.
pub fn start(home: &Home, words: &[&str]) -> Talking {
    Talking::start(home.command().args(words))
}
