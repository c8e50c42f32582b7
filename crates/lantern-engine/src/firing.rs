//! From a press to a run: which rule wins, what a second firing does, what a release ends.

use std::sync::Arc;

use lantern_model::{
    Again, ArmedKey, Combo, Key, Manner, Modifiers, Order, RunId, Side, Time, Value,
};

use crate::engine::{Down, Engine};
use crate::reasons::ReasonKind;
use crate::runs::{Frame, Press, Run, State};
use crate::timers::Timer;
use crate::watch::Stroke;

/// A firing that waits for the run before it.
#[derive(Debug)]
pub(crate) struct Waiting {
    press: Press,
    trigger: usize,
}

/// What became of a press among the rules.
struct Won {
    rule: usize,
    trigger: usize,
}

impl Engine {
    /// A withheld key went down.
    pub(crate) fn handle_press(&mut self, now: Time, key: Key, modifiers: Modifiers) {
        let stroke = (key, modifiers.families(self.layout.alt_gr_is_level3));
        if self.watch.is_panic(stroke) {
            let (runs, keys) = self.stop_everything(now, "the panic key");
            self.give_reason(now, None, ReasonKind::Panic { runs, keys });
            return;
        }
        let press = self.next_press(key);
        let given_back = !self.take_press(now, stroke, modifiers, press);
        if given_back {
            self.emit(None, Order::GiveBack(key));
        }
    }

    fn next_press(&mut self, key: Key) -> Press {
        self.presses += 1;
        Press { key, number: self.presses }
    }

    /// Fires what the press fires; whether the program must not get it.
    fn take_press(&mut self, now: Time, stroke: Stroke, held: Modifiers, press: Press) -> bool {
        if self.stop_by_trigger(now, stroke, held) {
            return true;
        }
        let pressed = self.winner(now, stroke, held, Manner::Pressed);
        let released = self.winner(now, stroke, held, Manner::Released);
        let rules = Arc::clone(&self.rules);
        let repeats = pressed
            .as_ref()
            .filter(|won| rules.rules[won.rule].repeating)
            .map(|won| (won.rule, won.trigger));
        let withheld =
            [&pressed, &released].into_iter().flatten().any(|won| !rules.rules[won.rule].passing);
        let wanted = pressed.is_some() || released.is_some();
        let on_release = released.map(|won| (won.rule, won.trigger));
        self.down.insert(press.key, Down { press, on_release, repeats });
        if repeats.is_some() {
            let due = now + self.layout.repeat.delay;
            self.timers.add(due, Timer::Repeat(press.key, press.number));
        }
        if let Some(won) = pressed {
            self.fire(now, won.rule, won.trigger, press, false);
        }
        if !wanted {
            let combo = self.watch.candidates(stroke).first().map(|candidate| {
                rules.rules[candidate.rule].triggers[candidate.trigger].combo.to_string()
            });
            let combo = combo.unwrap_or_else(|| press.key.to_string());
            self.give_reason(now, None, ReasonKind::GivenBack(combo));
        }
        withheld
    }

    /// The first rule for the stroke whose condition holds.
    fn winner(
        &mut self,
        now: Time,
        stroke: Stroke,
        held: Modifiers,
        manner: Manner,
    ) -> Option<Won> {
        let rules = Arc::clone(&self.rules);
        let mut failed = Vec::new();
        let mut won = None;
        for candidate in self.watch.candidates(stroke) {
            if candidate.stops_only || candidate.manner != manner || !candidate.fits(held) {
                continue;
            }
            let condition = rules.rules[candidate.rule].condition.as_ref();
            match condition.map_or(Ok(true), |test| self.scope(&[], true).truth(test)) {
                Ok(true) => {
                    won = Some(Won { rule: candidate.rule, trigger: candidate.trigger });
                    break;
                }
                Ok(false) => {
                    failed.push((candidate.rule, "its condition does not hold".to_owned()));
                }
                Err(message) => failed.push((candidate.rule, message)),
            }
        }
        for (rule, message) in failed {
            self.give_reason(now, Some(rule), ReasonKind::Dropped(message));
        }
        won
    }

