//! Expressions, loosest operators first.

use std::time::Duration;

use lantern_model::code::Operator;
use lantern_model::{TimeOfDay, Value};

use super::everyday_words::{Instead, UNITS, instead_of};
use super::{ErrorReported, MOST_OPERATORS, Parsed, Parser, Piece};
use crate::codes::Code;
use crate::token::{Sign, TokenKind};
use crate::tree::{ExprSyntax, ExprSyntaxKind, Name, TextPart};
use crate::{Finding, Span, near_name};

/// How tightly an operator binds, loosest first; `not` binds as the comparisons do.
fn tightness(operator: Operator) -> usize {
    match operator {
        Operator::Or => 0,
        Operator::And => 1,
        Operator::Equal
        | Operator::Unequal
        | Operator::Less
        | Operator::LessOrEqual
        | Operator::Greater
        | Operator::GreaterOrEqual
        | Operator::Contains
        | Operator::Matches => COMPARISONS,
        Operator::Add | Operator::Subtract => 3,
        Operator::Multiply | Operator::Divide | Operator::Remainder => 4,
    }
}
const COMPARISONS: usize = 2;

/// The operator that a sign is.
fn operator_of(sign: Sign) -> Option<Operator> {
    Some(match sign {
        Sign::Equal => Operator::Equal,
        Sign::Unequal => Operator::Unequal,
        Sign::Less => Operator::Less,
        Sign::LessOrEqual => Operator::LessOrEqual,
        Sign::Greater => Operator::Greater,
        Sign::GreaterOrEqual => Operator::GreaterOrEqual,
        Sign::Plus => Operator::Add,
        Sign::Minus => Operator::Subtract,
        Sign::Times => Operator::Multiply,
        Sign::Divide => Operator::Divide,
        Sign::Percent => Operator::Remainder,
        _ => return None,
    })
}

