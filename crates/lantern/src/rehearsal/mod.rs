//! Plays a scene: the engine and a simulated back end with one clock between them, which jumps from
//! deadline to deadline.

mod acts;
mod world;

use std::collections::BTreeMap;
use std::time::Duration;

use lantern_backend::{Backend, OutputKind, SimulatedBackend, SimulatedOutput};
use lantern_engine::{DecisionKind, Engine, StopCause};
use lantern_model::{
    CommandResult, Effect, EffectId, EffectKind, Event, Key, Layout, RuleId, RuleSet, RunId, Time,
    WallTime,
};
use lantern_script::scene::{Expectation, Scene, SceneAct};

use crate::recording;
use crate::text::{combo_name, describe, reference_layout};
use crate::timeline::{self, SentEffect, SentEffectKind, Timeline};
use world::ScriptedWorld;

/// How long a key of a scene stays down.
const KEY_DOWN: Duration = Duration::from_millis(50);
/// How long an expectation waits for what it expects.
const PATIENCE: Duration = Duration::from_secs(1);
/// Maximum number of things that are sent out in one scene, and of decisions.
const MOST_SENT: usize = 200_000;
/// Maximum number of deadlines and of events that one scene plays.
const MOST_STEPS: usize = 1_000_000;
/// Maximum number of turns of the engine at one moment of the scene. It meets up to 1,024 deadlines in each.
const MOST_TURNS: usize = 200;

/// An expectation that did not come true.
#[derive(Debug)]
pub struct UnmetExpectation {
    /// The line of the scene, by its number among the lines.
    pub line: usize,
    /// When it was given up.
    pub time: Time,
    /// What was expected.
    pub expected: String,
    /// What came instead.
    pub instead: String,
}

/// What came of a scene.
#[derive(Debug)]
pub struct SceneResult {
    /// Everything that happened.
    pub timeline: Timeline,
    /// How many expectations there were.
    pub expected: usize,
    /// Those that did not come true.
    pub unmet: Vec<UnmetExpectation>,
    /// What stands in each program's text field at the end.
    pub fields: BTreeMap<String, String>,
    /// Why it was not played to its end, if it was not.
    pub cut: Option<String>,
}

impl SceneResult {
    /// Whether it came to its end with every expectation met.
    pub fn has_passed(&self) -> bool {
        self.unmet.is_empty() && self.cut.is_none()
    }
}

/// What came in place of an expectation, in words.
struct CameInstead(String);

/// The seed of all chance in a scene.
const SEED: u64 = 1;

/// What the wall clock shows when a scene begins, unless it says otherwise.
fn first_morning() -> WallTime {
    WallTime::from_civil(2031, 6, 21, 9, 0, 0)
}

/// Plays a scene against rules, from the start.
pub fn play(rules: &RuleSet, scene: &Scene) -> SceneResult {
    play_telling(rules, scene, false)
}

/// The same; with `why`, every decision is listed with its reason.
pub fn play_telling(rules: &RuleSet, scene: &Scene, why: bool) -> SceneResult {
    let mut player = ScenePlayer::new(rules);
    player.why = why;
    player.begin(scene);
    let mut unmet = Vec::new();
    let mut expected = 0;
    for (index, line) in scene.lines.iter().enumerate() {
        if let Some(at) = line.at {
            player.advance_to(at);
        }
        if let SceneAct::Expect(expectation) = &line.act {
            expected += 1;
            let until = scene.lines[index + 1..].iter().find_map(|later| later.at);
            if let Err(CameInstead(instead)) = player.expect(expectation, until) {
                player.matched.missed = player.timeline.sent().len();
                let expected = expectation.to_string();
                let words = format!("expected {expected}, instead {instead}");
                player.timeline.miss(player.now, words);
                unmet.push(UnmetExpectation { line: index, time: player.now, expected, instead });
            }
        } else {
            player.act(&line.act);
        }
    }
    player.advance_to(player.now + PATIENCE);
    let cut = player.cut();
    player.finish();
    let fields = player.backend.fields();
    SceneResult { timeline: player.timeline, expected, unmet, fields, cut }
}

/// What expectations have taken of what was sent.
#[derive(Debug, Default)]
struct MatchedSoFar {
    /// Everything sent before this was expected already.
    consumed: usize,
    /// Everything sent before this was expected, or reported as coming instead of something else.
    told: usize,
    /// Everything sent before this came before the last expectation that was not met ended.
    missed: usize,
    /// Keys of the person's that came to a program, those that were expected left out.
    reached: Vec<Vec<Key>>,
}

