//! Lines of a program that recognises speech become events, or nothing; and words that were heard fire rules
//! or do not.
#![no_main]

#[path = "../../crates/lantern-audio/src/speech_recognition/external_result.rs"]
mod external_result;

use lantern_engine::Engine;
use lantern_model::{Event, Layout, Time};
use lantern_script::{Source, check};

const RULES: &str = "settings { attention = \"lantern\" }
when voice \"next core\" => log \"next\"
when voice \"depth <1..99>\" as said => log \"{said}\"
words state = \"wet | dry\"
when voice \"note <state>\" as said without attention => log \"{said}\"
";

libfuzzer_sys::fuzz_target!(|text: &str| {
    let rules = check(&Source::new("bench.lantern", RULES)).rules.expect("they are fine");
    let mut engine = Engine::new(rules, 1);
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    for line in text.lines() {
        let Some(event) = external_result::event_of(line) else { continue };
        if let Event::Heard { score, .. } | Event::Misheard { score, .. } = &event {
            assert!((0.0..=1.0).contains(score));
        }
        engine.handle_event(Time::START, event);
        while engine.poll_effect().is_some() {}
    }
});
