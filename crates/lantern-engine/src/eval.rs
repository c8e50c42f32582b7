//! Evaluates expressions at run time.
//!
//! [`Evaluator`] owns what expressions keep: the top-level values, compiled patterns, randomness.
//! [`EvalScope`] is one evaluation. It reads the context and the keys, and changes neither.

use std::cell::Cell;
use std::time::Duration;

use lantern_model::code::{Expr, Function, KeyCombinationExpr, KeyTerm, Operator, WorldQuery};
use lantern_model::{Global, Key, KeyCombination, KeySpec, ModifierKey, Rule, Time, Value};

use crate::context::Context;
use crate::key_state::KeyState;
use crate::patterns::Patterns;
use crate::random::Random;
use crate::step_error::{Evaluated, StepError};

/// The longest list that a range makes.
const LONGEST_RANGE: f64 = 100_000.0;

/// Most bytes of a text that a rule puts together.
const LONGEST_TEXT: usize = 1 << 20;
/// Most bytes of a list, lists in it and all.
const LARGEST_LIST: usize = 4 << 20;
/// Maximum depth of lists and records within each other.
const DEEPEST: usize = 32;
/// Maximum number of bytes that one expression copies, joins and compares.
const MOST_WORK: usize = 32 << 20;
/// Number of bytes copied for which a byte that is searched for a pattern counts.
const MATCHING: usize = 16;
/// Maximum number of characters of a value in a message.
const VALUE_SHOWN: usize = 80;

/// What expressions keep from one evaluation to the next.
#[derive(Debug)]
pub(crate) struct Evaluator {
    /// Top-level values.
    globals: Vec<Value>,
    patterns: Patterns,
    random: Random,
    /// Bytes that expressions have copied, joined and compared since this was taken last.
    charged_bytes: Cell<usize>,
}

/// Whether the key that fired a run is down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum TriggerKey {
    /// It is down. Conditions of rules are evaluated as if it were.
    Held,
    /// It is up, or there is none.
    Up,
}

/// What expressions may look at.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Surroundings<'a> {
    pub now: Time,
    pub context: &'a Context,
    pub keys: &'a KeyState,
}

impl Evaluator {
    /// An evaluator without top-level values, with this seed for `random`.
    pub(crate) fn new(seed: u64) -> Evaluator {
        Evaluator {
            globals: Vec::new(),
            patterns: Patterns::default(),
            random: Random::new(seed),
            charged_bytes: Cell::new(0),
        }
    }

    /// An evaluation with these values in the slots of the present call.
    pub(crate) fn scope<'a>(
        &'a self,
        around: Surroundings<'a>,
        slots: &'a [Value],
        trigger_key: TriggerKey,
    ) -> EvalScope<'a> {
        EvalScope { evaluator: self, around, slots, trigger_key, work: Cell::new(0) }
    }

    /// Gives every top-level value what it starts as.
    pub(crate) fn reset_globals(&mut self, around: Surroundings<'_>, globals: &[Global]) {
        self.globals = Vec::new();
        for global in globals {
            let first = self.scope(around, &[], TriggerKey::Up).value(&global.initial);
            // What cannot be evaluated is false, and fails where it is used.
            self.globals.push(first.unwrap_or(Value::Truth(false)));
        }
    }

    pub(crate) fn take_globals(&mut self) -> Vec<Value> {
        std::mem::take(&mut self.globals)
    }

    pub(crate) fn set_global(&mut self, index: usize, value: Value) {
        self.globals[index] = value;
    }

    /// Takes the bytes of work done since this was called last.
    pub(crate) fn take_charge(&self) -> usize {
        self.charged_bytes.take()
    }

    pub(crate) fn random(&self) -> &Random {
        &self.random
    }

    /// Why a rule's condition does not hold; nothing if it holds or there is none.
    pub(crate) fn unmet_condition(&self, around: Surroundings<'_>, rule: &Rule) -> Option<String> {
        match self.scope(around, &[], TriggerKey::Held).truth(rule.condition.as_ref()?) {
            Ok(true) => None,
            Ok(false) => Some(format!("its condition `{}` does not hold", rule.condition_text)),
            Err(problem) => Some(problem.to_string()),
        }
    }
}

/// One evaluation.
pub(crate) struct EvalScope<'a> {
    evaluator: &'a Evaluator,
    around: Surroundings<'a>,
    slots: &'a [Value],
    trigger_key: TriggerKey,
    /// Bytes that the expression has copied, joined and compared by now.
    work: Cell<usize>,
}

