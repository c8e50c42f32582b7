//! Groups presses and releases into lines of a scene. A group begins when the first key goes down and
//! ends when no key is down. Each group is written as what the person did: a tap, a combination, a
//! hold.

use std::time::Duration;

use lantern_gesture::is_drawing;
use lantern_model::{Key, KeyCombination, KeySpec, Modifier, ModifierKey, Point, StrokePath};
use lantern_script::scene::{SceneAct, Sketch};

/// What is held longer is a `holds`, not a `key`.
const HELD: Duration = Duration::from_millis(400);
/// A pause in typing after which a new line begins.
const REST: Duration = Duration::from_secs(1);

/// Maximum number of positions of a path in a scene.
const PLACES: usize = 48;

/// A press or release.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Move {
    pub time: Duration,
    pub key: Key,
    pub down: bool,
    /// What the press types.
    pub types: Option<char>,
    /// Where the pointer was, for a button.
    pub pointer: Option<(i32, i32)>,
}

/// An act with its moment.
type Timed = (Duration, SceneAct);

/// What was seen and is not told yet.
#[derive(Debug, Default)]
pub struct KeystrokeGroups {
    burst: Vec<Move>,
    down: Vec<Key>,
    /// What else happened since the burst began.
    others: Vec<SceneAct>,
    pointer: Option<(i32, i32)>,
    /// Where the pointer went since the burst began.
    way: StrokePath,
    typed: Option<Typed>,
}

#[derive(Debug)]
struct Typed {
    began: Duration,
    last: Duration,
    text: String,
}

impl KeystrokeGroups {
    /// Takes a move in; gives what is certain by now.
    pub fn take(&mut self, made: Move) -> Vec<Timed> {
        let mut acts = Vec::new();
        if made.down == self.down.contains(&made.key) {
            // A release of what went down before we looked, or a repeat.
            return acts;
        }
        if made.down {
            self.down.push(made.key);
        } else {
            self.down.retain(|key| *key != made.key);
        }
        self.burst.push(made);
        if self.down.is_empty() {
            let burst = std::mem::take(&mut self.burst);
            self.tell(&burst, &mut acts);
            if !self.others.is_empty() {
                acts.extend(self.end_typing());
                acts.extend(self.others.drain(..).map(|other| (made.time, other)));
            }
        }
        acts
    }

    /// The pointer went here while something was down.
    pub fn trace(&mut self, point: Point) {
        if !self.burst.is_empty() {
            self.way.push(point);
        }
    }

    /// Takes something in that is not of the hands; it has its place between two bursts.
    pub fn take_other(&mut self, time: Duration, act: SceneAct) -> Vec<Timed> {
        if !self.burst.is_empty() {
            self.others.push(act);
            return Vec::new();
        }
        self.end_typing().into_iter().chain([(time, act)]).collect()
    }

    /// What is left at the end. Keys that are still down were pressed to end it.
    pub fn finish(mut self) -> Vec<Timed> {
        let mut acts = Vec::new();
        let ends_by_key = |made: &Move| ModifierKey::of(made.key).is_none() && made.types.is_none();
        if self.burst.iter().any(ends_by_key) {
            let burst = std::mem::take(&mut self.burst);
            acts.extend(self.end_typing());
            acts.extend(burst.iter().map(each_move));
        }
        acts.extend(self.end_typing());
        acts
    }

    fn tell(&mut self, burst: &[Move], acts: &mut Vec<Timed>) {
        let began = burst[0].time;
        let way = std::mem::take(&mut self.way);
        if let Some(act) = drawing(burst, &way) {
            acts.extend(self.end_typing());
            self.pointer = None;
            acts.push((began, act));
            return;
        }
        if let Some(text) = typing(burst) {
            match &mut self.typed {
                Some(typed) if began.saturating_sub(typed.last) < REST => {
                    typed.text.push_str(&text);
                    typed.last = began;
                }
                _ => {
                    acts.extend(self.end_typing());
                    self.typed = Some(Typed { began, last: began, text });
                }
            }
            return;
        }
        acts.extend(self.end_typing());
        let place = burst.iter().find_map(|made| made.pointer);
        if let Some((x, y)) = place.filter(|place| self.pointer != Some(*place)) {
            self.pointer = place;
            acts.push((began, SceneAct::MovesTo(x, y)));
        }
        match one_combo(burst) {
            Some(act) => acts.push((began, act)),
            None => acts.extend(burst.iter().map(each_move)),
        }
    }

    fn end_typing(&mut self) -> Option<Timed> {
        self.typed.take().map(|typed| (typed.began, SceneAct::Types(typed.text)))
    }
}

/// What was drawn, if a single key or button was down while the pointer went some way.
fn drawing(burst: &[Move], way: &StrokePath) -> Option<SceneAct> {
    let [down, _] = burst else { return None };
    let begins = down.pointer.map(|(x, y)| (x as f32, y as f32));
    let whole: StrokePath = begins.into_iter().chain(way.iter().copied()).collect();
    if !is_drawing(std::slice::from_ref(&whole)) {
        return None;
    }
    let last = whole.len() - 1;
    let kept = (0..PLACES).map(|place| whole[place * last / (PLACES - 1)]);
    let mut kept: StrokePath = kept.collect();
    kept.dedup();
    let key = ModifierKey::of(down.key).map_or(KeySpec::Named(down.key), named);
    Some(SceneAct::Draws(Sketch::Along(vec![kept]), key, None))
}

/// The text, if every key of a burst types something.
fn typing(burst: &[Move]) -> Option<String> {
    let side = |made: &&Move| ModifierKey::of(made.key).is_none();
    let presses = burst.iter().filter(|made| made.down).filter(side);
    let text: Option<String> = presses.map(|made| made.types).collect();
    text.filter(|text| !text.is_empty())
}

