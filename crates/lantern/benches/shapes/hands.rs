//! Two families of hands that draw: limits are set on what the first draws, and judged by what the
//! second draws, which moves by other laws.

use std::f32::consts::{FRAC_1_SQRT_2, PI, TAU};

use fastrand::Rng;
use lantern_model::{Point, StrokePath};

use super::outlines::{Meant, Outline, Part};

/// A number around 0 that strays by 1, as errors do.
fn stray(dice: &mut Rng) -> f32 {
    let (one, other) = (1.0 - dice.f32(), dice.f32());
    (-2.0 * one.ln()).sqrt() * (TAU * other).cos()
}

fn between(dice: &mut Rng, from: f32, to: f32) -> f32 {
    from + (to - from) * dice.f32()
}

/// Which law a hand moves by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Family {
    /// Each part of a stroke is a pulse of speed, lognormal in time, and pulses overlap: the
    /// kinematic theory of Plamondon, "A kinematic theory of rapid human movements" (Biological
    /// Cybernetics 72, 1995).
    Pulses,
    /// The path is bent, smoothed and turned as a whole, and followed the slower the more it bends:
    /// the power law of Lacquaniti, Terzuolo and Viviani (Acta Psychologica 54, 1983).
    Bends,
}

/// A person, by the habits of their hand.
#[derive(Debug, Clone)]
pub struct Hand {
    family: Family,
    /// Sideways for each step down.
    slant: f32,
    /// How much wider than high.
    width: f32,
    /// By how much everything is turned.
    turn: f32,
    /// How much corners are cut.
    rounding: f32,
    /// How much lengths, headings and places vary from drawing to drawing.
    loose: f32,
    /// Trembling, in shares of the size, and how many times a second.
    tremor: f32,
    tremble: f32,
    /// How long each part is made by habit, by its number.
    habits: Vec<f32>,
    /// Reports a second.
    rate: f32,
}

impl Hand {
    /// Somebody's.
    pub fn of(family: Family, dice: &mut Rng) -> Hand {
        Hand {
            family,
            slant: 0.12 * stray(dice).clamp(-2.0, 2.0),
            width: (0.15 * stray(dice)).clamp(-0.35, 0.35).exp(),
            turn: 0.05 * stray(dice).clamp(-2.0, 2.0),
            rounding: between(dice, 0.15, 1.0),
            loose: between(dice, 0.5, 1.3),
            tremor: between(dice, 0.001, 0.008),
            tremble: between(dice, 6.0, 12.0),
            habits: (0..16).map(|_| (0.12 * stray(dice)).exp()).collect(),
            rate: between(dice, 60.0, 500.0),
        }
    }

    /// Draws a shape once, between 20 and 2,000 pixels large.
    pub fn draw(&self, meant: &Meant, dice: &mut Rng) -> Vec<StrokePath> {
        let size = 20.0 * 100.0_f32.powf(dice.f32());
        let strokes: Vec<StrokePath> =
            meant.strokes.iter().map(|outline| self.stroke(outline, dice)).collect();
        let turn = self.turn + 0.04 * self.loose * stray(dice);
        let slant = self.slant + 0.03 * self.loose * stray(dice);
        let width = self.width * (0.05 * self.loose * stray(dice)).exp();
        let extent =
            strokes.iter().flatten().fold(0.1_f32, |m, (x, y)| m.max(x.abs()).max(y.abs()));
        let corner = (between(dice, 0.0, 3000.0), between(dice, 0.0, 1500.0));
        let wander = 0.03 * self.loose;
        strokes
            .into_iter()
            .map(|stroke| {
                // A stroke is set down a little off its place.
                let aside = (wander * stray(dice), wander * stray(dice));
                let place = |(x, y): Point| {
                    let (x, y) = ((x + aside.0 - slant * y) * width, y + aside.1);
                    let (sine, cosine) = turn.sin_cos();
                    let (x, y) = (x * cosine - y * sine, x * sine + y * cosine);
                    let scale = size / extent;
                    ((x * scale + corner.0).round(), (y * scale + corner.1).round())
                };
                let mut spots: StrokePath = stroke.into_iter().map(place).collect();
                spots.dedup();
                spots
            })
            .collect()
    }

