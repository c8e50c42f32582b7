//! How well drawings are recognised, and how rarely anything else is taken for one.
//!
//! `cargo bench -p cold-lantern --bench shapes` draws sixty shapes by hands of a family that no limit
//! was set on; `-- tuning` by the other; `-- fitting` prints the weights that follow from those. It writes a figure, and says how long one drawing takes
//! beside a plain loop over the same memory.

#[path = "../figure/mod.rs"]
mod figure;
mod fit;
mod hands;
mod outlines;
mod plot;

use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::Instant;

use fastrand::Rng;
use hands::{Family, Hand, errand, scribble};
use lantern_gesture::{Recognition, ShapeIndex, strokes_of_words};
use lantern_model::{Shape, ShapeDescription, ShapeTolerance, StrokePath};
use outlines::{IN_WORDS, Meant};

/// Persons that draw.
const PERSONS: usize = 24;
/// Drawings of each shape by each person that are to be recognised.
const DRAWINGS: usize = 3;
/// Drawings that mean nothing.
const NOTHINGS: usize = 5000;

/// What became of drawings.
#[derive(Debug, Default, Clone, Copy)]
pub(crate) struct Outcome {
    pub(crate) all: usize,
    pub(crate) right: usize,
    pub(crate) wrong: usize,
}

impl Outcome {
    fn add(&mut self, other: Outcome) {
        self.all += other.all;
        self.right += other.right;
        self.wrong += other.wrong;
    }

    /// Recognised rightly, taken for another, and refused, in percent.
    pub(crate) fn shares(self) -> [f64; 3] {
        let percent = |count: usize| 100.0 * count as f64 / self.all.max(1) as f64;
        [percent(self.right), percent(self.wrong), percent(self.all - self.right - self.wrong)]
    }
}

/// How often one shape was taken for another.
type Confusions = BTreeMap<(usize, usize), usize>;

fn main() {
    let words: Vec<String> = std::env::args().skip(1).collect();
    let tuning = words.iter().any(|word| word == "tuning");
    if words.iter().any(|word| word == "fitting") {
        return fit::fit(&outlines::all());
    }
    let family = if tuning { Family::Pulses } else { Family::Bends };
    let seed = if tuning { 11 } else { 83 };
    let shapes = outlines::all();
    println!("{} shapes, {PERSONS} hands of the family {family:?}", shapes.len());
    println!("\nexamples      rightly  another  refused");
    let mut by_examples = Vec::new();
    let mut confused = Confusions::new();
    for (own, who) in [(true, "own"), (false, "another's")] {
        for examples in [1, 3, 5] {
            let outcome = judge(&shapes, family, seed, examples, own, &mut confused);
            let [right, wrong, refused] = outcome.shares();
            println!("{examples} {who:<11} {right:6.2} %  {wrong:6.2} %  {refused:6.2} %");
            by_examples.push((own, examples, outcome));
        }
    }
    let words = judge_words(&shapes, family, seed);
    let [right, wrong, refused] = words.shares();
    println!(
        "in words      {right:6.2} %  {wrong:6.2} %  {refused:6.2} %  of {} shapes",
        IN_WORDS.len()
    );
    println!("\nshapes  rightly with three of one's own");
    let mut by_count = Vec::new();
    for count in [10, 20, 30, 40, 50, shapes.len()] {
        let some = spread(&shapes, count);
        let outcome = judge(&some, family, seed + 1, 3, true, &mut Confusions::new());
        println!("{count:6}  {:6.2} %", outcome.shares()[0]);
        by_count.push((count, outcome));
    }
    let mut worst: Vec<(String, usize)> = confused
        .iter()
        .map(|((meant, taken), times)| {
            (format!("{} taken for {}", shapes[*meant].name, shapes[*taken].name), *times)
        })
        .collect();
    worst.sort_by_key(|(_, times)| std::cmp::Reverse(*times));
    println!("\nconfused most, of {} drawings", confusable(&by_examples));
    worst.iter().take(16).for_each(|(what, times)| println!("{times:6}  {what}"));
    let nothing = nothings(&shapes, family, seed);
    for (what, all, taken) in &nothing {
        println!("\n{taken} of {all} {what} taken for a shape, {:.2} %", percent(*taken, *all));
    }
    let figure = std::env::temp_dir().join("cold-lantern-shapes.png");
    figure::write(&plot::draw(&by_examples, &by_count, &worst, &nothing), &figure);
    println!("\nthe figure is {}", figure.display());
    pace(&shapes, family);
}

fn percent(count: usize, all: usize) -> f64 {
    100.0 * count as f64 / all as f64
}

fn confusable(by_examples: &[(bool, usize, Outcome)]) -> usize {
    by_examples.iter().map(|(.., outcome)| outcome.all).sum()
}

/// So many of the shapes, the same way apart.
fn spread(shapes: &[Meant], count: usize) -> Vec<Meant> {
    (0..count).map(|at| shapes[at * shapes.len() / count].clone()).collect()
}

fn book_of(shapes: &[Meant], hand: &Hand, examples: usize, dice: &mut Rng) -> ShapeIndex {
    let shapes: Vec<Shape> = shapes
        .iter()
        .map(|shape| Shape {
            name: shape.name.to_owned(),
            description: ShapeDescription::Drawn(String::new()),
            drawings: (0..examples).map(|_| hand.draw(shape, dice)).collect(),
            tolerance: ShapeTolerance::default(),
        })
        .collect();
    ShapeIndex::new(&shapes)
}