/// The act of a burst in which one key was pressed under modifiers, or one modifier alone.
fn one_combo(burst: &[Move]) -> Option<SceneAct> {
    let down: Vec<&Move> = burst.iter().filter(|made| made.down).collect();
    let (last, before) = down.split_last()?;
    let modifiers = before.iter().map(|made| ModifierKey::of(made.key).map(named));
    let modifiers: Vec<KeySpec> = modifiers.collect::<Option<_>>()?;
    // A modifier as the last of several is no combination.
    if ModifierKey::of(last.key).is_some() && !before.is_empty() {
        return None;
    }
    let up = burst.iter().find(|made| !made.down && made.key == last.key)?;
    // The modifiers were down all the while.
    let first_up = burst.iter().position(|made| !made.down)?;
    if burst[first_up].key != last.key {
        return None;
    }
    let combo = KeyCombination(modifiers.into_iter().chain([KeySpec::Named(last.key)]).collect());
    let span = up.time.saturating_sub(last.time);
    Some(if span < HELD { SceneAct::Key(combo, None) } else { SceneAct::Holds(combo, span) })
}

/// A modifier as rules call it: by its family, if it is the usual one of it.
fn named(side: ModifierKey) -> KeySpec {
    match side.modifier(true) {
        family if side == family.default_key() && family != Modifier::Level3 => {
            KeySpec::Either(family)
        }
        _ => KeySpec::Named(side.key()),
    }
}

fn each_move(made: &Move) -> Timed {
    let combo =
        KeyCombination::of(ModifierKey::of(made.key).map_or(KeySpec::Named(made.key), named));
    let act = if made.down { SceneAct::Presses(combo) } else { SceneAct::LetsGo(combo) };
    (made.time, act)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `+f9 -f9` at 10 ms each; a number is a wait; a letter types itself.
    fn told(moves: &str) -> Vec<String> {
        let mut bursts = KeystrokeGroups::default();
        let (mut time, mut acts) = (Duration::ZERO, Vec::new());
        for word in moves.split(' ') {
            if let Ok(wait) = word.parse() {
                time += Duration::from_millis(wait);
                continue;
            }
            time += Duration::from_millis(10);
            let (down, name) = (word.starts_with('+'), &word[1..]);
            let key = Key::named(name).expect("there is one");
            let held = bursts.down.iter().filter_map(|key| ModifierKey::of(*key));
            let plain = held.into_iter().all(|side| side.modifier(true) == Modifier::Shift);
            let types = name.chars().next().filter(|_| name.len() == 1 && plain);
            let pointer = key.is_pointer().then_some((40, 30));
            acts.extend(bursts.take(Move { time, key, down, types, pointer }));
        }
        acts.extend(bursts.finish());
        acts.iter().map(|(time, act)| format!("{} {act}", time.as_millis())).collect()
    }

    #[test]
    fn a_combination_is_one_line_and_a_long_one_holds() {
        assert_eq!(told("+left-ctrl +f9 -f9 -left-ctrl"), ["10 key ctrl+f9"]);
        assert_eq!(told("+f6 700 -f6"), ["10 holds f6 for 710ms"]);
        assert_eq!(told("+right-ctrl -right-ctrl"), ["10 key right-ctrl"]);
        assert_eq!(told("+right-ctrl +f2 -f2 -right-ctrl"), ["10 key right-ctrl+f2"]);
    }

    #[test]
    fn letters_are_typed_however_they_overlap() {
        assert_eq!(told("+c +o -c +r -o -r +left-shift +e -e -left-shift"), ["10 types \"core\""]);
        assert_eq!(told("+c -c 2000 +o -o"), ["10 types \"c\"", "2030 types \"o\""]);
        assert_eq!(told("+left-ctrl +c -c -left-ctrl"), ["10 key ctrl+c"]);
    }

    #[test]
    fn what_overlaps_otherwise_is_told_move_by_move() {
        let acts = ["10 presses f5", "20 presses f6", "30 lets go f5", "40 lets go f6"];
        assert_eq!(told("+f5 +f6 -f5 -f6"), acts);
        let acts = ["10 presses ctrl", "20 presses f9", "30 lets go ctrl", "40 lets go f9"];
        assert_eq!(told("+left-ctrl +f9 -left-ctrl -f9"), acts);
    }

    #[test]
    fn a_click_says_where_unless_it_was_there_already() {
        let click = "+left-button -left-button";
        assert_eq!(
            told(&format!("{click} {click}")),
            ["10 moves to 40, 30", "10 key left-button", "30 key left-button"]
        );
    }

    #[test]
    fn a_program_that_comes_to_the_front_meanwhile_comes_after_the_keys() {
        let mut bursts = KeystrokeGroups::default();
        let f9 = Key::named("f9").expect("there is one");
        let time = Duration::from_millis(10);
        let made = Move { time, key: f9, down: true, types: None, pointer: None };
        let front = || SceneAct::WindowFocused("corelog".to_owned());
        assert_eq!(bursts.take(made), []);
        assert_eq!(bursts.take_other(time, front()), []);
        let acts = bursts.take(Move { down: false, ..made });
        let key = SceneAct::Key(KeyCombination::of(KeySpec::Named(f9)), None);
        assert_eq!(acts, [(time, key), (time, front())]);
        assert_eq!(bursts.take_other(time, front()), [(time, front())]);
    }

    #[test]
    fn what_was_down_before_or_still_is_at_the_end_is_left_out() {
        assert_eq!(told("-enter +f9 -f9"), ["20 key f9"]);
        assert_eq!(told("+f9 -f9 +left-ctrl"), ["10 key f9"]);
        assert_eq!(told("+f9 -f9 +f6"), ["10 key f9", "30 presses f6"]);
    }
}