    /// Ends the live runs of `again stops` rules that the stroke is a trigger of.
    fn stop_by_trigger(&mut self, now: Time, stroke: Stroke, held: Modifiers) -> bool {
        let rules = Arc::clone(&self.rules);
        let stopping: Vec<usize> = self
            .watch
            .candidates(stroke)
            .iter()
            .filter(|candidate| candidate.fits(held) && candidate.manner == Manner::Pressed)
            .map(|candidate| candidate.rule)
            .filter(|rule| rules.rules[*rule].again == Again::Stops)
            .collect();
        let mut stopped = false;
        for rule in stopping {
            for run in self.runs.of_rule(rule) {
                self.end_run(now, run, ReasonKind::Stopped(run, "its own key".to_owned()));
                stopped = true;
            }
        }
        stopped
    }

    /// The rules with live runs that their own trigger stops.
    pub(crate) fn self_stopping_rules(&self) -> Vec<usize> {
        let mut rules: Vec<usize> = self.runs.live.values().map(|run| run.rule).collect();
        rules.retain(|rule| self.rules.rules[*rule].again == Again::Stops);
        rules.sort_unstable();
        rules.dedup();
        rules
    }

    /// A key whose release matters went up.
    pub(crate) fn handle_release(&mut self, now: Time, key: Key) {
        let Some(down) = self.down.remove(&key) else {
            return;
        };
        let rules = Arc::clone(&self.rules);
        let ended: Vec<(RunId, usize)> = self
            .runs
            .live
            .iter()
            .filter(|(_, run)| run.press.key == key && rules.rules[run.rule].while_held)
            .map(|(id, run)| (*id, run.rule))
            .collect();
        for (run, rule) in ended {
            self.waiting.remove(&rule);
            self.end_run(now, run, ReasonKind::Stopped(run, "its key was let go".to_owned()));
        }
        self.waiting
            .retain(|rule, waiting| waiting.press.key != key || !rules.rules[*rule].while_held);
        if let Some((rule, trigger)) = down.on_release {
            self.fire(now, rule, trigger, down.press, false);
        }
    }

    /// A key of the person's moved in the open.
    pub(crate) fn handle_finger(&mut self, now: Time, key: Key, down: bool) {
        if !down {
            self.fingers.remove(&key);
            self.handle_release(now, key);
            return;
        }
        if !self.fingers.insert(key) {
            return;
        }
        let held: Modifiers = Side::ALL
            .into_iter()
            .filter(|side| side.key() != key && self.fingers.contains(&side.key()))
            .collect();
        let stroke = (key, held.families(self.layout.alt_gr_is_level3));
        let rules = Arc::clone(&self.rules);
        // What is withheld comes as a press of its own.
        if self.watch.withholds(&rules, stroke) || self.watch.candidates(stroke).is_empty() {
            return;
        }
        let press = self.next_press(key);
        self.take_press(now, stroke, held, press);
    }

    /// A held key is due to repeat.
    pub(crate) fn handle_repeat(&mut self, now: Time, press: Press) {
        let down = self.down.get(&press.key).filter(|down| down.press == press);
        let Some((rule, trigger)) = down.and_then(|down| down.repeats) else {
            return;
        };
        let due = now + self.layout.repeat.interval;
        self.timers.add(due, Timer::Repeat(press.key, press.number));
        self.fire(now, rule, trigger, press, true);
    }

