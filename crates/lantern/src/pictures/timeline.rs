//! What happened over time: inputs above, a lane for each rule with its runs as bars, and the keys
//! that rules held as lines below.

use std::time::Duration;

use lantern_model::{Time, Value};
use svg::Document;
use svg::node::element::{Circle, Title};

use super::{FAILED, FAINT, GUIDE, HELD, INK, PAPER, TAKEN, block, rule, sheet, shortened, words};
use crate::timeline::Timeline;

const WIDTH: f64 = 1280.0;
const LEFT: f64 = 250.0;
const RIGHT: f64 = 40.0;
const LANE: f64 = 26.0;
/// Rows over which the words of inputs are spread, so that neighbours do not cover each other.
const INPUT_ROWS: usize = 6;
const TOP: f64 = 64.0;

/// Draws what happened in a scene.
pub fn timeline(timeline: &Timeline, scene: &str) -> Document {
    let mut rules: Vec<&str> = Vec::new();
    for bar in timeline.runs() {
        if !rules.contains(&bar.rule.as_str()) {
            rules.push(&bar.rule);
        }
    }
    let mut keys = Vec::new();
    for hold in timeline.holds() {
        if !keys.contains(&hold.key) {
            keys.push(hold.key);
        }
    }
    let scale = Scale::new(timeline);
    let across = |time: Time| scale.across(time);
    let runs_top = TOP + INPUT_ROWS as f64 * 15.0 + 24.0;
    let holds_top = runs_top + rules.len() as f64 * LANE + 34.0;
    let holds = if keys.is_empty() { 0.0 } else { keys.len() as f64 * LANE + 14.0 };
    let bottom = holds_top + holds;
    let mut picture = sheet(WIDTH, bottom + 42.0);
    picture = picture.add(words(24.0, 34.0, 18.0, INK, scene));
    picture = picture.add(words(24.0, TOP + 12.0, 13.0, FAINT, "came in"));
    for (tick, label) in scale.ticks() {
        let x = across(tick);
        picture = picture.add(rule((x, TOP - 8.0), (x, bottom), GUIDE, 1.0)).add(words(
            x + 3.0,
            bottom + 16.0,
            11.0,
            FAINT,
            &label,
        ));
    }
    for (from, to) in scale.breaks() {
        let width = across(to) - across(from);
        let middle = across(from) + width / 2.0;
        let band = block(across(from), TOP - 8.0, width, bottom - TOP + 8.0, GUIDE);
        picture = picture
            .add(band.set("fill-opacity", 0.6))
            .add(words(middle, bottom + 30.0, 11.0, FAINT, "quiet").set("text-anchor", "middle"));
    }
    picture = add_inputs(picture, timeline, &across, runs_top);
    for (lane, name) in rules.iter().enumerate() {
        let y = runs_top + lane as f64 * LANE;
        picture = picture.add(words(24.0, y + 16.0, 13.0, INK, &shortened(name, 32))).add(rule(
            (LEFT, y + LANE),
            (WIDTH - RIGHT, y + LANE),
            GUIDE,
            1.0,
        ));
        for bar in timeline.runs().iter().filter(|bar| bar.rule == *name) {
            let start = across(bar.start);
            let stop = across(bar.end.unwrap_or(timeline.end()));
            let fill = if bar.failed { FAILED } else { TAKEN };
            let width = (stop - start).max(3.0);
            let bar = block(start, y + 5.0, width, LANE - 10.0, fill).set("rx", 2);
            picture = picture.add(bar.set("fill-opacity", 0.75));
        }
        for sent in timeline.sent().iter().filter(|sent| sent.rule.as_deref() == Some(name)) {
            let dot = Circle::new()
                .set("cx", across(sent.time))
                .set("cy", y + LANE / 2.0)
                .set("r", 2.6)
                .set("fill", INK)
                .add(Title::new(sent.describe()));
            picture = picture.add(dot);
        }
    }
    if !keys.is_empty() {
        picture = picture.add(words(24.0, holds_top - 8.0, 13.0, FAINT, "held down"));
    }
    for (lane, key) in keys.iter().enumerate() {
        let y = holds_top + lane as f64 * LANE + 10.0;
        picture = picture.add(words(24.0, y + 4.0, 13.0, INK, key.name()));
        for hold in timeline.holds().iter().filter(|hold| hold.key == *key) {
            let start = across(hold.start);
            let stop = across(hold.end.unwrap_or(timeline.end())).max(start + 3.0);
            picture = picture.add(rule((start, y), (stop, y), HELD, 5.0));
        }
    }
    picture
}

