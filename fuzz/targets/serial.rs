//! Bytes of a serial port fire rules on lines, however they are cut into pieces.
#![no_main]

use lantern_engine::Engine;
use lantern_model::{Effect, EffectKind, Event, Layout, Time};
use lantern_script::{Source, check};

const RULES: &str = "device drill = serial \"/dev/null\" at 9600
when line from drill matches `^core (?<number>[0-9]+)` as said again overlaps => log \"{said.number}\"
when line from drill contains \"half\" again overlaps => log \"half\"
when line from drill is \"abc\" again overlaps => log \"abc\"
when line from drill as said again overlaps => log said.text
";

/// What rules log of bytes that come in pieces of this size.
fn logged(bytes: &[u8], piece: usize) -> Vec<String> {
    let rules = check(&Source::new("bench.lantern", RULES)).rules.expect("they are fine");
    let mut engine = Engine::new(rules, 1);
    engine.handle_event(Time::START, Event::Layout(Layout::us()));
    let mut logged = Vec::new();
    for piece in bytes.chunks(piece) {
        let device = "drill".to_owned();
        engine.handle_event(Time::START, Event::Bytes { device, bytes: piece.to_vec() });
        while let Some(Effect { kind: order, .. }) = engine.poll_effect() {
            if let EffectKind::Log(text) = order {
                logged.push(text);
            }
        }
    }
    logged
}

libfuzzer_sys::fuzz_target!(|input: (Vec<u8>, u8)| {
    let (bytes, piece) = input;
    let whole = logged(&bytes, bytes.len().max(1));
    assert_eq!(whole, logged(&bytes, usize::from(piece).max(1)));
    assert!(whole.iter().all(|text| text.len() <= 3 * 4096 && !text.contains(['\n', '\r'])));
});