    fn stroke(&self, outline: &Outline, dice: &mut Rng) -> StrokePath {
        let mut outline = outline.clone();
        for (number, part) in outline.parts.iter_mut().enumerate() {
            let habit = self.habits[number % self.habits.len()];
            part.length *= habit * (0.07 * self.loose * stray(dice)).exp();
            let off = 0.05 * self.loose * stray(dice);
            let bend = 0.07 * self.loose * stray(dice);
            (part.from, part.to) = (part.from + off - bend, part.to + off + bend);
        }
        if outline.parts.is_empty() {
            return vec![outline.start];
        }
        match self.family {
            Family::Pulses => self.pulses(&outline, dice),
            Family::Bends => self.bends(&outline, dice),
        }
    }

    /// Speeds of all parts, summed.
    fn pulses(&self, outline: &Outline, dice: &mut Rng) -> StrokePath {
        let mut pulses: Vec<Heartbeat> = Vec::new();
        let mut at = 0.0;
        for part in &outline.parts {
            let spread = between(dice, 0.18, 0.32);
            let span = between(dice, 0.16, 0.26) * part.length.max(0.2).powf(0.35);
            pulses.push(Heartbeat { part: *part, at, median: span.ln(), spread });
            // The next begins before this one has ended: the more, the rounder the corner.
            let done = (spread * (2.2 - 1.5 * self.rounding)).exp() * span;
            at += done.max(0.05) - 0.55 * span;
        }
        let last = pulses.last().map_or(0.0, |pulse| pulse.at + 3.0 * pulse.median.exp());
        let phase = TAU * dice.f32();
        let (mut x, mut y) = outline.start;
        let mut spots = vec![(x, y)];
        let (mut time, mut due) = (0.0, 0.0);
        const STEP: f32 = 0.0005;
        while time < last {
            for pulse in &pulses {
                let (speed, heading) = pulse.at(time);
                x += STEP * speed * heading.cos();
                y += STEP * speed * heading.sin();
            }
            time += STEP;
            if time >= due {
                due += between(dice, 0.4, 1.6) / self.rate;
                spots.push(self.trembling((x, y), time, phase, dice));
            }
        }
        spots
    }

    /// The path as a whole, bent and smoothed, followed by the power law.
    fn bends(&self, outline: &Outline, dice: &mut Rng) -> StrokePath {
        const STEP: f32 = 0.01;
        let spots = outline.spots(STEP);
        let waves: Vec<[f32; 4]> = (0..3)
            .map(|wave| {
                let size = 0.035 * self.loose / (1.0 + wave as f32);
                [
                    between(dice, 0.5, 2.0 + wave as f32),
                    TAU * dice.f32(),
                    size * stray(dice),
                    size * stray(dice),
                ]
            })
            .collect();
        let drift = 0.06 * self.loose * stray(dice);
        let whole = (spots.len() - 1).max(1) as f32;
        let bent: StrokePath = spots
            .iter()
            .enumerate()
            .map(|(at, (x, y))| {
                let gone = at as f32 / whole;
                let (sine, cosine) = (drift * (gone - 0.5)).sin_cos();
                let (mut x, mut y) = (x * cosine - y * sine, x * sine + y * cosine);
                for [often, phase, across, down] in &waves {
                    let wave = (TAU * often * gone + phase).sin();
                    (x, y) = (x + across * wave, y + down * wave);
                }
                (x, y)
            })
            .collect();
        let reach = ((0.02 + 0.10 * self.rounding) / STEP) as usize;
        let mut round = blurred(&blurred(&bent, reach), reach);
        // A hand that is fast flicks on at the end.
        if dice.f32() < 0.3 && round.len() > 20 {
            let (end, before) = (round[round.len() - 1], round[round.len() - 12]);
            let turn = 1.2 * stray(dice);
            let heading = (end.1 - before.1).atan2(end.0 - before.0) + turn;
            let flick = between(dice, 0.0, 0.07);
            round.push((end.0 + flick * heading.cos(), end.1 + flick * heading.sin()));
        }
        let phase = TAU * dice.f32();
        let pace = between(dice, 2.0, 6.0);
        let (mut time, mut due) = (0.0, 0.0);
        let mut drawn = vec![round[0]];
        for three in round.windows(3) {
            let (one, two) = (heading(three[0], three[1]), heading(three[1], three[2]));
            let bend = ((two - one + PI).rem_euclid(TAU) - PI).abs() / STEP;
            time += STEP * (0.3 + bend).powf(1.0 / 3.0) / pace;
            if time >= due {
                // Now and then a report is missing.
                due = time
                    + between(dice, 0.5, 1.5) / self.rate
                        * if dice.f32() < 0.03 { 4.0 } else { 1.0 };
                drawn.push(self.trembling(three[2], time, phase, dice));
            }
        }
        drawn.extend(round.last().copied());
        drawn
    }

