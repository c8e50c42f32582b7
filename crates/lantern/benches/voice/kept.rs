//! What was measured so far. Parts take hours, are heard apart, and are drawn together.

use std::path::PathBuf;

use serde::{Deserialize, Serialize};

use crate::plot::{BackgroundTalk, Curve};

/// All parts, each as it was heard last.
#[derive(Default, Serialize, Deserialize)]
pub struct Kept {
    pub curves: Vec<Curve>,
    pub talks: Vec<BackgroundTalk>,
}

/// Where they are kept: beside the figure.
pub struct Store(PathBuf);

impl Store {
    /// That of the judging voices, or of those that limits are set by.
    pub fn of(tuning: bool) -> Store {
        let name =
            if tuning { "cold-lantern-voice-tuning.json" } else { "cold-lantern-voice.json" };
        Store(std::env::temp_dir().join(name))
    }

    /// The figure's file.
    pub fn figure(&self) -> PathBuf {
        self.0.with_extension("png")
    }

    /// What is kept; nothing, if nothing that can be read is.
    pub fn read(&self) -> Kept {
        let text = std::fs::read_to_string(&self.0).unwrap_or_default();
        serde_json::from_str(&text).unwrap_or_default()
    }

    /// Changes what is kept. It is read again for that: another process may have changed another
    /// part.
    pub fn change(&self, change: impl FnOnce(&mut Kept)) {
        let mut kept = self.read();
        change(&mut kept);
        let text = serde_json::to_string(&kept).expect("it is plain data");
        std::fs::write(&self.0, text).expect("the folder is there");
    }
}

impl Kept {
    /// Takes in commands in the place of the same before.
    pub fn add_curve(&mut self, curve: Curve) {
        self.curves.retain(|one| (one.recogniser, one.noise) != (curve.recogniser, curve.noise));
        self.curves.push(curve);
        self.curves.sort_by(|a, b| {
            let quiet_first = b.noise.below().total_cmp(&a.noise.below());
            a.recogniser.cmp(&b.recogniser).then(quiet_first)
        });
    }

    /// Takes in talk in the place of the same before.
    pub fn add_talk(&mut self, talk: BackgroundTalk) {
        let sort = |one: &BackgroundTalk| (one.recogniser, one.called, one.noise);
        self.talks.retain(|one| sort(one) != sort(&talk));
        self.talks.push(talk);
    }
}
