//! All shapes that count, and which of them was drawn, if any.

use std::collections::{BTreeMap, BTreeSet};
use std::f32::consts::LN_2;

use lantern_model::{Shape, ShapeDescription, ShapeTolerance, StrokePath};

use super::evidence::{EvidenceVector, ExampleSpread, ShapeFeatures, ShapeProfile};
use super::multi_resolution::MultiResolution;
use super::normal_form::RotationBounds;

/// So many templates are compared elastically, of all that came nearest in closed form.
const LOOKED_AT: usize = 8;
/// Of one shape at the most.
const LOOKED_AT_EACH: usize = 3;
/// From here on it is likelier the shape than not.
const HALF: f32 = 0.5;
/// How much of the second nearest template counts for the order of shapes.
const SECOND: f32 = 0.4;
/// The next shape must be so many times as far away.
const MARGIN: f32 = 1.04;
/// What may be the beginning of a shape of several strokes is at most so far from it.
const BEGINNING: f32 = 0.5;
/// Strokes of which every order is allowed for, where a shape says that the way does not matter.
const ORDERED: usize = 3;

/// How near a drawing came to a shape.
#[derive(Debug, Clone, PartialEq)]
pub struct RankedShape {
    /// The shape's number in the book.
    pub shape: usize,
    /// How far apart they are; 0 is the same.
    pub apart: f32,
    /// How sure it is that it is this one, from 0 to 1; from a half on it counts.
    pub score: f32,
    /// What that was told by.
    pub signs: EvidenceVector,
}

/// What a drawing is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Recognition {
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
pub struct RankedShapes {
    /// The shapes near it.
    pub ranked: Vec<RankedShape>,
    /// Which it is.
    pub verdict: Recognition,
}

/// Number of examples of a book up to which the shapes are compared with all others.
const COMPARED_WITH_ALL: usize = 2000;
/// Number of shapes that each is compared with in a larger book.
const NEIGHBOURS: usize = 8;

/// Two shapes and how alike they are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct AlikeShapes {
    /// The shape with the smaller number.
    pub first: usize,
    /// The other.
    pub second: usize,
    /// How alike they are, from 0 to 1: a half where the one is as far from the other as a drawing of
    /// that may be.
    pub likeness: f32,
}

#[derive(Debug)]
struct KnownShape {
    name: String,
    nature: ShapeProfile,
    /// By how much it may be turned.
    bounds: RotationBounds,
}

#[derive(Debug)]
struct Template {
    shape: usize,
    sight: MultiResolution,
}

/// Shapes to compare with.
#[derive(Debug, Default)]
pub struct ShapeIndex {
    shapes: Vec<KnownShape>,
    templates: Vec<Template>,
    /// What is drawn of a shape of several strokes before its last.
    beginnings: Vec<Template>,
}

/// How far a drawing is from the nearest template of a shape, which that is, and from the next.
struct NearestTemplate<'t> {
    template: &'t Template,
    first: f32,
    second: Option<f32>,
}

impl<'t> NearestTemplate<'t> {
    fn add(&mut self, apart: f32, template: &'t Template) {
        let larger = apart.max(self.first);
        if apart < self.first {
            (self.first, self.template) = (apart, template);
        }
        self.second = Some(self.second.map_or(larger, |second| larger.min(second)));
    }

    fn next(&self) -> f32 {
        self.second.unwrap_or(self.first)
    }

    /// Two examples say more than one: the second counts as well.
    fn apart(&self) -> f32 {
        self.first + SECOND * (self.next() - self.first)
    }
}

impl ShapeIndex {
    /// A book of these shapes. A drawing in which nothing can be seen is passed over.
    pub fn new(shapes: &[Shape]) -> ShapeIndex {
        let mut book = ShapeIndex::default();
        let mut spreads: Vec<Option<ExampleSpread>> = Vec::new();
        for (number, shape) in shapes.iter().enumerate() {
            let by_hand = matches!(shape.description, ShapeDescription::Drawn(_));
            let sights: Vec<MultiResolution> =
                shape.drawings.iter().filter_map(|d| MultiResolution::of(d)).collect();
            let bounds = RotationBounds::degrees(shape.tolerance.max_rotation);
            let nature = ShapeProfile::of(&sights, by_hand);
            spreads.push(by_hand.then(|| ExampleSpread::of(&sights, bounds)));
            book.shapes.push(KnownShape { name: shape.name.clone(), nature, bounds });
            let drawings = shape.drawings.iter().flat_map(|drawing| ways(drawing, shape.tolerance));
            for drawing in drawings {
                book.add_beginnings(number, &drawing, shape.tolerance);
                let Some(sight) = MultiResolution::of(&drawing) else { continue };
                if shape.tolerance.mirrored {
                    book.templates.push(Template { shape: number, sight: sight.mirrored() });
                }
                book.templates.push(Template { shape: number, sight });
            }
        }
        let drawn = spreads.iter().flatten();
        let hand = drawn.fold(ExampleSpread::default(), |all, spread| all.and(spread));
        for (shape, spread) in book.shapes.iter_mut().zip(spreads) {
            let evenness = spread.map_or(1.0, |spread| spread.evenness(hand));
            shape.nature = shape.nature.by(evenness);
        }
        book
    }