    /// Fires a rule as its `again` clause says. A repeat never queues.
    fn fire(&mut self, now: Time, rule: usize, trigger: usize, press: Press, is_repeat: bool) {
        let again = self.rules.rules[rule].again;
        let live = self.runs.of_rule(rule);
        if live.is_empty() || again == Again::Overlaps {
            self.start_run(now, rule, trigger, press);
            return;
        }
        let dropped = match again {
            Again::Waits if is_repeat => "the run before still goes on",
            Again::Waits if self.waiting.contains_key(&rule) => "one firing waits already",
            Again::Waits => {
                self.waiting.insert(rule, Waiting { press, trigger });
                return;
            }
            Again::IsIgnored => "the run before still goes on",
            Again::Restarts if is_repeat => "a repeat does not restart a run",
            Again::Restarts => {
                for run in live {
                    let why = "the rule fired again".to_owned();
                    self.end_run(now, run, ReasonKind::Stopped(run, why));
                }
                self.start_run(now, rule, trigger, press);
                return;
            }
            Again::Stops if is_repeat => "a repeat does not stop a run",
            Again::Stops => {
                for run in live {
                    let why = "its own key".to_owned();
                    self.end_run(now, run, ReasonKind::Stopped(run, why));
                }
                return;
            }
            Again::Overlaps => unreachable!("overlapping runs start above"),
        };
        self.give_reason(now, Some(rule), ReasonKind::Dropped(dropped.to_owned()));
    }

    fn start_run(&mut self, now: Time, rule: usize, trigger: usize, press: Press) {
        let rules = Arc::clone(&self.rules);
        let definition = &rules.rules[rule];
        let fired = &definition.triggers[trigger];
        let id = self.runs.next_id();
        let body = rules.routine(definition.body);
        let mut slots = vec![Value::Truth(false); body.slots];
        if definition.brings {
            slots[0] = Value::Key(Combo::of(fired.brings));
        }
        let frame = Frame { routine: definition.body, next: 0, slots };
        let run = Run {
            rule,
            press,
            frames: vec![frame],
            blocks: Vec::new(),
            state: State::Ready,
            spent: 0,
            timer: None,
        };
        self.runs.live.insert(id, run);
        self.ready.push_back(id);
        let kind = ReasonKind::Fired { combo: fired.combo.to_string(), run: id };
        self.give_reason(now, Some(rule), kind);
        if definition.again == Again::Stops && definition.apps.is_some() {
            self.rearm(now);
        }
    }

    /// Takes a run away: everything it held is let go, and what waited for it begins.
    pub(crate) fn end_run(&mut self, now: Time, id: RunId, why: ReasonKind) {
        let keys = self.ledger.release_all(|owner| owner.run() == Some(id));
        self.emit_releases(Some(id), keys);
        self.release_input(id);
        let Some(run) = self.runs.live.remove(&id) else {
            return;
        };
        if let Some(timer) = run.timer {
            self.timers.cancel(timer);
        }
        let ended_itself = !matches!(why, ReasonKind::Stopped(..));
        self.give_reason(now, Some(run.rule), why);
        let waiting = self.waiting.remove(&run.rule);
        if let Some(waiting) = waiting.filter(|_| ended_itself) {
            self.start_run(now, run.rule, waiting.trigger, waiting.press);
        }
        let definition = &self.rules.rules[run.rule];
        if definition.again == Again::Stops && definition.apps.is_some() {
            self.rearm(now);
        }
    }

    /// Ends a run that cannot go on, naming the place.
    pub(crate) fn fail_run(&mut self, now: Time, id: RunId, message: String) {
        let run = self.runs.get_mut(id);
        let frame = run.frames.last().expect("a live run is in a call");
        let (routine, at) = (frame.routine, frame.next.saturating_sub(1));
        let place = self.rules.routine(routine).places.get(at).copied().unwrap_or_default();
        self.end_run(now, id, ReasonKind::Failed { run: id, place, message });
    }

    /// Names the rules whose keys somebody else holds.
    pub(crate) fn handle_refusals(&mut self, now: Time, refused: &[(ArmedKey, String)]) {
        let rules = Arc::clone(&self.rules);
        for (armed, why) in refused {
            let stroke = (armed.key, armed.families);
            if self.watch.is_panic(stroke) {
                let message = format!("{} (panic): {why}", rules.settings.panic);
                self.give_reason(now, None, ReasonKind::Refused(message));
            }
            let candidates: Vec<_> = self.watch.candidates(stroke).to_vec();
            for candidate in candidates {
                let combo = &rules.rules[candidate.rule].triggers[candidate.trigger].combo;
                let message = format!("{combo}: {why}");
                self.give_reason(now, Some(candidate.rule), ReasonKind::Refused(message));
            }
        }
    }
}