/// What a scene has used of its limits.
#[derive(Debug, Default)]
struct SceneBudget {
    /// How many effects were sent.
    sent: usize,
    /// How many decisions were made.
    decided: usize,
    /// How many deadlines and events were played.
    steps: usize,
    /// How many deadlines were handled since the clock last advanced.
    turns: usize,
}

struct ScenePlayer {
    engine: Engine,
    backend: SimulatedBackend,
    world: ScriptedWorld,
    now: Time,
    timeline: Timeline,
    reasons_seen: u64,
    outputs_seen: usize,
    run_rules: BTreeMap<RunId, RuleId>,
    effect_runs: BTreeMap<EffectId, RunId>,
    /// Keys of the scene that go up later.
    releases: BTreeMap<(Time, usize), Vec<Key>>,
    released: usize,
    matched: MatchedSoFar,
    spent: SceneBudget,
    /// Whether every decision is listed.
    why: bool,
}

impl ScenePlayer {
    fn new(rules: &RuleSet) -> ScenePlayer {
        ScenePlayer {
            engine: Engine::new(rules.clone(), SEED),
            backend: SimulatedBackend::new(Layout::us()),
            world: ScriptedWorld::default(),
            now: Time::START,
            timeline: Timeline::default(),
            reasons_seen: 0,
            outputs_seen: 0,
            run_rules: BTreeMap::new(),
            effect_runs: BTreeMap::new(),
            releases: BTreeMap::new(),
            released: 0,
            matched: MatchedSoFar::default(),
            spent: SceneBudget::default(),
            why: false,
        }
    }

    /// Starts the session: sets the clock, and fires the rules that wait for the start.
    fn begin(&mut self, scene: &Scene) {
        self.settle();
        let first = scene.lines.first().map(|line| &line.act);
        if !matches!(first, Some(SceneAct::Clock(_))) {
            self.tell(Event::WallClock(first_morning()));
        }
        self.tell(Event::Started);
    }

    /// Something happens that is not the back end's to see.
    fn tell(&mut self, event: Event) {
        self.engine.handle_event(self.now, event);
        self.settle();
    }

    /// Hands events and effects to and fro until both sides are quiet.
    fn settle(&mut self) {
        loop {
            while let Some(effect) = self.engine.poll_effect() {
                self.take_reasons();
                self.perform(effect);
            }
            self.take_reasons();
            self.take_outputs();
            let event =
                self.backend.poll_event(self.now).expect("a simulated back end never goes away");
            let Some(event) = event else { return };
            if self.cut().is_some() {
                return;
            }
            self.spent.steps += 1;
            self.engine.handle_event(self.now, event);
        }
    }

    fn perform(&mut self, effect: Effect) {
        if let Some(run) = effect.run {
            self.effect_runs.insert(effect.id, run);
        }
        let done = match &effect.kind {
            EffectKind::SetGrabs(grabs) => self.backend.set_grabs(grabs.clone()),
            EffectKind::Input(step) => self.backend.send_input(self.now, effect.id, step),
            EffectKind::ReplayKey(back) => self.backend.replay_key(self.now, back),
            EffectKind::Hint(hint) => self.backend.show_hint(self.now, effect.id, hint),
            // A scene says what is heard.
            EffectKind::Listen(_) => Ok(()),
            EffectKind::Log(text) => {
                self.send(effect.run, SentEffectKind::Logged(text.clone()));
                Ok(())
            }
            EffectKind::Execute(command) => self.perform_command(&effect, command),
            EffectKind::Cancel(effect) => {
                self.world.abandon(*effect);
                Ok(())
            }
        };
        done.expect("a simulated back end never goes away");
    }

    fn finish_effect(&mut self, effect: EffectId, result: CommandResult) {
        self.engine.handle_event(self.now, Event::Outcome { effect, result });
    }

    fn rule_of(&self, run: Option<RunId>) -> Option<String> {
        let rule = self.run_rules.get(&run?)?;
        Some(self.engine.rules()[*rule].label.clone())
    }

    fn send(&mut self, run: Option<RunId>, kind: SentEffectKind) {
        self.spent.sent += 1;
        let rule = self.rule_of(run);
        self.timeline.send(SentEffect {
            time: self.now,
            until: self.now,
            run,
            rule,
            kind,
            count: 1,
        });
    }

