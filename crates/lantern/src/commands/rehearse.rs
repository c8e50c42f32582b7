//! `lantern rehearse`: scenes played against a file, as a test.

use std::collections::BTreeMap;
use std::path::Path;

use lantern_script::scene::{Scene, SceneAct, Sketch, parse_scene};
use lantern_script::{Finding, Source};
use serde::Serialize;

use crate::arguments::RehearseArguments;
use crate::commands::print_json;
use crate::diagnostics::{FindingData, finding_data, print_findings, summary};
use crate::failure::{Failure, Status};
use crate::files::RulesRead;
use crate::rehearsal::{SceneResult, play_telling};
use crate::timeline::TimelineRow;
use crate::{drawings, files, pictures, recording, style};

/// The shape of `--json`, version 1.
#[derive(Serialize)]
struct RehearseReport<'a> {
    version: u32,
    file: &'a str,
    findings: Vec<FindingData<'a>>,
    scenes: Vec<SceneReport<'a>>,
}

#[derive(Serialize)]
struct SceneReport<'a> {
    scene: &'a str,
    passed: bool,
    expectations: usize,
    unmet: Vec<UnmetReport<'a>>,
    /// Why the scene was not played to its end, if it was not.
    cut: Option<&'a str>,
    /// What stands in each program's text field at the end.
    fields: &'a BTreeMap<String, String>,
    timeline: Vec<TimelineRow>,
}

#[derive(Serialize)]
struct UnmetReport<'a> {
    line: u32,
    time: f64,
    expected: &'a str,
    instead: &'a str,
}

pub fn run(arguments: &RehearseArguments) -> Result<Status, Failure> {
    if arguments.scenes.len() > 1 && (arguments.timeline.is_some() || arguments.record.is_some()) {
        return Err(Failure::OneScene);
    }
    let RulesRead { source, checked, .. } = files::read_rules(&arguments.file)?;
    let Some(rules) = checked.rules else {
        print_broken(arguments.json, &checked.findings, &source);
        return Err(Failure::Broken { path: source.name().to_owned() });
    };
    let mut scenes = Vec::new();
    for path in &arguments.scenes {
        let scene_source = files::read_source(path)?;
        let (mut scene, findings) = parse_scene(&scene_source);
        if !findings.is_empty() {
            print_broken(arguments.json, &findings, &scene_source);
            return Err(Failure::Broken { path: scene_source.name().to_owned() });
        }
        bring_drawings(&mut scene, path)?;
        let played = play_telling(&rules, &scene, arguments.why);
        let lines: Vec<u32> =
            scene.lines.iter().map(|line| scene_source.place(line.span.start).line).collect();
        scenes.push((scene_source, lines, played));
    }
    if arguments.json {
        print_json(&RehearseReport {
            version: 1,
            file: source.name(),
            findings: checked.findings.iter().map(|f| finding_data(f, &source)).collect(),
            scenes: scenes
                .iter()
                .map(|(source, lines, played)| report(source, lines, played))
                .collect(),
        });
    } else {
        print_findings(&checked.findings, &source);
        for (source, lines, played) in &scenes {
            print_scene(source, lines, played, arguments.why);
        }
    }
    for (source, _, played) in &scenes {
        if let Some(path) = &arguments.timeline {
            let drawn = pictures::timeline(&played.timeline, source.name());
            pictures::write(&drawn, path)?;
        }
        if let Some(path) = &arguments.record {
            let text = recording::scene_of(&played.timeline);
            std::fs::write(path, text)
                .map_err(|source| Failure::Write { path: path.clone(), source })?;
        }
    }
    let failed = scenes.iter().any(|(_, _, played)| !played.has_passed());
    Ok(if failed { Status::Found } else { Status::Done })
}

/// Puts the strokes of files in the place of their names, which are seen from the scene's folder.
fn bring_drawings(scene: &mut Scene, path: &Path) -> Result<(), Failure> {
    for line in &mut scene.lines {
        if let SceneAct::Draws(sketch, ..) = &mut line.act
            && let Sketch::Drawn(file) = &*sketch
        {
            let file = path.parent().unwrap_or(Path::new("")).join(file);
            let mut drawings = drawings::read(&file)
                .map_err(|source| Failure::NoDrawing { path: file.clone(), source })?;
            *sketch = Sketch::Along(drawings.swap_remove(0));
        }
    }
    Ok(())
}

fn print_broken(json: bool, findings: &[Finding], source: &Source) {
    if json {
        let findings = findings.iter().map(|finding| finding_data(finding, source)).collect();
        print_json(&RehearseReport {
            version: 1,
            file: source.name(),
            findings,
            scenes: Vec::new(),
        });
    } else {
        print_findings(findings, source);
        crate::output::say!("{}: {}", source.name(), summary(findings));
    }
}

fn report<'a>(source: &'a Source, lines: &[u32], played: &'a SceneResult) -> SceneReport<'a> {
    let unmet = played.unmet.iter().map(|unmet| UnmetReport {
        line: lines[unmet.line],
        time: unmet.time.as_micros() as f64 / 1e6,
        expected: &unmet.expected,
        instead: &unmet.instead,
    });
    SceneReport {
        scene: source.name(),
        passed: played.has_passed(),
        expectations: played.expected,
        unmet: unmet.collect(),
        cut: played.cut.as_deref(),
        fields: &played.fields,
        timeline: played.timeline.rows(),
    }
}

fn print_scene(source: &Source, lines: &[u32], played: &SceneResult, why: bool) {
    let name = source.name();
    let met = played.expected - played.unmet.len();
    if played.has_passed() {
        crate::output::say!(
            "{}passed{0:#} {name}: {met} of {} expectations",
            style::WENT_OUT,
            played.expected
        );
        if why {
            crate::output::say!("");
            played.timeline.print();
        }
        return;
    }
    crate::output::say!(
        "{}failed{0:#} {name}: {met} of {} expectations\n",
        style::ERROR,
        played.expected
    );
    played.timeline.print();
    if let Some(why) = &played.cut {
        crate::output::say!("\n{name}: not played to its end: {why}");
    }
    for unmet in &played.unmet {
        crate::output::say!(
            "\n{name}:{}: at {}\n  expected  {}{}{2:#}\n  instead   {}{}{4:#}",
            lines[unmet.line],
            unmet.time,
            style::HEAD,
            unmet.expected,
            style::ERROR,
            unmet.instead
        );
    }
}