/// Has each person's drawings recognised by examples of their own, or of another person.
fn judge(
    shapes: &[Meant],
    family: Family,
    seed: u64,
    examples: usize,
    own: bool,
    confused: &mut Confusions,
) -> Outcome {
    let mut total = Outcome::default();
    for person in 0..PERSONS {
        let mut dice = Rng::with_seed(seed * 1000 + person as u64);
        let hand = Hand::of(family, &mut dice);
        let other = Hand::of(family, &mut dice);
        let teacher = if own { &hand } else { &other };
        let book = book_of(shapes, teacher, examples, &mut dice);
        for (meant, shape) in shapes.iter().enumerate() {
            for _ in 0..DRAWINGS {
                let verdict = book.recognise(&hand.draw(shape, &mut dice), |_| true).verdict;
                let (right, wrong) = match verdict {
                    Recognition::Is(taken) if taken == meant => (1, 0),
                    Recognition::Is(taken) => {
                        *confused.entry((meant, taken)).or_default() += 1;
                        (0, 1)
                    }
                    _ => (0, 0),
                };
                total.add(Outcome { all: 1, right, wrong });
            }
        }
    }
    total
}

fn book_of_words() -> ShapeIndex {
    let shapes = IN_WORDS.map(|(name, path)| Shape {
        name: name.to_owned(),
        drawings: strokes_of_words(path.split(' ')),
        ..Shape::default()
    });
    ShapeIndex::new(&shapes)
}

/// Has the drawings of all persons recognised by nothing but words.
fn judge_words(shapes: &[Meant], family: Family, seed: u64) -> Outcome {
    let book = book_of_words();
    let mut total = Outcome::default();
    for person in 0..PERSONS {
        let mut dice = Rng::with_seed(seed * 2000 + person as u64);
        let hand = Hand::of(family, &mut dice);
        for (number, (name, _)) in IN_WORDS.iter().enumerate() {
            let meant = shapes.iter().find(|shape| shape.name == *name).expect("it is one of them");
            for _ in 0..DRAWINGS {
                let verdict = book.recognise(&hand.draw(meant, &mut dice), |_| true).verdict;
                let right = verdict == Recognition::Is(number);
                let wrong = !right && matches!(verdict, Recognition::Is(_));
                total.add(Outcome { all: 1, right: right.into(), wrong: wrong.into() });
            }
        }
    }
    total
}

/// What means nothing, and how often it is taken for a shape: one that each person showed three times,
/// or one in words.
fn nothings(shapes: &[Meant], family: Family, seed: u64) -> Vec<(&'static str, usize, usize)> {
    let mut dice = Rng::with_seed(seed * 7);
    let mut books = Vec::new();
    for _ in 0..PERSONS {
        let hand = Hand::of(family, &mut dice);
        books.push(book_of(shapes, &hand, 3, &mut dice));
    }
    let words = [book_of_words()];
    type Drawn = fn(&mut Rng) -> Vec<StrokePath>;
    let kinds: [(&str, &[ShapeIndex], Drawn); 4] = [
        ("scribbles", &books, scribble),
        ("ordinary movements", &books, errand),
        ("scribbles, by words,", &words, scribble),
        ("ordinary movements, by words,", &words, errand),
    ];
    kinds
        .into_iter()
        .map(|(what, books, drawn)| {
            let is_taken = |number: &usize| {
                let book = &books[number % books.len()];
                let verdict = book.recognise(&drawn(&mut dice), |_| true).verdict;
                matches!(verdict, Recognition::Is(_))
            };
            (what, NOTHINGS, (0..NOTHINGS).filter(is_taken).count())
        })
        .collect()
}

/// Time for one drawing among 200 templates, beside a plain loop over as much memory.
fn pace(shapes: &[Meant], family: Family) {
    let mut dice = Rng::with_seed(5);
    let hand = Hand::of(family, &mut dice);
    let allowed = |number: usize| ShapeTolerance {
        max_rotation: if number.is_multiple_of(10) { 180.0 } else { 15.0 },
        ..ShapeTolerance::default()
    };
    let many: Vec<Shape> = (0..200)
        .map(|number| {
            let shape = &shapes[number % shapes.len()];
            Shape {
                name: shape.name.to_owned(),
                description: ShapeDescription::Drawn(String::new()),
                drawings: vec![hand.draw(shape, &mut dice)],
                tolerance: allowed(number),
            }
        })
        .collect();
    let book = ShapeIndex::new(&many);
    let drawings: Vec<_> = shapes.iter().map(|shape| hand.draw(shape, &mut dice)).collect();
    let memory = vec![1.0_f32; 200 * 256];
    let (mut ours, mut baseline) = (Vec::new(), Vec::new());
    for turn in 0..40 * drawings.len() {
        let drawing = &drawings[turn % drawings.len()];
        let begun = Instant::now();
        black_box(book.recognise(black_box(drawing), |_| true));
        ours.push(begun.elapsed().as_nanos() as f64 / 1000.0);
        let begun = Instant::now();
        black_box(black_box(&memory).iter().sum::<f32>());
        baseline.push(begun.elapsed().as_nanos() as f64 / 1000.0);
    }
    let median = |times: &mut Vec<f64>, share: f64| {
        times.sort_by(f64::total_cmp);
        times[((times.len() - 1) as f64 * share) as usize]
    };
    println!("\none drawing among {} templates, microseconds", book.templates());
    println!(
        "  baseline    median {:7.1}   p99 {:7.1}",
        median(&mut baseline, 0.5),
        median(&mut baseline, 0.99)
    );
    println!(
        "  lantern  median {:7.1}   p99 {:7.1}",
        median(&mut ours, 0.5),
        median(&mut ours, 0.99)
    );
    println!("  ratio of medians {:.2}", median(&mut ours, 0.5) / median(&mut baseline, 0.5));
}
