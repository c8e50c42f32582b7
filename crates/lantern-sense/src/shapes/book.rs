//! All shapes that count, and which of them was drawn, if any.

use std::f32::consts::PI;

use super::form::Form;
use super::{Stroke, elastic};

/// So many templates are compared elastically, of all that came nearest in closed form.
const LOOKED_AT: usize = 14;
/// Of one shape at the most.
const LOOKED_AT_EACH: usize = 4;
/// How far a drawing may be from its shape where nothing is known of the person's hand.
const LIMIT: f32 = 0.32;
/// The bounds between which a person's own examples move that limit.
const LIMITS: (f32, f32) = (0.24, 0.42);
/// How many times as far apart a new drawing may be as two examples are on average.
const SPREAD: f32 = 2.4;
/// The next shape must be so many times as far away.
const MARGIN: f32 = 1.08;
/// Strokes of which every order is allowed for, where a shape says that the way does not matter.
const ORDERED: usize = 3;

/// What a shape allows beside being drawn as it was shown.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Allowed {
    /// Its strokes may be drawn backwards and in another order.
    pub any_way: bool,
    /// It may be seen in a mirror that swaps left and right.
    pub mirrored: bool,
    /// By how much it may be turned, in degrees.
    pub turned: f32,
}

impl Default for Allowed {
    fn default() -> Self {
        Allowed { any_way: false, mirrored: false, turned: 15.0 }
    }
}

/// A shape by its examples.
#[derive(Debug, Clone)]
pub struct ShapeExamples {
    /// Its name.
    pub name: String,
    /// Drawings of it.
    pub drawings: Vec<Vec<Stroke>>,
    /// Whether a person's hand drew them, so that they show how it varies.
    pub by_hand: bool,
    /// What else is taken for it.
    pub allowed: Allowed,
}

/// How near a drawing came to a shape.
#[derive(Debug, Clone, PartialEq)]
pub struct Ranked {
    /// The shape's number in the book.
    pub shape: usize,
    /// How far apart they are; 0 is the same.
    pub apart: f32,
    /// The same from 0 to 1; from a half on it is near enough.
    pub score: f32,
}

/// What a drawing is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Verdict {
    /// This shape.
    Is(usize),
    /// None: the nearest is too far off.
    TooFar,
    /// None: it is as much another shape as the nearest.
    TooClose,
    /// None: no shape has as many strokes, or there are none to compare with.
    NoSuch,
}

/// What was found for a drawing: the shapes near it, the nearest first, and the verdict.
#[derive(Debug, Clone, PartialEq)]
pub struct Closeness {
    /// The shapes near it.
    pub ranked: Vec<Ranked>,
    /// Which it is.
    pub verdict: Verdict,
}

#[derive(Debug)]
struct Shape {
    name: String,
    limit: f32,
    most: f32,
}

#[derive(Debug)]
struct Template {
    shape: usize,
    form: Form,
}

/// Shapes to compare with.
#[derive(Debug, Default)]
pub struct ShapeBook {
    shapes: Vec<Shape>,
    templates: Vec<Template>,
}

impl ShapeBook {
    /// A book of these shapes. A drawing in which nothing can be seen is passed over.
    pub fn new(shapes: impl IntoIterator<Item = ShapeExamples>) -> ShapeBook {
        let mut book = ShapeBook::default();
        for (number, shape) in shapes.into_iter().enumerate() {
            let forms: Vec<Form> = shape.drawings.iter().filter_map(|d| Form::of(d)).collect();
            let most = shape.allowed.turned.to_radians().min(PI);
            let limit = if shape.by_hand { limit_of(&forms, most) } else { LIMIT };
            book.shapes.push(Shape { name: shape.name, limit, most });
            let drawings = shape.drawings.iter().flat_map(|drawing| ways(drawing, shape.allowed));
            for form in drawings.filter_map(|drawing| Form::of(&drawing)) {
                if shape.allowed.mirrored {
                    book.templates.push(Template { shape: number, form: form.mirrored() });
                }
                book.templates.push(Template { shape: number, form });
            }
        }
        book
    }

    /// The name of a shape.
    pub fn name(&self, shape: usize) -> &str {
        &self.shapes[shape].name
    }

    /// How many shapes there are.
    pub fn len(&self) -> usize {
        self.shapes.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.shapes.is_empty()
    }

    /// How many drawings are compared with.
    pub fn templates(&self) -> usize {
        self.templates.len()
    }

