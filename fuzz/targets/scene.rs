//! A scene that is read is written so that it is read again.
#![no_main]

use lantern_script::Source;
use lantern_script::scene::{SceneAct, parse_scene};

libfuzzer_sys::fuzz_target!(|text: &str| {
    let source = Source::new("night.scene", text);
    let (scene, findings) = parse_scene(&source);
    for finding in &findings {
        assert!(source.text().get(finding.span.range()).is_some());
    }
    for line in scene.lines {
        if findings.is_empty() && line.act != SceneAct::Wait {
            let written = line.act.to_string();
            let (again, findings) = parse_scene(&Source::new("night.scene", &written));
            assert!(findings.is_empty(), "{written}");
            assert_eq!(again.lines[0].act, line.act, "{written}");
        }
    }
});