    fn trembling(&self, (x, y): Point, time: f32, phase: f32, dice: &mut Rng) -> Point {
        let swing = self.tremor * (TAU * self.tremble * time + phase).sin();
        let noise = 0.3 * self.tremor;
        (
            x + swing * phase.cos() + noise * stray(dice),
            y + swing * phase.sin() + noise * stray(dice),
        )
    }
}

/// One part of a stroke as a pulse of speed.
struct Heartbeat {
    part: Part,
    at: f32,
    median: f32,
    spread: f32,
}

impl Heartbeat {
    /// The speed and heading at a time: equations 1 and 2 of Plamondon's theory for one stroke.
    fn at(&self, time: f32) -> (f32, f32) {
        let since = time - self.at;
        if since <= 0.0 {
            return (0.0, 0.0);
        }
        let off = (since.ln() - self.median) / self.spread;
        let density = (-off * off / 2.0).exp() / (since * self.spread * TAU.sqrt());
        let done = 0.5 * (1.0 + erf(off * FRAC_1_SQRT_2));
        let part = &self.part;
        (part.length * density, part.from + (part.to - part.from) * done)
    }
}

/// The error function, by formula 7.1.26 of Abramowitz and Stegun.
fn erf(x: f32) -> f32 {
    let share = 1.0 / (1.0 + 0.327_591_1 * x.abs());
    let terms = [1.061_405_4, -1.453_152_1, 1.421_413_7, -0.284_496_74, 0.254_829_6];
    let sum = terms.into_iter().fold(0.0, |sum, term| (sum + term) * share);
    (1.0 - sum * (-x * x).exp()).copysign(x)
}

fn heading(from: Point, to: Point) -> f32 {
    (to.1 - from.1).atan2(to.0 - from.0)
}

/// Each place as the mean of those up to `reach` away; the ends stay near where they are.
fn blurred(spots: &[Point], reach: usize) -> StrokePath {
    (0..spots.len())
        .map(|at| {
            let reach = reach.min(at).min(spots.len() - 1 - at);
            let near = &spots[at - reach..=at + reach];
            let count = near.len() as f32;
            let sum = near.iter().fold((0.0, 0.0), |sum, spot| (sum.0 + spot.0, sum.1 + spot.1));
            (sum.0 / count, sum.1 / count)
        })
        .collect()
}

/// Drawn without a meaning: a heading that wanders.
pub fn scribble(dice: &mut Rng) -> Vec<StrokePath> {
    let strokes = if dice.f32() < 0.85 { 1 } else { 2 };
    let size = 20.0 * 100.0_f32.powf(dice.f32());
    (0..strokes)
        .map(|_| {
            let (mut x, mut y) = (dice.f32(), dice.f32());
            let (mut heading, mut bend) = (TAU * dice.f32(), 0.0);
            let wild = between(dice, 0.5, 4.0);
            (0..between(dice, 80.0, 500.0) as usize)
                .map(|_| {
                    bend = 0.9 * bend + 0.12 * wild * stray(dice);
                    if dice.f32() < 0.01 * wild {
                        heading += PI * stray(dice);
                    }
                    heading += 0.1 * bend;
                    (x, y) = (x + 0.02 * heading.cos(), y + 0.02 * heading.sin());
                    ((x * size).round(), (y * size).round())
                })
                .collect()
        })
        .collect()
}

/// Ordinary movement of a mouse: to one thing after another, with a correction before each.
pub fn errand(dice: &mut Rng) -> Vec<StrokePath> {
    let mut at = (between(dice, 0.0, 1900.0), between(dice, 0.0, 1000.0));
    let mut spots = vec![at];
    for _ in 0..dice.usize(1..3) {
        let goal = (between(dice, 0.0, 1900.0), between(dice, 0.0, 1000.0));
        let miss = (goal.0 + 15.0 * stray(dice), goal.1 + 15.0 * stray(dice));
        for (target, bow) in [(miss, 0.08 * stray(dice)), (goal, 0.0)] {
            let (across, down) = (target.0 - at.0, target.1 - at.1);
            let reports = (8.0 + across.hypot(down) / 12.0) as usize;
            for report in 1..=reports {
                let gone = report as f32 / reports as f32;
                // The smoothest way from rest to rest: Flash and Hogan (1985).
                let share = gone.powi(3) * (10.0 - 15.0 * gone + 6.0 * gone * gone);
                let side = bow * (PI * share).sin();
                spots.push((
                    (at.0 + across * share - down * side).round(),
                    (at.1 + down * share + across * side).round(),
                ));
            }
            at = target;
        }
    }
    vec![spots]
}