/// The beginning of a text, for a message.
fn shortened(text: &str) -> String {
    let mut shown: String = text.chars().take(VALUE_SHOWN).collect();
    if shown.len() < text.len() {
        shown.push('…');
    }
    shown
}

/// That a value is of another kind than the one that is needed.
pub(crate) fn unexpected(wanted: &str, found: &Value) -> StepError {
    format!("expected {wanted}, found {} ({})", found.kind(), shortened(&found.to_string())).into()
}

impl EvalScope<'_> {
    pub(crate) fn value(&self, expr: &Expr) -> Evaluated<Value> {
        Ok(self.sized_value(expr)?.0)
    }

    /// A value with its size in bytes, which is charged unless the value is a simple one.
    fn sized_value(&self, expr: &Expr) -> Evaluated<(Value, usize)> {
        let value = self.evaluate(expr)?;
        let size = size_of(&value);
        if matches!(value, Value::Text(_) | Value::List(_) | Value::Record(_)) {
            self.charge(size)?;
        }
        Ok((value, size))
    }

    /// Counts work in bytes. It counts as time of the run, and is limited for each expression.
    fn charge(&self, bytes: usize) -> Evaluated<()> {
        let charged = &self.evaluator.charged_bytes;
        charged.set(charged.get().saturating_add(bytes));
        self.work.set(self.work.get().saturating_add(bytes));
        if self.work.get() <= MOST_WORK {
            return Ok(());
        }
        Err(format!("one value takes the work of more than {MOST_WORK} bytes").into())
    }

    fn evaluate(&self, expr: &Expr) -> Evaluated<Value> {
        Ok(match expr {
            Expr::Value(value) => value.clone(),
            Expr::Local(slot) => self.slots[*slot].clone(),
            Expr::Global(index) => self.evaluator.globals[*index].clone(),
            Expr::Text(parts) => {
                let mut text = String::new();
                for part in parts {
                    text.push_str(&self.value(part)?.to_string());
                    refuse_if_too_long(&text)?;
                }
                Value::Text(text)
            }
            Expr::KeyCombination(combo) => Value::Key(self.combo(combo)?),
            Expr::List(values) => {
                let mut list = Vec::with_capacity(values.len());
                let mut size = 0;
                for value in values {
                    let (value, bytes) = self.sized_value(value)?;
                    size += bytes;
                    refuse_if_too_large(size)?;
                    refuse_if_too_deep(&value)?;
                    list.push(value);
                }
                Value::List(list)
            }
            Expr::Not(inner) => Value::Truth(!self.truth(inner)?),
            Expr::Negate(inner) => Value::Number(-self.number(inner)?),
            Expr::Binary(operator, left, right) => self.binary(*operator, left, right)?,
            Expr::IsDown(combos) => {
                let mut all = true;
                for combo in combos {
                    all &= self.is_down(&self.combo(combo)?);
                }
                Value::Truth(all)
            }
            Expr::Query(asked) => self.asked(*asked)?,
            Expr::Field(inner, name) => match self.value(inner)? {
                Value::Record(mut fields) => fields.remove(name).ok_or_else(|| {
                    let known: Vec<&str> = fields.keys().map(String::as_str).collect();
                    format!("there is no part {name} (there are {})", known.join(", "))
                })?,
                other => return Err(format!("{} has no part {name}", other.kind()).into()),
            },
            Expr::Call(function, values) => self.call(*function, values)?,
            Expr::Range(first, last) => self.range(first, last)?,
        })
    }

    pub(crate) fn combo(&self, combo: &KeyCombinationExpr) -> Evaluated<KeyCombination> {
        let mut keys: Vec<KeySpec> = Vec::with_capacity(combo.0.len());
        for term in &combo.0 {
            match term {
                KeyTerm::Key(key) => keys.push(*key),
                KeyTerm::Value(expr) => match self.value(expr)? {
                    Value::Key(inner) => keys.extend(inner.0),
                    other => {
                        return Err(unexpected("a key", &other));
                    }
                },
            }
        }
        Ok(KeyCombination(keys))
    }

    fn is_down(&self, combo: &KeyCombination) -> bool {
        let down = |key: Key| self.around.keys.is_down(key);
        let layout = self.around.context.layout();
        combo.0.iter().all(|part| match part {
            KeySpec::Either(family) => ModifierKey::ALL
                .into_iter()
                .filter(|side| layout.modifier(*side) == *family)
                .any(|side| down(side.key())),
            other => layout.resolve(*other).is_some_and(down),
        })
    }

    fn asked(&self, asked: WorldQuery) -> Evaluated<Value> {
        let context = self.around.context;
        let number = |number: i64| Value::Number(number as f64);
        if asked.is_time() {
            let wall = context.clock().wall(self.around.now).ok_or("the time is not known yet")?;
            let (year, month, day) = wall.date();
            let seconds = i64::from(wall.time_of_day().seconds());
            return Ok(match asked {
                WorldQuery::Hour => number(seconds / 3600),
                WorldQuery::Minute => number(seconds / 60 % 60),
                WorldQuery::Second => number(seconds % 60),
                WorldQuery::Day => number(day.into()),
                WorldQuery::Month => number(month.into()),
                WorldQuery::Year => number(year),
                WorldQuery::Weekday => Value::Text(wall.weekday().to_owned()),
                _ => Value::Time(wall.time_of_day()),
            });
        }
        Ok(match asked {
            WorldQuery::PointerX => number(context.pointer().0.into()),
            WorldQuery::PointerY => number(context.pointer().1.into()),
            WorldQuery::WindowApp => Value::Text(context.app().name().to_owned()),
            WorldQuery::WindowTitle => Value::Text(context.app().title.clone()),
            _ => Value::Truth(self.trigger_key == TriggerKey::Held),
        })
    }

    fn range(&self, first: &Expr, last: &Expr) -> Evaluated<Value> {
        let (first, last) = (self.number(first)?.round(), self.number(last)?.round());
        let count = (last - first).abs();
        if count > LONGEST_RANGE {
            return Err(format!("a range from {first} to {last} is too long").into());
        }
        let way = if last < first { -1.0 } else { 1.0 };
        let numbers = (0..=count as u32).map(|at| Value::Number(first + way * f64::from(at)));
        Ok(Value::List(numbers.collect()))
    }

    fn call(&self, function: Function, values: &[Expr]) -> Evaluated<Value> {
        let text = |at: usize| self.shown(&values[at]);
        Ok(match function {
            Function::Random => {
                let (from, to) =
                    (self.number(&values[0])?.round(), self.number(&values[1])?.round());
                if to < from {
                    return Err(format!("there is no number from {from} to {to}").into());
                }
                let count = ((to - from) as u64).saturating_add(1);
                Value::Number(from + self.evaluator.random.below(count) as f64)
            }
            Function::Round => {
                let number = self.number(&values[0])?;
                let places = values.get(1).map_or(Ok(0.0), |places| self.number(places))?;
                let scale = 10f64.powi(places.clamp(-12.0, 12.0) as i32);
                Value::Number((number * scale).round() / scale)
            }
            Function::Upper => Value::Text(text(0)?.to_uppercase()),
            Function::Lower => Value::Text(text(0)?.to_lowercase()),
            Function::Trim => Value::Text(text(0)?.trim().to_owned()),
            Function::Length => Value::Number(match self.value(&values[0])? {
                Value::List(values) => values.len(),
                other => other.to_string().chars().count(),
            } as f64),
            Function::First | Function::Last => {
                let first = function == Function::First;
                let found = match self.value(&values[0])? {
                    Value::List(list) => if first { list.first() } else { list.last() }.cloned(),
                    other => {
                        let text = other.to_string();
                        let found = if first { text.chars().next() } else { text.chars().last() };
                        found.map(|character| Value::Text(character.to_string()))
                    }
                };
                found.ok_or("there is nothing in it")?
            }
            Function::Number => {
                let text = text(0)?;
                let number = text.trim().parse::<f64>().ok().filter(|number| number.is_finite());
                Value::Number(
                    number.ok_or_else(|| format!("{:?} is not a number", shortened(&text)))?,
                )
            }
            Function::ShellWord => Value::Text(shell_word(&text(0)?)),
            Function::PathSegment => Value::Text(path_segment(&text(0)?)),
        })
    }

    /// A share, 1 being all of it.
    pub(crate) fn share(&self, expr: &Expr) -> Evaluated<f64> {
        match self.value(expr)? {
            Value::Share(share) => Ok(share),
            other => Err(unexpected("a share", &other)),
        }
    }

    pub(crate) fn truth(&self, expr: &Expr) -> Evaluated<bool> {
        match self.value(expr)? {
            Value::Truth(truth) => Ok(truth),
            other => Err(unexpected("true or false", &other)),
        }
    }

    pub(crate) fn number(&self, expr: &Expr) -> Evaluated<f64> {
        match self.value(expr)? {
            Value::Number(number) if number.is_finite() => Ok(number),
            other => Err(unexpected("a number", &other)),
        }
    }

    /// A number of pixels.
    pub(crate) fn pixels(&self, expr: &Expr) -> Evaluated<i32> {
        // The cast stops at the ends of the range, which no screen reaches.
        Ok(self.number(expr)?.round() as i32)
    }

    /// How often something is done: zero or more.
    pub(crate) fn count(&self, expr: &Expr) -> Evaluated<u64> {
        let number = self.number(expr)?;
        if number < 0.0 {
            return Err(format!("cannot do something {number} times").into());
        }
        Ok(number.round() as u64)
    }

    pub(crate) fn duration(&self, expr: &Expr) -> Evaluated<Duration> {
        match self.value(expr)? {
            Value::Duration(span) => Ok(span),
            other => Err(unexpected("a duration", &other)),
        }
    }

    pub(crate) fn optional_duration(&self, expr: Option<&Expr>) -> Evaluated<Option<Duration>> {
        expr.map(|expr| self.duration(expr)).transpose()
    }

    pub(crate) fn shown(&self, expr: &Expr) -> Evaluated<String> {
        Ok(self.value(expr)?.to_string())
    }

    fn binary(&self, operator: Operator, left: &Expr, right: &Expr) -> Evaluated<Value> {
        if matches!(operator, Operator::And | Operator::Or) {
            let first = self.truth(left)?;
            let decided = first == (operator == Operator::Or);
            return Ok(Value::Truth(if decided { first } else { self.truth(right)? }));
        }
        if let Some(named) = self.is_program_in_front(operator, left, right)? {
            return Ok(Value::Truth(named));
        }
        let (left, right) = (self.value(left)?, self.value(right)?);
        match operator {
            Operator::Equal => return Ok(Value::Truth(left == right)),
            Operator::Unequal => return Ok(Value::Truth(left != right)),
            Operator::Contains => return contains(&left, &right),
            Operator::Matches => {
                let (pattern, text) = (right.to_string(), left.to_string());
                // A search costs many times what a copy does.
                self.charge(MATCHING * text.len())?;
                let fits = self.evaluator.patterns.fits(&pattern, &text)?;
                return Ok(Value::Truth(fits));
            }
            _ => {}
        }
        let result = match (&left, &right) {
            (Value::Number(a), Value::Number(b)) => numbers(operator, *a, *b)?,
            (Value::Share(a), Value::Share(b)) => as_shares(numbers(operator, *a, *b)?),
            (Value::Share(a), Value::Number(b)) | (Value::Number(b), Value::Share(a))
                if operator == Operator::Multiply =>
            {
                Some(Value::Share(a * b))
            }
            (Value::Share(a), Value::Number(b)) if operator == Operator::Divide => {
                as_shares(numbers(operator, *a, *b)?)
            }
            (Value::Text(a), Value::Text(b)) if operator == Operator::Add => {
                let text = format!("{a}{b}");
                refuse_if_too_long(&text)?;
                Some(Value::Text(text))
            }
            (Value::Duration(a), Value::Duration(b)) => durations(operator, *a, *b)?,
            (Value::Time(a), Value::Time(b)) => {
                numbers(operator, a.seconds().into(), b.seconds().into())?
                    .filter(|value| matches!(value, Value::Truth(_)))
            }
            (Value::Duration(a), Value::Number(b)) | (Value::Number(b), Value::Duration(a))
                if operator == Operator::Multiply =>
            {
                Some(seconds(a.as_secs_f64() * b)?)
            }
            (Value::Duration(a), Value::Number(b)) if operator == Operator::Divide => {
                Some(seconds(a.as_secs_f64() / b)?)
            }
            _ => None,
        };
        result.ok_or_else(|| {
            format!(
                "`{}` does not go between {} and {}",
                operator.symbol(),
                left.kind(),
                right.kind()
            )
            .into()
        })
    }
}

