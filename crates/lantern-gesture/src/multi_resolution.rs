//! A drawing as it looks from further and further away: small drawings show the grid of the screen,
//! which is smoothed out, and with it corners are. So two drawings are compared as smooth as the
//! smaller of them must be.

use lantern_model::StrokePath;

use super::elastic_matching;
use super::normal_form::{NormalForm, PathStep, RotationBounds, length_of};

/// How often a drawing is smoothed at each distance.
const PASSES: [usize; 3] = [1, 3, 8];
/// A drawing whose steps are shorter than this, in pixels, must be looked at from further away.
const STEP: [f32; 2] = [2.2, 1.3];

/// How much farther apart the grid of the screen makes two drawings that are the same.
const BLUR: [f32; 3] = [1.0, 1.07, 1.15];

/// A drawing at one smoothness.
#[derive(Debug)]
struct ResolutionLevel {
    form: NormalForm,
    steps: Vec<Vec<PathStep>>,
}

impl ResolutionLevel {
    fn new(form: NormalForm) -> ResolutionLevel {
        ResolutionLevel { steps: form.strokes(), form }
    }
}

/// A drawing as it looks at each smoothness that it may be compared at.
#[derive(Debug)]
pub(super) struct MultiResolution {
    /// From how far it must be looked at, at least.
    distance: usize,
    /// How it looks from there on.
    looks: Vec<ResolutionLevel>,
}

impl MultiResolution {
    /// How a drawing looks; `None` if it has no form.
    pub(super) fn of(strokes: &[StrokePath]) -> Option<MultiResolution> {
        let length: f32 = strokes.iter().map(|stroke| length_of(stroke)).sum();
        let step = length / NormalForm::PIECES as f32;
        let distance = STEP.iter().filter(|least| step < **least).count();
        let forms = NormalForm::smoothed(strokes, &PASSES[distance..])?;
        Some(MultiResolution {
            distance,
            looks: forms.into_iter().map(ResolutionLevel::new).collect(),
        })
    }

    /// The same in a mirror.
    pub(super) fn mirrored(&self) -> MultiResolution {
        let looks =
            self.looks.iter().map(|look| ResolutionLevel::new(look.form.mirrored())).collect();
        MultiResolution { distance: self.distance, looks }
    }

    /// How many strokes it has.
    pub(super) fn strokes(&self) -> usize {
        self.looks[0].form.strokes
    }

    /// How much it turns in all.
    pub(super) fn turning(&self) -> f32 {
        self.looks[0].form.turning()
    }

    /// How both look from as near as both may be looked at, and from how far that is.
    fn beside<'s>(
        &'s self,
        other: &'s MultiResolution,
    ) -> (&'s ResolutionLevel, &'s ResolutionLevel, usize) {
        let distance = self.distance.max(other.distance);
        let look = |sight: &'s MultiResolution| &sight.looks[distance - sight.distance];
        (look(self), look(other), distance)
    }

    /// How alike two drawings are in closed form, from -1 to 1, if one may be turned within bounds.
    pub(super) fn likeness(&self, other: &MultiResolution, bounds: RotationBounds) -> f32 {
        let (own, other, _) = self.beside(other);
        own.form.likeness(&other.form, bounds)
    }

    /// How far they are apart elastically, at the best turn within bounds.
    pub(super) fn apart(&self, other: &MultiResolution, bounds: RotationBounds) -> f32 {
        let (own, other, distance) = self.beside(other);
        let turn = own.form.best_turn(&other.form, bounds);
        elastic_matching::apart(&own.steps, turn, &other.steps) / BLUR[distance]
    }

    /// How much the first is turned for that, as a share of what is allowed.
    pub(super) fn share_of_turn(&self, other: &MultiResolution, bounds: RotationBounds) -> f32 {
        let (own, other, _) = self.beside(other);
        own.form.share_of_turn(&other.form, bounds)
    }
}