    /// The strokes that some shape has at the most.
    pub fn most_strokes(&self) -> usize {
        self.templates.iter().map(|template| template.form.strokes).max().unwrap_or(0)
    }

    /// Which of the shapes that count now a drawing is.
    pub fn recognise(&self, drawing: &[Stroke], counts: impl Fn(usize) -> bool) -> Closeness {
        let ranked = Form::of(drawing).map_or_else(Vec::new, |form| self.rank(&form, counts));
        let verdict = match &ranked[..] {
            [] => Verdict::NoSuch,
            [first, ..] if first.apart > self.shapes[first.shape].limit => Verdict::TooFar,
            [first, second, ..] if second.apart < MARGIN * first.apart => Verdict::TooClose,
            [first, ..] => Verdict::Is(first.shape),
        };
        Closeness { ranked, verdict }
    }

    /// The shapes near a form, the nearest first.
    fn rank(&self, form: &Form, counts: impl Fn(usize) -> bool) -> Vec<Ranked> {
        let mut near: Vec<(f32, f32, &Template)> = Vec::with_capacity(self.templates.len());
        for template in &self.templates {
            if template.form.strokes == form.strokes && counts(template.shape) {
                let most = self.shapes[template.shape].most;
                let (likeness, turn) = form.likeness(&template.form.row, most);
                near.push((likeness, turn, template));
            }
        }
        near.sort_unstable_by(|one, other| other.0.total_cmp(&one.0));
        let mut seen: Vec<(usize, usize)> = Vec::new();
        let mut ranked: Vec<Ranked> = Vec::new();
        let mut looked_at = 0;
        for (_, turn, template) in near {
            if looked_at == LOOKED_AT {
                break;
            }
            match seen.iter_mut().find(|(shape, _)| *shape == template.shape) {
                Some((_, times)) if *times == LOOKED_AT_EACH => continue,
                Some((_, times)) => *times += 1,
                None => seen.push((template.shape, 1)),
            }
            looked_at += 1;
            let apart = elastic::apart(&form.turned(turn), &template.form);
            match ranked.iter_mut().find(|ranked| ranked.shape == template.shape) {
                Some(ranked) => ranked.apart = ranked.apart.min(apart),
                None => ranked.push(Ranked { shape: template.shape, apart, score: 0.0 }),
            }
        }
        for found in &mut ranked {
            let off = found.apart / self.shapes[found.shape].limit;
            found.score = (-(std::f32::consts::LN_2 * off * off)).exp();
        }
        // A shape whose examples vary more is not nearer for that: what counts is how far it is.
        ranked.sort_by(|one, other| one.apart.total_cmp(&other.apart));
        ranked
    }
}

/// How far a drawing may be off, from how far a person's own examples are from each other.
fn limit_of(forms: &[Form], most: f32) -> f32 {
    let pairs: Vec<f32> = forms
        .iter()
        .enumerate()
        .flat_map(|(at, one)| forms[at + 1..].iter().map(move |other| (one, other)))
        .filter(|(one, other)| one.strokes == other.strokes)
        .map(|(one, other)| {
            let (_, turn) = one.likeness(&other.row, most);
            elastic::apart(&one.turned(turn), other)
        })
        .collect();
    if pairs.is_empty() {
        return LIMIT;
    }
    let mean = pairs.iter().sum::<f32>() / pairs.len() as f32;
    // Few examples say little of a hand: they count beside one that nobody drew.
    let weight = pairs.len() as f32 / (pairs.len() as f32 + 1.0);
    (weight * SPREAD * mean + (1.0 - weight) * LIMIT).clamp(LIMITS.0, LIMITS.1)
}

/// The ways in which a drawing may be drawn.
fn ways(drawing: &[Stroke], allowed: Allowed) -> Vec<Vec<Stroke>> {
    if !allowed.any_way {
        return vec![drawing.to_vec()];
    }
    let backwards = |stroke: &Stroke| -> Stroke { stroke.iter().rev().copied().collect() };
    if drawing.len() > ORDERED {
        let turned: Vec<Stroke> = drawing.iter().rev().map(backwards).collect();
        return vec![drawing.to_vec(), turned];
    }
    let mut ways: Vec<Vec<Stroke>> = vec![Vec::new()];
    for stroke in drawing {
        let mut longer = Vec::new();
        for way in &ways {
            for place in 0..=way.len() {
                for stroke in [stroke.clone(), backwards(stroke)] {
                    let mut way = way.clone();
                    way.insert(place, stroke);
                    longer.push(way);
                }
            }
        }
        ways = longer;
    }
    ways
}
