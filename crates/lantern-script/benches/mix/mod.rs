//! A fixed mix of rules: 40 % keys in scopes, 30 % phrases, the rest gestures, lines and macros.

/// Words that phrases are made of: one of each column.
const COLUMNS: [[&str; 20]; 5] = [
    [
        "open",
        "close",
        "measure",
        "weigh",
        "photograph",
        "label",
        "carry",
        "warm",
        "cool",
        "scan",
        "polish",
        "wrap",
        "number",
        "compare",
        "describe",
        "export",
        "print",
        "archive",
        "reject",
        "repeat",
    ],
    [
        "first", "second", "northern", "southern", "broken", "clear", "cloudy", "dusty",
        "volcanic", "shallow", "deepest", "spare", "yellow", "purple", "narrow", "heavy", "little",
        "ancient", "frozen", "empty",
    ],
    [
        "core",
        "drawer",
        "tray",
        "section",
        "bag",
        "bottle",
        "sleeve",
        "band",
        "layer",
        "saw",
        "camera",
        "cabinet",
        "bench",
        "microscope",
        "notebook",
        "ladder",
        "window",
        "elevator",
        "generator",
        "umbrella",
    ],
    [
        "now",
        "tonight",
        "tomorrow",
        "again",
        "slowly",
        "carefully",
        "quickly",
        "twice",
        "outside",
        "upstairs",
        "on monday",
        "at noon",
        "before lunch",
        "after midnight",
        "by hand",
        "without gloves",
        "for ilva",
        "with oil",
        "under glass",
        "in october",
    ],
    [
        "please",
        "for the log",
        "for the record",
        "to the left",
        "to the right",
        "to the door",
        "with care",
        "with gloves",
        "with a brush",
        "in silence",
        "in pairs",
        "in plastic",
        "from above",
        "from below",
        "from behind",
        "under pressure",
        "under the lamp",
        "near zero",
        "near the edge",
        "past midday",
    ],
];

/// A file of so many rules.
pub fn mix(count: usize) -> String {
    let mut text = String::from("device pedals = serial \"/dev/ttyACM0\" at 9600\nlet n = 0\n");
    text.push_str("macro note(text) { set n = n + 1; type \"{text} {n}\" }\n");
    for at in 0..count {
        text.push_str(&rule(at));
    }
    text
}

fn rule(at: usize) -> String {
    match at % 10 {
        0..=3 => {
            let (key, program) = (at / 10 % 24 + 1, at / 10 / 24);
            let modifiers = ["ctrl", "alt", "super", "ctrl+alt"][at % 4];
            format!("when key {modifiers}+f{key} in app \"program-{program}\" => note(\"{at}\")\n")
        }
        4..=6 => {
            format!("when voice \"{}\" => note(\"{at}\")\n", phrase(at / 10 * 3 + at % 10 - 4))
        }
        7 => format!("when line from pedals is \"button {at}\" => note(\"{at}\")\n"),
        8 => format!(
            "when gesture check-mark while holding forward-button in app \"drawing-{at}\" => note(\"{at}\")\n"
        ),
        _ => format!(
            "macro routine-{at}(a, b = 2) {{ if a > b {{ log \"{{a}}\" }} }}\nwhen line from pedals contains \"r{at}\" => routine-{at}({at})\n"
        ),
    }
}

/// A phrase that no other number gives.
fn phrase(number: usize) -> String {
    // A step without a factor of 20 visits every phrase once, far from the one before.
    let number = number * 1_040_503 % 3_200_000;
    let pick = |column: usize, step: usize| COLUMNS[column][number / step % 20];
    format!(
        "{} {} {} {} {}",
        pick(0, 1),
        pick(1, 20),
        pick(2, 400),
        pick(3, 8_000),
        pick(4, 160_000)
    )
}