impl EvalScope<'_> {
    /// A comparison of the program in front with names, by the rule of `in app`: any of its names, in
    /// any case. Nothing if it is no such comparison.
    fn is_program_in_front(
        &self,
        operator: Operator,
        left: &Expr,
        right: &Expr,
    ) -> Evaluated<Option<bool>> {
        let in_front = Expr::Query(WorldQuery::WindowApp);
        let app = self.around.context.app();
        let is_named = |value: &Value| match value {
            Value::Text(name) => name == app.name() || app.is_named(&name.to_lowercase()),
            _ => false,
        };
        let other = match (left == &in_front, right == &in_front) {
            (true, false) => right,
            (false, true) => left,
            _ => return Ok(None),
        };
        Ok(match (operator, self.value(other)?) {
            (Operator::Equal, name) => Some(is_named(&name)),
            (Operator::Unequal, name) => Some(!is_named(&name)),
            (Operator::Contains, Value::List(names)) if right == &in_front => {
                Some(names.iter().any(is_named))
            }
            _ => None,
        })
    }
}

fn contains(whole: &Value, part: &Value) -> Evaluated<Value> {
    match (whole, part) {
        (Value::Text(whole), part) => Ok(Value::Truth(whole.contains(&part.to_string()))),
        (Value::List(values), part) => Ok(Value::Truth(values.contains(part))),
        (other, _) => Err(format!("{} contains nothing", other.kind()).into()),
    }
}