    /// A run ended because a step failed; the table says where.
    fn send_failure(&mut self, run: RunId, rule: Option<String>, message: String, words: String) {
        self.spent.sent += 1;
        let kind = SentEffectKind::Failed { message, words };
        let (time, until) = (self.now, self.now);
        self.timeline.send(SentEffect { time, until, run: Some(run), rule, kind, count: 1 });
    }

    fn take_reasons(&mut self) {
        let reasons: Vec<_> = self.engine.decisions_after(self.reasons_seen).cloned().collect();
        for reason in reasons {
            self.reasons_seen = reason.number;
            self.spent.decided += 1;
            let label = reason.rule.map(|rule| self.engine.rules()[rule].label.clone());
            let words = describe(&reason.kind, self.engine.rules());
            match &reason.kind {
                DecisionKind::Fired { run, .. } => {
                    let rule = reason.rule.expect("a rule fired");
                    self.run_rules.insert(*run, rule);
                    let label = label.unwrap_or_default();
                    self.timeline.begin_run(reason.time, *run, label.clone());
                    self.timeline.fire(reason.time, label.clone());
                    if self.why {
                        let words = format!("{words}, run {}", run.0);
                        self.timeline.note(reason.time, Some(label), words);
                    }
                }
                DecisionKind::Ended(run) => {
                    self.timeline.end_run(reason.time, *run, false);
                    if self.why {
                        let words = format!("run {} came to its end", run.0);
                        self.timeline.note(reason.time, label, words);
                    }
                }
                DecisionKind::Stopped(run, _) => {
                    self.timeline.end_run(reason.time, *run, false);
                    self.timeline.note(reason.time, label, words);
                }
                DecisionKind::Failed { run, message, .. } => {
                    self.timeline.end_run(reason.time, *run, true);
                    self.send_failure(*run, label, message.clone(), words);
                }
                _ => self.timeline.note(reason.time, label, words),
            }
        }
    }

    fn take_outputs(&mut self) {
        let outputs: Vec<SimulatedOutput> = self.backend.outputs()[self.outputs_seen..].to_vec();
        self.outputs_seen += outputs.len();
        for output in outputs {
            let Some(effect) = output.effect else {
                if let OutputKind::Tapped(keys) = &output.what {
                    self.timeline.reach(output.time, &combo_name(keys), &output.app);
                    self.matched.reached.push(keys.clone());
                }
                continue;
            };
            let run = self.effect_runs.get(&effect).copied();
            let kind = match output.what {
                OutputKind::Typed(text) => SentEffectKind::Typed(text, output.app),
                OutputKind::Tapped(keys) => SentEffectKind::Tapped(keys, output.app),
                OutputKind::Pressed(key) => SentEffectKind::Pressed(key),
                OutputKind::LetGo(key) => SentEffectKind::LetGo(key),
                OutputKind::PointerAt(x, y) => SentEffectKind::PointerAt(x, y),
                OutputKind::Hint(text) => SentEffectKind::Hint(text),
                OutputKind::Pasted(text) => SentEffectKind::done("paste", text),
            };
            self.send(run, kind);
        }
    }

    fn next_due(&self) -> Option<Time> {
        let release = self.releases.keys().next().map(|(time, _)| *time);
        [self.engine.next_deadline(), release].into_iter().flatten().min()
    }

    /// Does the next thing that is due by `until`; whether there was one.
    fn step(&mut self, until: Time) -> bool {
        let Some(due) = self.next_due().filter(|due| *due <= until) else {
            return false;
        };
        if self.cut().is_some() {
            return false;
        }
        self.spent.steps += 1;
        self.spent.turns = if due > self.now { 0 } else { self.spent.turns + 1 };
        self.now = due.max(self.now);
        let release = self.releases.first_key_value().map(|((time, _), _)| *time);
        if release == Some(due) {
            let (_, keys) = self.releases.pop_first().expect("it was looked at just now");
            for key in keys {
                self.backend.release(key);
            }
        } else {
            self.engine.handle_deadline(self.now);
        }
        self.settle();
        true
    }

    fn advance_to(&mut self, time: Time) {
        while self.step(time) {}
        self.now = self.now.max(time);
    }

