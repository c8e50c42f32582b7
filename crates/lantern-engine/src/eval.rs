//! Expressions at run time.

use std::time::Duration;

use lantern_model::code::{ComboExpr, Expr, KeyTerm, Operator};
use lantern_model::{Combo, Key, KeyRef, Layout, Side, Value};

/// What an expression may look at.
pub(crate) struct Scope<'a> {
    pub slots: &'a [Value],
    pub globals: &'a [Value],
    pub held: bool,
    pub fingers: &'a std::collections::BTreeSet<Key>,
    pub layout: &'a Layout,
}

type Evaluated<T> = Result<T, String>;

impl Scope<'_> {
    pub(crate) fn value(&self, expr: &Expr) -> Evaluated<Value> {
        Ok(match expr {
            Expr::Value(value) => value.clone(),
            Expr::Local(slot) => self.slots[*slot].clone(),
            Expr::Global(index) => self.globals[*index].clone(),
            Expr::Text(parts) => {
                let mut text = String::new();
                for part in parts {
                    text.push_str(&self.value(part)?.to_string());
                }
                Value::Text(text)
            }
            Expr::Combo(combo) => Value::Key(self.combo(combo)?),
            Expr::List(values) => {
                Value::List(values.iter().map(|value| self.value(value)).collect::<Result<_, _>>()?)
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
            Expr::Held => Value::Truth(self.held),
        })
    }

    pub(crate) fn combo(&self, combo: &ComboExpr) -> Evaluated<Combo> {
        let mut keys: Vec<KeyRef> = Vec::with_capacity(combo.0.len());
        for term in &combo.0 {
            match term {
                KeyTerm::Key(key) => keys.push(*key),
                KeyTerm::Value(expr) => match self.value(expr)? {
                    Value::Key(inner) => keys.extend(inner.0),
                    other => {
                        return Err(format!("expected a key, found {} ({other})", other.kind()));
                    }
                },
            }
        }
        Ok(Combo(keys))
    }

    fn is_down(&self, combo: &Combo) -> bool {
        let down = |key: Key| self.fingers.contains(&key);
        combo.0.iter().all(|part| match part {
            KeyRef::Either(family) => Side::ALL
                .into_iter()
                .filter(|side| self.layout.family(*side) == *family)
                .any(|side| down(side.key())),
            other => self.layout.place(*other).is_some_and(down),
        })
    }

    pub(crate) fn truth(&self, expr: &Expr) -> Evaluated<bool> {
        match self.value(expr)? {
            Value::Truth(truth) => Ok(truth),
            other => Err(format!("expected true or false, found {} ({other})", other.kind())),
        }
    }

    pub(crate) fn number(&self, expr: &Expr) -> Evaluated<f64> {
        match self.value(expr)? {
            Value::Number(number) if number.is_finite() => Ok(number),
            other => Err(format!("expected a number, found {} ({other})", other.kind())),
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
            return Err(format!("cannot do something {number} times"));
        }
        Ok(number.round() as u64)
    }

    pub(crate) fn duration(&self, expr: &Expr) -> Evaluated<Duration> {
        match self.value(expr)? {
            Value::Duration(span) => Ok(span),
            other => Err(format!("expected a duration, found {} ({other})", other.kind())),
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
        let (left, right) = (self.value(left)?, self.value(right)?);
        match operator {
            Operator::Equal => return Ok(Value::Truth(left == right)),
            Operator::Unequal => return Ok(Value::Truth(left != right)),
            Operator::Contains => return contains(&left, &right),
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
                Some(Value::Text(format!("{a}{b}")))
            }
            (Value::Duration(a), Value::Duration(b)) => durations(operator, *a, *b)?,
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
        })
    }
}

fn contains(whole: &Value, part: &Value) -> Evaluated<Value> {
    match (whole, part) {
        (Value::Text(whole), part) => Ok(Value::Truth(whole.contains(&part.to_string()))),
        (Value::List(values), part) => Ok(Value::Truth(values.contains(part))),
        (other, _) => Err(format!("{} contains nothing", other.kind())),
    }
}

fn numbers(operator: Operator, a: f64, b: f64) -> Evaluated<Option<Value>> {
    if b == 0.0 && matches!(operator, Operator::Divide | Operator::Remainder) {
        return Err(format!("cannot divide {a} by zero"));
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
        Operator::Divide if b.is_zero() => return Err("cannot divide by 0ms".to_owned()),
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
        .map_err(|_| format!("{seconds} seconds is not a length of time"))
}