/// A text as one word of a shell line (POSIX.1-2017, Shell Command Language, 2.2.2).
fn shell_word(text: &str) -> String {
    format!("'{}'", text.replace('\'', "'\\''"))
}

/// A text with every byte escaped that is not unreserved (RFC 3986, section 2.3).
fn path_segment(text: &str) -> String {
    let mut segment = String::with_capacity(text.len());
    for byte in text.bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' => {
                segment.push(char::from(byte));
            }
            other => segment.push_str(&format!("%{other:02X}")),
        }
    }
    segment
}

fn refuse_if_too_long(text: &str) -> Evaluated<()> {
    if text.len() <= LONGEST_TEXT {
        return Ok(());
    }
    Err(format!("this text has {} bytes; a text has at most {LONGEST_TEXT}", text.len()).into())
}

fn refuse_if_too_large(size: usize) -> Evaluated<()> {
    if size <= LARGEST_LIST {
        return Ok(());
    }
    Err(format!("this list has more than the {LARGEST_LIST} bytes that a list has at most").into())
}

fn refuse_if_too_deep(value: &Value) -> Evaluated<()> {
    if has_depth(value, DEEPEST) {
        return Err(format!("lists stand within each other at most {DEEPEST} deep").into());
    }
    Ok(())
}

/// Whether lists and records in a value are at least this deep.
fn has_depth(value: &Value, depth: usize) -> bool {
    let Some(less) = depth.checked_sub(1) else { return true };
    match value {
        Value::List(list) => list.iter().any(|value| has_depth(value, less)),
        Value::Record(fields) => fields.values().any(|value| has_depth(value, less)),
        _ => false,
    }
}

