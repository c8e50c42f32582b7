//! How well the states of an acoustic model fit a sound, on a model of two sounds that is made up here.

use lantern_speech::{AcousticModel, CEPSTRUM, Cepstrum};

const STREAMS: usize = 3;
const CODES: usize = 128;
const STATES: usize = 6;

/// The files of a model.
#[derive(Clone)]
struct Files {
    means: Vec<u8>,
    variances: Vec<u8>,
    weights: Vec<u8>,
    sounds: Vec<u8>,
}

impl Files {
    fn parse(&self) -> Result<AcousticModel, String> {
        let Files { means, variances, weights, sounds } = self;
        AcousticModel::parse(means, variances, weights, sounds).map_err(|error| error.to_string())
    }

    fn each(&mut self) -> [&mut Vec<u8>; 4] {
        [&mut self.means, &mut self.variances, &mut self.weights, &mut self.sounds]
    }
}

fn numbers(all: &[i32]) -> Vec<u8> {
    all.iter().flat_map(|number| number.to_ne_bytes()).collect()
}

fn densities(value: impl Fn(usize, usize) -> f32) -> Vec<u8> {
    let mut bytes = b"s3\nversion 1.0\nendhdr\n".to_vec();
    let length = CEPSTRUM as i32;
    let all = (2 * STREAMS * CODES * CEPSTRUM) as i32;
    bytes.extend(numbers(&[0x1122_3344, 2, 3, CODES as i32, length, length, length, all]));
    for sound in 0..2 {
        for _ in 0..STREAMS {
            for code in 0..CODES {
                bytes.extend([value(sound, code); CEPSTRUM].iter().flat_map(|v| v.to_ne_bytes()));
            }
        }
    }
    bytes
}

/// Two sounds of three states each. The first of them is near 0, the second near one half; the first state of each likes its first
/// densities best, the others like all alike.
fn files() -> Files {
    let means = densities(|sound, code| sound as f32 / 2.0 + code as f32 * 1e-4);
    let variances = densities(|_, _| 0.5);
    let mut weights = Vec::new();
    for text in ["made for a test\0", "cluster_count 0\0"] {
        weights.extend(numbers(&[text.len() as i32]));
        weights.extend(text.bytes());
    }
    weights.extend(numbers(&[0, CODES as i32, STATES as i32]));
    for _ in 0..STREAMS {
        for code in 0..CODES {
            let first = if code < 16 { 20 } else { 150 };
            weights.extend([first, 50, 50, first, 50, 50]);
        }
    }
    let mut sounds = b"BMDF".to_vec();
    sounds.extend(numbers(&[1, 4]));
    sounds.extend(b"none");
    sounds.extend(numbers(&[2, 3, 3, 6, STATES as i32, 2, 2, 3, 1, 0]));
    sounds.extend(b"AH\0S\0\0\0\0");
    sounds.extend(numbers(&[7, 7]));
    for (row, sound) in [(0, 0), (1, 1), (1, 1)] {
        sounds.extend(numbers(&[row, row]));
        sounds.extend([0, sound, 0, 0]);
    }
    sounds.extend(numbers(&[6]));
    sounds.extend((0..6u16).flat_map(u16::to_ne_bytes));
    Files { means, variances, weights, sounds }
}

/// How far each state is from each frame.
fn fits(model: &AcousticModel, cepstra: &[Cepstrum]) -> Vec<Vec<i16>> {
    let scores = model.scores(cepstra);
    let text = b"endhdr\n";
    let end = scores.bytes().windows(text.len()).position(|window| window == text);
    let bytes = &scores.bytes()[end.expect("it says what it is") + text.len() + 4..];
    let number = |two: &[u8]| i16::from_ne_bytes([two[0], two[1]]);
    let frames = bytes.chunks_exact(2 * (STATES + 1));
    assert!(frames.remainder().is_empty());
    frames
        .map(|frame| {
            let frame: Vec<i16> = frame.chunks_exact(2).map(number).collect();
            assert_eq!(usize::try_from(frame[0]), Ok(STATES));
            frame[1..].to_vec()
        })
        .collect()
}

#[test]
fn the_states_of_the_sound_that_is_near_fit_best() {
    let model = files().parse().expect("it is a model");
    // Steady, so that it does not change: then only the mean is taken out, and all is at 0.
    let steady = fits(&model, &[[2.0; CEPSTRUM]; 4]);
    assert_eq!(steady.len(), 4);
    assert_eq!(steady[0], steady[3]);
    // The first likes near densities more than the others of its sound do, by 30 in each stream.
    assert_eq!(steady[0][..3], [0, 90, 90]);
    // 13 numbers are off by one half at a variance of one half: by e^-3.25, 32,500 in 1,024, for each stream.
    assert!((92..=97).contains(&steady[0][3]), "{steady:?}");
    assert!(fits(&model, &[]).is_empty());
}

#[test]
fn what_changes_counts_beside_what_is() {
    let model = files().parse().expect("it is a model");
    let ramp: Vec<Cepstrum> = (0..9).map(|at| [at as f32 / 4.0; CEPSTRUM]).collect();
    let fits = fits(&model, &ramp);
    // In the middle it is at its mean and changes by 1 over four frames, steadily: one stream speaks for the second
    // sound, by three times as much as each of the others against it.
    assert_eq!(fits[4][4], 0, "{fits:?}");
    assert!((20..40).contains(&fits[4][1]), "{fits:?}");
}

#[test]
fn a_file_that_is_cut_short_or_of_another_form_is_named() {
    let names = ["means", "variances", "sendump", "mdef"];
    for (at, name) in names.into_iter().enumerate() {
        let length = files().each()[at].len();
        for part in 0..64 {
            let mut broken = files();
            broken.each()[at].truncate(length * part / 64);
            assert_eq!(broken.parse().err(), Some(format!("{name}: unknown form")), "{part}");
        }
    }
    let mut other = files();
    other.weights =
        String::from_utf8_lossy(&other.weights).replace("count 0", "count 8").into_bytes();
    assert!(other.parse().is_err(), "weights by a table are not known");
    let mut other = files();
    other.sounds[16] = 200;
    assert!(other.parse().is_err());
}

#[test]
fn no_change_of_a_file_breaks_us() {
    let mut state = 9u32;
    let mut dice = |below: usize| {
        state = state.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
        (state >> 8) as usize % below
    };
    let whole = files();
    for _ in 0..400 {
        let mut broken = whole.clone();
        let at = dice(4);
        let file = &mut broken.each()[at];
        // What matters stands at the beginning of all but one.
        let place = if at == 3 { dice(file.len()) } else { dice(160) };
        file[place] = dice(256) as u8;
        if let Ok(model) = broken.parse() {
            model.scores(&[[0.5; CEPSTRUM]; 2]);
        }
    }
}