fn add_inputs(
    mut picture: Document,
    timeline: &Timeline,
    across: &dyn Fn(Time) -> f64,
    runs_top: f64,
) -> Document {
    // The end of the last words in each row.
    let mut ends = [0.0f64; INPUT_ROWS];
    for (time, _) in timeline.inputs() {
        let x = across(time);
        picture = picture.add(rule((x, TOP - 6.0), (x, runs_top), FAINT, 0.6));
    }
    for (time, text) in timeline.inputs() {
        let x = across(time);
        let text = shortened(text, 30);
        let row = (0..INPUT_ROWS).find(|row| ends[*row] <= x);
        let y = TOP + 12.0 + row.unwrap_or(INPUT_ROWS - 1) as f64 * 15.0;
        // Where every row is full only the line tells that something came.
        if let Some(row) = row {
            let width = text.chars().count() as f64 * 5.6;
            ends[row] = x + width + 10.0;
            picture = picture.add(block(x + 1.5, y - 10.0, width + 2.0, 13.0, PAPER)).add(words(
                x + 3.0,
                y,
                11.0,
                INK,
                &text,
            ));
        }
    }
    picture
}

/// From time to place: even, but for long quiet stretches, which are cut short.
struct Scale {
    /// Moments at which something happened, each with its place in microseconds drawn.
    stops: Vec<(u64, u64)>,
}

/// A quiet stretch is drawn no longer than this share of the whole.
const QUIET: u64 = 12;

impl Scale {
    fn new(timeline: &Timeline) -> Scale {
        let inputs = timeline.inputs().map(|(time, _)| time);
        let bars = timeline.runs().iter().flat_map(|bar| [Some(bar.start), bar.end]);
        let sent = timeline.sent().iter().flat_map(|sent| [sent.time, sent.until]);
        let mut times: Vec<u64> =
            inputs.chain(bars.flatten()).chain(sent).map(Time::as_micros).collect();
        times.extend([0, timeline.end().as_micros() + 1000]);
        times.sort_unstable();
        times.dedup();
        let gaps: Vec<u64> = times.windows(2).map(|pair| pair[1] - pair[0]).collect();
        let mut most = gaps.iter().sum::<u64>();
        // Cutting the longest makes the whole shorter, so the share is taken again.
        for _ in 0..4 {
            most = (gaps.iter().map(|gap| *gap.min(&most)).sum::<u64>() / QUIET).max(1);
        }
        // What is only a little longer is drawn as it is.
        let shown = |gap: u64| if gap > 3 * most { most } else { gap };
        let mut drawn = 0;
        let mut stops = vec![(times[0], 0)];
        for (time, gap) in times.iter().skip(1).zip(&gaps) {
            drawn += shown(*gap);
            stops.push((*time, drawn));
        }
        Scale { stops }
    }

    fn across(&self, time: Time) -> f64 {
        let time = time.as_micros();
        let next = self.stops.partition_point(|(stop, _)| *stop < time).max(1);
        let last = self.stops[self.stops.len() - 1];
        let (from, to) = (self.stops[next - 1], *self.stops.get(next).unwrap_or(&last));
        let share = (time - from.0) as f64 / (to.0 - from.0).max(1) as f64;
        let drawn = from.1 as f64 + share.min(1.0) * (to.1 - from.1) as f64;
        LEFT + drawn / (last.1.max(1) as f64 * 1.04) * (WIDTH - LEFT - RIGHT)
    }

    /// Stretches that are cut short.
    fn breaks(&self) -> Vec<(Time, Time)> {
        let pairs = self.stops.windows(2).filter(|pair| {
            let (real, drawn) = (pair[1].0 - pair[0].0, pair[1].1 - pair[0].1);
            real > drawn
        });
        pairs.map(|pair| (Time::from_micros(pair[0].0), Time::from_micros(pair[1].0))).collect()
    }

    /// Round times along the way, each with its words, none in a stretch that is cut short.
    fn ticks(&self) -> Vec<(Time, String)> {
        const STEPS: [u64; 14] = [
            10, 20, 50, 100, 200, 500, 1_000, 2_000, 5_000, 10_000, 30_000, 60_000, 300_000,
            3_600_000,
        ];
        let drawn = self.stops[self.stops.len() - 1].1 as f64 / 1000.0;
        let step =
            STEPS.into_iter().find(|step| drawn / *step as f64 <= 14.0).unwrap_or(36_000_000);
        let end = self.stops[self.stops.len() - 1].0 / 1000;
        let breaks = self.breaks();
        let quiet = |time: Time| breaks.iter().any(|(from, to)| *from < time && time < *to);
        let mut last = f64::MIN;
        let times = (0..=end / step).map(|at| Duration::from_millis(at * step));
        times
            .map(|span| (Time::START + span, Value::Duration(span).to_string()))
            .filter(|(time, _)| !quiet(*time))
            .filter(|(time, _)| {
                let apart = self.across(*time) - last > 44.0;
                if apart {
                    last = self.across(*time);
                }
                apart
            })
            .collect()
    }
}