    fn add_beginnings(&mut self, shape: usize, drawing: &[StrokePath], allowed: ShapeTolerance) {
        for strokes in 1..drawing.len() {
            let Some(sight) = MultiResolution::of(&drawing[..strokes]) else { return };
            if allowed.mirrored {
                self.beginnings.push(Template { shape, sight: sight.mirrored() });
            }
            self.beginnings.push(Template { shape, sight });
        }
    }

    /// Whether strokes may be the first ones of a shape that has more.
    pub fn may_go_on(&self, strokes: &[StrokePath], counts: impl Fn(usize) -> bool) -> bool {
        let Some(sight) = MultiResolution::of(strokes) else { return false };
        let fits = |template: &Template| {
            sight.apart(&template.sight, self.shapes[template.shape].bounds) <= BEGINNING
        };
        let same = |template: &&Template| template.sight.strokes() == sight.strokes();
        self.beginnings.iter().filter(same).any(|one| counts(one.shape) && fits(one))
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

    /// Which of the shapes that count now a drawing is.
    pub fn recognise(
        &self,
        drawing: &[StrokePath],
        counts: impl Fn(usize) -> bool,
    ) -> RankedShapes {
        let ranked =
            MultiResolution::of(drawing).map_or_else(Vec::new, |sight| self.rank(&sight, counts));
        let verdict = match &ranked[..] {
            [] => Recognition::NoSuch,
            [first, ..] if first.score < HALF => Recognition::TooFar,
            [first, second, ..] if second.apart < MARGIN * first.apart => Recognition::TooClose,
            [first, ..] => Recognition::Is(first.shape),
        };
        RankedShapes { ranked, verdict }
    }

    /// Pairs of shapes that are at least so alike, the most alike first.
    pub fn alike_pairs(&self, least: f32) -> Vec<AlikeShapes> {
        let mut pairs: BTreeMap<(usize, usize), f32> = BTreeMap::new();
        let limit = |shape: &KnownShape| shape.nature.limit(self.shapes.len());
        let limits: Vec<f32> = self.shapes.iter().map(limit).collect();
        let neighbours = self.neighbours();
        for template in &self.templates {
            let near = &neighbours[template.shape];
            for found in self.rank(&template.sight, |shape| near.contains(&shape)) {
                let pair = (template.shape.min(found.shape), template.shape.max(found.shape));
                let likeness = pairs.entry(pair).or_default();
                let off = found.apart / limits[found.shape];
                *likeness = likeness.max((-(LN_2 * off * off)).exp());
            }
        }
        let pairs = pairs.into_iter().filter(|(_, likeness)| *likeness >= least);
        let pairs =
            pairs.map(|((first, second), likeness)| AlikeShapes { first, second, likeness });
        let mut pairs: Vec<AlikeShapes> = pairs.collect();
        pairs.sort_by(|one, other| other.likeness.total_cmp(&one.likeness));
        pairs
    }

    /// For each shape those that may be like it: all others of a small book. In a large one, in which it would
    /// take minutes to compare all examples of all shapes, those to which the first example of it is most
    /// alike in closed form.
    fn neighbours(&self) -> Vec<BTreeSet<usize>> {
        let all = 0..self.shapes.len();
        if self.templates.len() <= COMPARED_WITH_ALL {
            return all
                .clone()
                .map(|own| all.clone().filter(|other| *other != own).collect())
                .collect();
        }
        let mut neighbours = vec![BTreeSet::new(); self.shapes.len()];
        for own in all {
            let Some(first) = self.templates.iter().find(|template| template.shape == own) else {
                continue;
            };
            let mut best = vec![f32::NEG_INFINITY; self.shapes.len()];
            let strokes = first.sight.strokes();
            for template in self.templates.iter().filter(|other| other.sight.strokes() == strokes) {
                let likeness =
                    first.sight.likeness(&template.sight, self.shapes[template.shape].bounds);
                best[template.shape] = best[template.shape].max(likeness);
            }
            best[own] = f32::NEG_INFINITY;
            let mut nearest: Vec<usize> = (0..best.len()).collect();
            nearest.sort_by(|one, other| best[*other].total_cmp(&best[*one]));
            for other in
                nearest.into_iter().take(NEIGHBOURS).filter(|other| best[*other].is_finite())
            {
                neighbours[own].insert(other);
                neighbours[other].insert(own);
            }
        }
        neighbours
    }

    /// The shapes near a drawing, the nearest first.
    fn rank(&self, sight: &MultiResolution, counts: impl Fn(usize) -> bool) -> Vec<RankedShape> {
        let mut near: Vec<(f32, &Template)> = Vec::with_capacity(self.templates.len());
        let counting: Vec<bool> = (0..self.shapes.len()).map(counts).collect();
        let shapes = counting.iter().filter(|counts| **counts).count();
        for template in &self.templates {
            if template.sight.strokes() == sight.strokes() && counting[template.shape] {
                let bounds = self.shapes[template.shape].bounds;
                near.push((sight.likeness(&template.sight, bounds), template));
            }
        }
        near.sort_unstable_by(|one, other| other.0.total_cmp(&one.0));
        let mut seen: Vec<(usize, usize)> = Vec::new();
        let mut found: Vec<NearestTemplate> = Vec::new();
        let mut looked_at = 0;
        for (_, template) in near {
            if looked_at == LOOKED_AT {
                break;
            }
            match seen.iter_mut().find(|(shape, _)| *shape == template.shape) {
                Some((_, times)) if *times == LOOKED_AT_EACH => continue,
                Some((_, times)) => *times += 1,
                None => seen.push((template.shape, 1)),
            }
            looked_at += 1;
            let apart = sight.apart(&template.sight, self.shapes[template.shape].bounds);
            match found.iter_mut().find(|near| near.template.shape == template.shape) {
                Some(nearest) => nearest.add(apart, template),
                None => found.push(NearestTemplate { template, first: apart, second: None }),
            }
        }
        // A shape whose examples vary more is not nearer for that: what counts is how far it is.
        found.sort_by(|one, other| one.apart().total_cmp(&other.apart()));
        let rivals: Vec<f32> = found.iter().map(NearestTemplate::apart).collect();
        let turning = sight.turning();
        let rank = |(place, nearest): (usize, &NearestTemplate)| {
            let Template { shape, sight: nearest_sight } = nearest.template;
            let known = &self.shapes[*shape];
            let apart = nearest.apart();
            let rival = rivals.get(if place == 0 { 1 } else { 0 });
            let (score, signs) = known.nature.certainty(ShapeFeatures {
                near: (nearest.first, nearest.next()),
                rival: rival.map_or(f32::INFINITY, |rival| rival / apart.max(f32::EPSILON)),
                turned: sight.share_of_turn(nearest_sight, known.bounds),
                turning,
                shapes,
            });
            RankedShape { shape: *shape, apart, score, signs }
        };
        found.iter().enumerate().map(rank).collect()
    }
}

/// Number of examples that a book holds of a shape: each drawing in each way that is allowed.
pub fn examples_of(shape: &Shape) -> usize {
    let ways = |strokes: usize| match (shape.tolerance.any_direction, strokes) {
        (false, _) => 1,
        // Every order, each stroke either way.
        (true, strokes) if strokes <= ORDERED => (1..=strokes).map(|count| 2 * count).product(),
        (true, _) => 2,
    };
    let sides = if shape.tolerance.mirrored { 2 } else { 1 };
    shape.drawings.iter().map(|drawing| sides * ways(drawing.len())).sum()
}

/// The ways in which a drawing may be drawn.
fn ways(drawing: &[StrokePath], allowed: ShapeTolerance) -> Vec<Vec<StrokePath>> {
    if !allowed.any_direction {
        return vec![drawing.to_vec()];
    }
    let backwards = |stroke: &StrokePath| -> StrokePath { stroke.iter().rev().copied().collect() };
    if drawing.len() > ORDERED {
        let turned: Vec<StrokePath> = drawing.iter().rev().map(backwards).collect();
        return vec![drawing.to_vec(), turned];
    }
    let mut ways: Vec<Vec<StrokePath>> = vec![Vec::new()];
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
