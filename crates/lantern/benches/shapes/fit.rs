//! Fits the weights that decide whether a drawing is a shape: logistic regression, by Newton's
//! method, over drawings that were meant and drawings that were not, by hands of the tuning family
//! only.

use std::ops::Range;

use fastrand::Rng;
use lantern_gesture::{EvidenceVector, SIGNS, ShapeIndex};
use lantern_model::StrokePath;

use super::hands::{Family, Hand, errand, scribble};
use super::outlines::{IN_WORDS, Meant};
use super::{book_of, book_of_words};

/// How much a drawing that was meant weighs beside one that was not.
const MEANT: f64 = 0.25;
/// Drawings of each kind that mean nothing, for each person.
const NOTHINGS: usize = 300;
/// What keeps weights small that nothing speaks for.
const RIDGE: f64 = 1.0;
const ROUNDS: usize = 25;
/// The signs that count for shapes in words.
const OF_WORDS: [usize; 11] = [0, 2, 3, 5, 6, 8, 10, 11, 15, 16, 17];

/// A drawing's signs, and whether it was meant.
type Row = (EvidenceVector, bool);

/// Prints the weights.
pub fn fit(shapes: &[Meant]) {
    let shown: [(Range<u64>, usize, bool); 6] = [
        (0..50, 1, false),
        (50..110, 3, false),
        (110..140, 2, false),
        (140..170, 5, false),
        (170..200, 1, true),
        (200..230, 3, true),
    ];
    let mut rows = Vec::new();
    for (persons, examples, few) in shown {
        for person in persons {
            let mut dice = Rng::with_seed(11_000 + person);
            let hand = Hand::of(Family::Pulses, &mut dice);
            let book = book_of(shapes, &hand, examples, &mut dice);
            add_rows(&mut rows, shapes, &hand, &book, few, &mut dice);
        }
    }
    print("by hand", &rows, &(0..SIGNS).collect::<Vec<_>>());
    let book = book_of_words();
    let told = IN_WORDS.map(|(name, _)| shapes.iter().find(|shape| shape.name == name).cloned());
    let told: Vec<Meant> = told.into_iter().flatten().collect();
    let mut rows = Vec::new();
    for person in 300..360 {
        let mut dice = Rng::with_seed(11_000 + person);
        let hand = Hand::of(Family::Pulses, &mut dice);
        add_rows(&mut rows, &told, &hand, &book, person >= 340, &mut dice);
    }
    print("in words", &rows, &OF_WORDS);
}

/// What a person draws: each shape three times, and what means nothing.
fn add_rows(
    rows: &mut Vec<Row>,
    shapes: &[Meant],
    hand: &Hand,
    book: &ShapeIndex,
    few: bool,
    dice: &mut Rng,
) {
    let mut add = |drawing: &[StrokePath], meant: Option<usize>, dice: &mut Rng| {
        let counts = counting(shapes.len(), meant, few, dice);
        let found = book.recognise(drawing, |shape| counts[shape]);
        // One that is taken for another shape is neither: how far that one is tells them apart.
        let first = found.ranked.first();
        let first = first.filter(|first| meant.is_none_or(|meant| first.shape == meant));
        rows.extend(first.map(|first| (first.signs, meant.is_some())));
    };
    for (number, shape) in shapes.iter().enumerate() {
        for _ in 0..3 {
            let drawing = hand.draw(shape, dice);
            add(&drawing, Some(number), dice);
        }
    }
    for nothing in [scribble as fn(&mut Rng) -> Vec<StrokePath>, errand] {
        for _ in 0..NOTHINGS {
            let drawing = nothing(dice);
            add(&drawing, None, dice);
        }
    }
}

/// Which shapes count: all, or a few, with the one that is meant among them.
fn counting(all: usize, meant: Option<usize>, few: bool, dice: &mut Rng) -> Vec<bool> {
    let wanted = if few { [2, 5, 12, 30, 60][dice.usize(0..5)].min(all) } else { all };
    let mut order: Vec<usize> = (0..all).collect();
    dice.shuffle(&mut order);
    let others = order.into_iter().filter(|shape| Some(*shape) != meant);
    let mut counts = vec![false; all];
    meant.into_iter().chain(others).take(wanted).for_each(|shape| counts[shape] = true);
    counts
}

fn print(what: &str, rows: &[Row], signs: &[usize]) {
    let (weights, none) = regression(rows, signs);
    let mut all = [0.0; SIGNS];
    signs.iter().zip(weights).for_each(|(sign, weight)| all[*sign] = weight);
    println!("\n{what}, of {} drawings", rows.len());
    println!("  {}", all.map(|weight| format!("{weight:.3}")).join(", "));
    println!("  none: {none:.2}");
}

/// The weights of these signs, and of none.
fn regression(rows: &[Row], signs: &[usize]) -> (Vec<f64>, f64) {
    let of = |row: &Row, at: usize| f64::from(row.0[signs[at]]);
    let count = signs.len();
    // All signs on one scale, so that the ridge bears on them evenly.
    let mean: Vec<f64> = (0..count)
        .map(|at| rows.iter().map(|row| of(row, at)).sum::<f64>() / rows.len() as f64)
        .collect();
    let spread = |at: usize| {
        let squares = rows.iter().map(|row| (of(row, at) - mean[at]).powi(2)).sum::<f64>();
        (squares / rows.len() as f64).sqrt().max(1e-6)
    };
    let spread: Vec<f64> = (0..count).map(spread).collect();
    let mut weights = vec![0.0; count + 1];
    for _ in 0..ROUNDS {
        let mut curve = vec![vec![0.0; count + 1]; count + 1];
        let mut slope: Vec<f64> = weights.iter().map(|weight| RIDGE * weight).collect();
        for row in rows {
            let mut scaled: Vec<f64> =
                (0..count).map(|at| (of(row, at) - mean[at]) / spread[at]).collect();
            scaled.push(1.0);
            let sum: f64 = scaled.iter().zip(&weights).map(|(sign, weight)| sign * weight).sum();
            let chance = 1.0 / (1.0 + (-sum).exp());
            let (truth, weight) = if row.1 { (1.0, MEANT) } else { (0.0, 1.0) };
            for at in 0..=count {
                slope[at] += weight * (chance - truth) * scaled[at];
                for other in 0..=count {
                    curve[at][other] +=
                        weight * chance * (1.0 - chance) * scaled[at] * scaled[other];
                }
            }
        }
        (0..=count).for_each(|at| curve[at][at] += RIDGE);
        let step = solved(curve, slope);
        weights.iter_mut().zip(step).for_each(|(weight, step)| *weight -= step.clamp(-3.0, 3.0));
    }
    let none =
        weights[count] - (0..count).map(|at| weights[at] * mean[at] / spread[at]).sum::<f64>();
    ((0..count).map(|at| weights[at] / spread[at]).collect(), none)
}

/// Gauss's elimination.
fn solved(mut rows: Vec<Vec<f64>>, mut right: Vec<f64>) -> Vec<f64> {
    let count = right.len();
    for at in 0..count {
        let pivot = rows[at].clone();
        let known = right[at];
        for below in at + 1..count {
            let share = rows[below][at] / pivot[at];
            rows[below].iter_mut().zip(&pivot).for_each(|(cell, pivot)| *cell -= share * pivot);
            right[below] -= share * known;
        }
    }
    for at in (0..count).rev() {
        let later: f64 = (at + 1..count).map(|other| rows[at][other] * right[other]).sum();
        right[at] = (right[at] - later) / rows[at][at];
    }
    right
}