    /// Waits for what is expected, no longer than until `limit` or patience ends.
    fn expect(
        &mut self,
        expectation: &Expectation,
        limit: Option<Time>,
    ) -> Result<(), CameInstead> {
        let started = self.now;
        if let Expectation::Down(_) | Expectation::Up(_) = expectation {
            return self.expect_held(expectation);
        }
        if let Expectation::Nothing(span) = expectation {
            let end = started + *span;
            self.advance_to(limit.map_or(end, |limit| limit.min(end)));
            // Effects before a missed expectation are listed with it.
            let fresh = self.matched.consumed.max(self.matched.told).max(self.matched.missed);
            return match self.timeline.sent().get(fresh) {
                None => Ok(()),
                Some(sent) => Err(CameInstead(sent.describe())),
            };
        }
        let end = started + PATIENCE;
        let end = limit.map_or(end, |limit| limit.min(end));
        loop {
            let fresh = &self.timeline.sent()[self.matched.consumed..];
            if let Some(index) = fresh.iter().position(|sent| sent.meets(expectation)) {
                self.matched.consumed += index + 1;
                return Ok(());
            }
            if let Expectation::Reached(combo) = expectation
                && let Some(index) =
                    self.matched.reached.iter().position(|k| timeline::same_keys(combo, k))
            {
                self.matched.reached.drain(..=index);
                return Ok(());
            }
            if !self.step(end) {
                break;
            }
        }
        let Some(index) = nearest(expectation, self.untold()) else {
            let more = if self.matched.told > self.matched.consumed { " more" } else { "" };
            return Err(CameInstead(format!("nothing{more} came")));
        };
        let instead = self.untold()[index].describe();
        self.matched.told = self.matched.consumed.max(self.matched.told) + index + 1;
        Err(CameInstead(instead))
    }

    /// What was sent and neither expected nor told of as coming instead of something else.
    fn untold(&self) -> &[SentEffect] {
        &self.timeline.sent()[self.matched.consumed.max(self.matched.told)..]
    }

    /// Whether keys are down, or up, for the program in front.
    fn expect_held(&mut self, expectation: &Expectation) -> Result<(), CameInstead> {
        let (combo, wanted) = match expectation {
            Expectation::Down(combo) => (combo, true),
            Expectation::Up(combo) => (combo, false),
            other => unreachable!("only keys are held, not {other}"),
        };
        let held = self.backend.held_keys();
        let keys = reference_layout().press_order(combo).unwrap_or_default();
        if keys.iter().all(|key| held.contains(key) == wanted) {
            // That it went down or up has been expected with it.
            let moved = |sent: &SentEffect| match &sent.kind {
                SentEffectKind::Pressed(key) => wanted && keys.contains(key),
                SentEffectKind::LetGo(key) => !wanted && keys.contains(key),
                _ => false,
            };
            let fresh = &self.timeline.sent()[self.matched.consumed..];
            self.matched.consumed += fresh.iter().take_while(|sent| moved(sent)).count();
            return Ok(());
        }
        let names: Vec<&str> = held.iter().map(|key| key.name()).collect();
        let held = if names.is_empty() { "no key is down".to_owned() } else { names.join(", ") };
        Err(CameInstead(held))
    }

    /// Why the scene is played no further, if it is not: it holds a loop that nothing stops.
    fn cut(&self) -> Option<String> {
        if self.spent.sent > MOST_SENT {
            Some(format!("more than {MOST_SENT} things went out"))
        } else if self.spent.decided > MOST_SENT {
            Some(format!("more than {MOST_SENT} decisions were made"))
        } else if self.spent.turns > MOST_TURNS {
            Some("steps are repeated without any time between them".to_owned())
        } else if self.spent.steps > MOST_STEPS {
            Some(format!("more than {MOST_STEPS} deadlines and events were played"))
        } else {
            None
        }
    }

    /// The end of the scene: whatever still runs is stopped.
    fn finish(&mut self) {
        if let Some(why) = self.cut() {
            self.timeline.note(self.now, None, format!("stopped here: {why}"));
        }
        let (runs, _) = self.engine.stop_everything(self.now, StopCause::SceneEnd);
        if runs > 0 {
            self.take_reasons();
        }
    }
}

/// Of what came, the index of what is most like what was expected: of its sort if there is one.
fn nearest(expectation: &Expectation, came: &[SentEffect]) -> Option<usize> {
    let wanted = expectation.to_string();
    let sort = |text: &str| text.split(' ').next().unwrap_or_default().to_owned();
    let written = |sent: &SentEffect| {
        recording::expectation_of(sent).map_or_else(String::new, |came| came.to_string())
    };
    let unlike = |sent: &SentEffect| {
        let came = written(sent);
        let other_sort = sort(&came) != sort(&wanted);
        (other_sort, lantern_script::distance(&came, &wanted))
    };
    came.iter().enumerate().min_by_key(|(_, sent)| unlike(sent)).map(|(index, _)| index)
}
