//! Devices, and the secrets that prove to them who we are.

use super::{Parsed, Parser};
use crate::token::{Sign, TokenKind};
use crate::tree::{DeviceDetail, DeviceSyntax, Item, Name, SecretPlace};

impl Parser<'_> {
    /// `device NAME = KIND "where" at SPEED with DETAIL = EXPR, ...`
    pub(super) fn parse_device(&mut self) -> Parsed<Item> {
        let name = self.expect_name("a name for the device")?;
        self.expect_sign(Sign::Assign, "after the name")?;
        let piece = self.peek();
        let kinds = ["serial", "broker", "web", "listener"];
        if piece.kind != TokenKind::Word || !kinds.contains(&self.slice(piece.span)) {
            let advice = self.advisor().advise_kind_of_device();
            return self.fail_advised("`serial`, `broker`, `web` or `listener`", &kinds, advice);
        }
        self.next();
        let kind = Name { text: self.slice(piece.span).to_owned(), span: piece.span };
        let place = self.parse_expr()?;
        let speed = if self.take_word("at") { Some(self.parse_expr()?) } else { None };
        let mut details = Vec::new();
        if self.take_word("with") {
            loop {
                details.push(self.parse_detail()?);
                if !self.take_sign(Sign::Comma) {
                    break;
                }
                self.take_line_ends();
            }
        }
        Ok(Item::Device(DeviceSyntax { name, kind, place, speed, details }))
    }

    /// `header "Name" = EXPR`, `token NAME = EXPR`, `user = EXPR`
    fn parse_detail(&mut self) -> Parsed<DeviceDetail> {
        let what = self.expect_name("what else is to be known of the device")?;
        let about = match self.peek().kind {
            TokenKind::Text => {
                let (text, span) = self.parse_plain_text("a name between quotes")?;
                Some(Name { text, span })
            }
            TokenKind::Word => Some(self.expect_name("a name")?),
            _ => None,
        };
        self.expect_sign(Sign::Assign, "before its value")?;
        Ok(DeviceDetail { what, about, value: self.parse_expr()? })
    }

    /// `secret NAME = file "path"`, `secret NAME = environment "NAME"`
    pub(super) fn parse_secret(&mut self) -> Parsed<Item> {
        let name = self.expect_name("a name for the secret")?;
        self.expect_sign(Sign::Assign, "after the name")?;
        let place = if self.take_word("file") {
            SecretPlace::File(self.parse_plain_text("the file's name between quotes")?)
        } else if self.take_word("environment") {
            SecretPlace::Environment(self.parse_plain_text("the variable's name between quotes")?.0)
        } else {
            return self.fail_unknown("`file` or `environment`", &["file", "environment"]);
        };
        Ok(Item::Secret(name, place))
    }
}