/// The memory that a value takes, about, in bytes.
fn size_of(value: &Value) -> usize {
    let own = std::mem::size_of::<Value>();
    own + match value {
        Value::Text(text) => text.len(),
        Value::List(list) => list.iter().map(size_of).sum(),
        Value::Record(fields) => {
            fields.iter().map(|(name, value)| name.len() + size_of(value)).sum()
        }
        _ => 0,
    }
}

fn numbers(operator: Operator, a: f64, b: f64) -> Evaluated<Option<Value>> {
    if b == 0.0 && matches!(operator, Operator::Divide | Operator::Remainder) {
        return Err(format!("cannot divide {a} by zero").into());
    }
    Ok(Some(match operator {
        Operator::Add => Value::Number(a + b),
        Operator::Subtract => Value::Number(a - b),
        Operator::Multiply => Value::Number(a * b),
        Operator::Divide => Value::Number(a / b),
        Operator::Remainder => Value::Number(a.rem_euclid(b)),
        Operator::Less => Value::Truth(a < b),
        Operator::LessOrEqual => Value::Truth(a <= b),
        Operator::Greater => Value::Truth(a > b),
        Operator::GreaterOrEqual => Value::Truth(a >= b),
        _ => return Ok(None),
    }))
}

fn as_shares(result: Option<Value>) -> Option<Value> {
    match result {
        Some(Value::Number(number)) => Some(Value::Share(number)),
        other => other,
    }
}

fn durations(operator: Operator, a: Duration, b: Duration) -> Evaluated<Option<Value>> {
    Ok(Some(match operator {
        Operator::Add => Value::Duration(a.saturating_add(b)),
        Operator::Subtract => Value::Duration(a.saturating_sub(b)),
        Operator::Divide if b.is_zero() => return Err("cannot divide by 0ms".into()),
        Operator::Divide => Value::Number(a.as_secs_f64() / b.as_secs_f64()),
        Operator::Less => Value::Truth(a < b),
        Operator::LessOrEqual => Value::Truth(a <= b),
        Operator::Greater => Value::Truth(a > b),
        Operator::GreaterOrEqual => Value::Truth(a >= b),
        _ => return Ok(None),
    }))
}

fn seconds(seconds: f64) -> Evaluated<Value> {
    Duration::try_from_secs_f64(seconds)
        .map(Value::Duration)
        .map_err(|_| format!("{seconds} seconds is not a length of time").into())
}