impl Parser<'_> {
    pub(super) fn parse_expr(&mut self) -> Parsed<ExprSyntax> {
        self.nest(|parser| parser.parse_operators(0))
    }

    /// Values with operators between them that bind at least that tightly.
    fn parse_operators(&mut self, loosest: usize) -> Parsed<ExprSyntax> {
        let beside = std::mem::take(&mut self.operators);
        let value = self.parse_operands(loosest);
        self.operators = self.operators.max(beside);
        value
    }

    fn parse_operands(&mut self, loosest: usize) -> Parsed<ExprSyntax> {
        let mut left = if loosest <= COMPARISONS && self.is_word("not") {
            let word = self.next().span;
            let inner = self.nest(|parser| parser.parse_operators(COMPARISONS))?;
            let span = word.to(inner.span);
            ExprSyntax { kind: ExprSyntaxKind::Not(Box::new(inner)), span }
        } else {
            self.parse_unary()?
        };
        loop {
            let operator = self.peek_operator();
            let Some(operator) = operator.filter(|operator| tightness(*operator) >= loosest) else {
                return Ok(left);
            };
            let sign = self.next().span;
            self.take_line_ends();
            // The larger of both sides is what the operator stands above.
            let right = self.parse_operators(tightness(operator) + 1)?;
            self.operators += 1;
            if self.operators > MOST_OPERATORS {
                self.findings.push(too_many_operators(sign));
                return Err(ErrorReported);
            }
            let span = left.span.to(right.span);
            left = ExprSyntax {
                kind: ExprSyntaxKind::Binary(operator, Box::new(left), Box::new(right)),
                span,
            };
        }
    }

    fn peek_operator(&mut self) -> Option<Operator> {
        let piece = self.peek();
        match piece.kind {
            TokenKind::Sign(sign) => operator_of(sign),
            TokenKind::Word => match self.slice(piece.span) {
                "and" => Some(Operator::And),
                "or" => Some(Operator::Or),
                "contains" => Some(Operator::Contains),
                "matches" => Some(Operator::Matches),
                _ => None,
            },
            _ => None,
        }
    }

    fn parse_unary(&mut self) -> Parsed<ExprSyntax> {
        if self.is_sign(Sign::Minus) {
            let minus = self.next().span;
            let inner = self.nest(Parser::parse_unary)?;
            let span = minus.to(inner.span);
            return Ok(ExprSyntax { kind: ExprSyntaxKind::Negate(Box::new(inner)), span });
        }
        let value = self.parse_primary()?;
        let follower = self.peek();
        let text = self.slice(follower.span);
        if follower.kind == TokenKind::Number && text.starts_with('-') && follower.spaced {
            let number = &text[1..];
            let left = self.slice(value.span);
            self.broken.push(left.to_owned());
            self.findings.push(
                Finding::new(
                    Code::Unexpected,
                    follower.span,
                    "a sign touches its number, so this is a value of its own",
                )
                .label("a minus between values has a space on both sides")
                .help(format!("write `{left} - {number}`"))
                .fix(follower.span, format!("- {number}")),
            );
            self.next();
            return Ok(ExprSyntax {
                kind: ExprSyntaxKind::Unread,
                span: value.span.to(follower.span),
            });
        }
        Ok(value)
    }

    pub(super) fn parse_primary(&mut self) -> Parsed<ExprSyntax> {
        let piece = self.peek();
        let span = piece.span;
        let text = self.slice(span);
        let kind = match piece.kind {
            TokenKind::Number => {
                self.next();
                let kind = self.read_number(text, span);
                let first = ExprSyntax { kind, span };
                if self.is_sign(Sign::Dots) && !self.peek().spaced {
                    return self.parse_range(first);
                }
                return Ok(first);
            }
            TokenKind::Clock => {
                self.next();
                match self.read_time_of_day(span) {
                    Some(time) => ExprSyntaxKind::Value(Value::Time(time)),
                    None => ExprSyntaxKind::Unread,
                }
            }
            TokenKind::Text => {
                self.next();
                ExprSyntaxKind::Text(self.read_text(span))
            }
            TokenKind::Raw => {
                self.next();
                ExprSyntaxKind::Text(vec![TextPart::Literal(text.trim_matches('`').to_owned())])
            }
            TokenKind::Sign(Sign::ParenOpen) => {
                self.next();
                return self.join_lines(|parser| {
                    let mut inner = parser.parse_expr()?;
                    let close = parser.expect_sign(Sign::ParenClose, "after the value")?;
                    inner.span = span.to(close);
                    Ok(inner)
                });
            }
            TokenKind::Sign(Sign::BracketOpen) => return self.parse_list(),
            TokenKind::Word => return self.parse_word_value(piece),
            _ => return self.fail("a value"),
        };
        Ok(ExprSyntax { kind, span })
    }

    fn parse_list(&mut self) -> Parsed<ExprSyntax> {
        let open = self.next().span;
        self.join_lines(|parser| {
            let mut values = Vec::new();
            while !parser.is_sign(Sign::BracketClose) {
                values.push(parser.parse_expr()?);
                if !parser.take_sign(Sign::Comma) {
                    break;
                }
            }
            let close = parser.expect_sign(Sign::BracketClose, "after the list")?;
            Ok(ExprSyntax { kind: ExprSyntaxKind::List(values), span: open.to(close) })
        })
    }

    fn parse_word_value(&mut self, piece: Piece) -> Parsed<ExprSyntax> {
        let word = self.slice(piece.span);
        self.next();
        let kind = match word {
            "true" | "false" => ExprSyntaxKind::Value(Value::Truth(word == "true")),
            "key" => return self.parse_key_value(piece.span),
            "is-down" => return self.parse_is_down(piece.span),
            _ => {
                self.at -= 1;
                let name = self.parse_dotted()?;
                let follower = self.peek();
                if follower.kind == TokenKind::Sign(Sign::ParenOpen) && !follower.spaced {
                    let arguments = self.parse_arguments()?;
                    let span = piece.span.to(self.last_span());
                    return Ok(ExprSyntax { kind: ExprSyntaxKind::Call(name, arguments), span });
                }
                let first = ExprSyntax { kind: ExprSyntaxKind::Name(name.text), span: name.span };
                if self.is_sign(Sign::Dots) && !self.peek().spaced {
                    return self.parse_range(first);
                }
                return Ok(first);
            }
        };
        Ok(ExprSyntax { kind, span: piece.span })
    }

    fn parse_key_value(&mut self, word: Span) -> Parsed<ExprSyntax> {
        if self.is_sign(Sign::BracketOpen) {
            let keys = self.parse_key_set()?;
            let span = word.to(self.last_span());
            let combos = keys.into_iter().map(lantern_model::KeyCombination::of);
            let list = Value::List(combos.map(Value::Key).collect());
            return Ok(ExprSyntax { kind: ExprSyntaxKind::Value(list), span });
        }
        let combo = self.parse_keys()?;
        let span = word.to(combo.span);
        Ok(ExprSyntax { kind: ExprSyntaxKind::Key(combo), span })
    }

    fn parse_is_down(&mut self, word: Span) -> Parsed<ExprSyntax> {
        self.expect_sign(Sign::ParenOpen, "after `is-down`")?;
        self.join_lines(|parser| {
            let mut combos = vec![parser.parse_combo()?];
            while parser.take_sign(Sign::Comma) {
                combos.push(parser.parse_combo()?);
            }
            let close = parser.expect_sign(Sign::ParenClose, "after the keys")?;
            Ok(ExprSyntax { kind: ExprSyntaxKind::IsDown(combos), span: word.to(close) })
        })
    }

    /// A name with the parts behind its dots; words of the language may stand there.
    fn parse_dotted(&mut self) -> Parsed<Name> {
        let piece = self.next();
        let mut name = Name { text: self.slice(piece.span).to_owned(), span: piece.span };
        while self.is_sign(Sign::Dot) && !self.peek().spaced {
            self.next();
            let part = self.peek();
            if part.kind != TokenKind::Word || part.spaced {
                return self.fail("the name of a part behind the dot");
            }
            self.next();
            name.text = format!("{}.{}", name.text, self.slice(part.span));
            name.span = name.span.to(part.span);
        }
        Ok(name)
    }

    /// `(value, value)`
    pub(super) fn parse_arguments(&mut self) -> Parsed<Vec<ExprSyntax>> {
        self.expect_sign(Sign::ParenOpen, "before the values")?;
        self.join_lines(|parser| {
            let mut arguments = Vec::new();
            while !parser.is_sign(Sign::ParenClose) {
                arguments.push(parser.parse_expr()?);
                if !parser.take_sign(Sign::Comma) {
                    break;
                }
            }
            parser.expect_sign(Sign::ParenClose, "after the values")?;
            Ok(arguments)
        })
    }

    /// `1..9`, behind its first number.
    fn parse_range(&mut self, first: ExprSyntax) -> Parsed<ExprSyntax> {
        self.next();
        let last = self.nest(Parser::parse_unary)?;
        let span = first.span.to(last.span);
        Ok(ExprSyntax { kind: ExprSyntaxKind::Range(Box::new(first), Box::new(last)), span })
    }

    /// The time of day at `span`; said if there is no such time.
    pub(super) fn read_time_of_day(&mut self, span: Span) -> Option<TimeOfDay> {
        let mut numbers = self.slice(span).split(':').map(|part| part.parse::<u32>().unwrap_or(99));
        let mut next = || numbers.next().unwrap_or(0);
        let time = TimeOfDay::new(next(), next(), next());
        if time.is_none() {
            self.findings.push(
                Finding::new(Code::BadNumber, span, "there is no such time of day")
                    .label("out of range")
                    .help("times run from 00:00 to 23:59:59"),
            );
        }
        time
    }

    fn read_number(&mut self, text: &str, span: Span) -> ExprSyntaxKind {
        let digits = text.trim_end_matches(|c: char| c.is_ascii_lowercase() || c == '%');
        let unit = &text[digits.len()..];
        let number: f64 = digits.parse().expect("the lexer takes only digits");
        let millis = match unit {
            "" => return ExprSyntaxKind::Value(Value::Number(number)),
            "%" => return ExprSyntaxKind::Value(Value::Share(number / 100.0)),
            "ms" => 1.0,
            "s" => 1_000.0,
            "min" => 60_000.0,
            "h" => 3_600_000.0,
            _ => {
                let near = match instead_of(UNITS, unit) {
                    Some(Instead::Replace(own)) => Some(own),
                    _ => near_name(unit, ["ms", "s", "min", "h"]),
                };
                let finding =
                    Finding::new(Code::BadNumber, span, format!("`{unit}` is not a unit"))
                        .label("not a unit")
                        .help("durations end in ms, s, min or h, shares in %");
                self.findings.push(match near {
                    Some(near) => finding
                        .help(format!("write `{digits}{near}`"))
                        .fix(span, format!("{digits}{near}")),
                    None => finding,
                });
                return ExprSyntaxKind::Unread;
            }
        };
        match Duration::try_from_secs_f64(number * millis / 1000.0) {
            Ok(duration) if duration <= LONGEST => ExprSyntaxKind::Value(Value::Duration(duration)),
            _ => {
                self.findings.push(
                    Finding::new(Code::BadNumber, span, "this is not a length of time")
                        .label("out of range")
                        .help("durations run from 0ms to 8760h, a year"),
                );
                ExprSyntaxKind::Unread
            }
        }
    }

    /// `[N times] [every D]`, each part optional.
    pub(super) fn parse_times_and_pace(
        &mut self,
    ) -> Result<(Option<ExprSyntax>, Option<ExprSyntax>), ErrorReported> {
        let mut times = None;
        let starts_value = matches!(
            self.peek().kind,
            TokenKind::Number | TokenKind::Word | TokenKind::Sign(Sign::ParenOpen)
        );
        if starts_value && !self.is_word("every") && !self.ends_step_word() {
            self.refuse_second_key()?;
            times = Some(self.parse_expr()?);
            self.expect_word("times", "after how often")?;
        }
        let pace = if self.take_word("every") { Some(self.parse_expr()?) } else { None };
        Ok((times, pace))
    }

    /// Refuses a key behind the keys of a step: a comma is missing, or the number of times is not written
    /// as one.
    fn refuse_second_key(&mut self) -> Parsed<()> {
        match self.advisor().advise_second_key() {
            Some(advice) => {
                let piece = self.peek();
                self.fail_at(piece, "a comma, or how often", Some(advice))
            }
            None => Ok(()),
        }
    }

    fn ends_step_word(&mut self) -> bool {
        ["while", "else", "or"].iter().any(|word| self.is_word(word))
    }
}

fn too_many_operators(span: Span) -> Finding {
    Finding::new(Code::TooMuch, span, "this value has too many operators")
        .label(format!("more than {MOST_OPERATORS} in a row"))
        .help("give parts of it names of their own with `let`, or put the values into a list")
}

/// The longest duration that may be written: a year.
const LONGEST: Duration = Duration::from_secs(8760 * 3600);
