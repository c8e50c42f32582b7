//! Devices and secrets at the top of a set.

use std::net::{IpAddr, SocketAddr};

use lantern_model::{
    Broker, Device, DeviceKind, Secret, SecretTemplate, SecretTemplatePart, Value,
};

use super::Checker;
use super::kinds::ValueKind;
use super::names::ItemKind;
use super::units::joined;
use crate::codes::Code;
use crate::tree::{self, DeviceDetail, ExprSyntaxKind, Name, SecretPlace, TextPart};
use crate::{Finding, near_name};

/// Bits a second that a serial port may be set to: any speed, of which slow and fast devices have odd ones.
const SPEEDS: std::ops::RangeInclusive<f64> = 50.0..=4_000_000.0;

/// What else may be told of a device of a kind, and whether each has a name of its own.
fn details_of(kind: &str) -> &'static [(&'static str, bool)] {
    match kind {
        "web" => &[("header", true)],
        "listener" => &[("token", true)],
        "broker" => &[("user", false), ("password", false), ("greeting", true), ("will", true)],
        _ => &[],
    }
}

impl Checker<'_> {
    /// Secrets are named before anything else, so that every device may have them.
    pub(super) fn declare_secret(&mut self, name: &Name, place: &SecretPlace) {
        let secret = match place {
            SecretPlace::File((file, span)) => {
                let from =
                    self.source.names().nth(self.source.file_at(span.start)).unwrap_or_default();
                Secret::File(joined(from, file))
            }
            SecretPlace::Environment(variable) => Secret::Environment(variable.clone()),
        };
        self.declare(ItemKind::Secret, name, self.secrets.len(), ValueKind::Any);
        self.secrets.push(secret);
    }

    pub(super) fn declare_device(&mut self, device: &tree::DeviceSyntax) {
        let address = self.global_text(&device.place, "where the device is");
        self.check_details(device);
        let kind = match device.kind.text.as_str() {
            "serial" => DeviceKind::Serial { port: address, speed: self.check_speed(device) },
            "broker" => DeviceKind::Broker(Broker {
                address: self.check_address(&address, device, &["mqtt", "mqtts"]),
                user: self.guarded_detail(device, "user"),
                password: self.guarded_detail(device, "password"),
                birth: self.topic_detail(device, "greeting"),
                will: self.topic_detail(device, "will"),
            }),
            "web" => DeviceKind::Web {
                address: self.check_address(&address, device, &["http", "https"]),
                headers: self.guarded_details(device, "header"),
            },
            _ => DeviceKind::Listener {
                address: self.check_own_address(address, device),
                callers: self.guarded_details(device, "token"),
            },
        };
        if let (Some(speed), false) = (&device.speed, matches!(kind, DeviceKind::Serial { .. })) {
            self.say(
                Finding::new(Code::BadClause, speed.span, "only a serial port has a speed")
                    .label("of no use here")
                    .help("leave `at` away"),
            );
        }
        self.check_token(&kind, device);
        self.check_secrecy(&kind, device);
        let index = self.lowered.set.devices.len();
        let name = self.names.full(&device.name.text);
        self.lowered.set.devices.push(Device { name, kind, place: self.place(device.name.span) });
        self.declare(ItemKind::Device, &device.name, index, ValueKind::Any);
    }

    /// Finds listeners without tokens.
    fn check_token(&mut self, kind: &DeviceKind, device: &tree::DeviceSyntax) {
        let DeviceKind::Listener { address, callers } = kind else { return };
        if !callers.is_empty() {
            return;
        }
        let address: Option<SocketAddr> = address.parse().ok();
        if address.is_none_or(|address| address.ip().is_loopback()) {
            return self.lowered.tokenless_listeners.push(device.name.span);
        }
        let name = &device.name.text;
        self.say(
            Finding::new(Code::ReachableWithoutToken, device.place.span, "everybody who reaches this machine could call here")
                .label("called from other machines as well")
                .help(format!("give each caller a token: `secret ilva-key = file \"ilva.key\"`, and `with token ilva = ilva-key` behind the address; or let {name} be called from this machine only, at \"127.0.0.1:4711\"")),
        );
    }

    /// Finds secrets that are sent to another machine in the clear.
    fn check_secrecy(&mut self, kind: &DeviceKind, device: &tree::DeviceSyntax) {
        let (DeviceKind::Web { address, .. } | DeviceKind::Broker(Broker { address, .. })) = kind
        else {
            return;
        };
        let has_secret = kind.secrets().next().is_some();
        let Some((scheme, host)) = address.split_once("://") else { return };
        if has_secret && matches!(scheme, "http" | "mqtt") && !is_this_machine(host) {
            self.say(
                Finding::new(
                    Code::PlainSecret,
                    device.place.span,
                    "a secret is sent without encryption",
                )
                .label("everyone on the network path can read it")
                .help(format!("use `{scheme}s://` if the device knows it")),
            );
        }
    }

    /// Says which details the device's kind does not have, or has once only.
    fn check_details(&mut self, device: &tree::DeviceSyntax) {
        let known = details_of(&device.kind.text);
        for (at, detail) in device.details.iter().enumerate() {
            let DeviceDetail { what, about, .. } = detail;
            let Some((_, named)) = known.iter().find(|(word, _)| *word == what.text) else {
                let words: Vec<String> =
                    known.iter().map(|(word, _)| format!("`{word}`")).collect();
                let kind = &device.kind.text;
                let near = near_name(&what.text, known.iter().map(|(word, _)| *word));
                let help = match (near, words.as_slice()) {
                    (Some(near), _) => format!("did you mean `{near}`?"),
                    (None, []) => "leave `with` away".to_owned(),
                    (None, words) => format!("it may have {}", words.join(", ")),
                };
                self.say(
                    Finding::new(
                        Code::NoSuchName,
                        what.span,
                        format!("a `{kind}` device has no `{}`", what.text),
                    )
                    .label("not known here")
                    .help(help),
                );
                continue;
            };
            if *named != about.is_some() {
                let message = match named {
                    true => format!("`{}` needs a name before the `=`", what.text),
                    false => format!("`{}` has no name of its own", what.text),
                };
                let example = match what.text.as_str() {
                    "header" => "for example `header \"X-Desk\" = \"bench\"`",
                    "token" => "for example `token ilva = ilva-key`",
                    "user" | "password" => "for example `user = \"bench\"`",
                    _ => "a topic: for example `will \"desks/bench\" = \"away\"`",
                };
                self.say(
                    Finding::new(Code::Unexpected, what.span, message).label("here").help(example),
                );
            }
            let same = |other: &&DeviceDetail| {
                let once = matches!(what.text.as_str(), "greeting" | "will");
                let name =
                    |detail: &DeviceDetail| detail.about.as_ref().map(|name| name.text.clone());
                other.what.text == what.text && (once || name(other) == name(detail))
            };
            if let Some(first) = device.details[..at].iter().find(same) {
                let finding = Finding::new(
                    Code::NamedTwice,
                    what.span,
                    format!("`{}` stands twice", what.text),
                );
                self.say(finding.label("again").other(first.what.span, "here first"));
            }
        }
    }

    fn guarded_details(
        &mut self,
        device: &tree::DeviceSyntax,
        what: &str,
    ) -> Vec<(String, SecretTemplate)> {
        let found = device.details.iter().filter(|detail| detail.what.text == what);
        found
            .filter_map(|detail| {
                let name = detail.about.as_ref()?;
                if what == "header" && !is_field_name(&name.text) {
                    let message = "this is no name of a header field";
                    let finding = Finding::new(Code::BadText, name.span, message);
                    self.say(finding.label("not a field").help("for example \"Authorization\""));
                }
                Some((name.text.clone(), self.guarded(&detail.value)))
            })
            .collect()
    }

    fn guarded_detail(
        &mut self,
        device: &tree::DeviceSyntax,
        what: &str,
    ) -> Option<SecretTemplate> {
        let detail = device.details.iter().find(|detail| detail.what.text == what)?;
        Some(self.guarded(&detail.value))
    }

    /// A topic and the text that is kept there.
    fn topic_detail(
        &mut self,
        device: &tree::DeviceSyntax,
        what: &str,
    ) -> Option<(String, String)> {
        let detail = device.details.iter().find(|detail| detail.what.text == what)?;
        let topic = detail.about.as_ref()?;
        if topic.text.is_empty() || topic.text.contains(['+', '#', '\0']) {
            let message = "nothing can be published at this topic";
            let finding = Finding::new(Code::BadText, topic.span, message);
            self.say(finding.label("not a topic").help("name one, without `+` and `#`"));
        }
        Some((topic.text.clone(), self.global_text(&detail.value, "the text of this topic")))
    }

    /// A text in which secrets may stand; nothing else has them.
    fn guarded(&mut self, expr: &tree::ExprSyntax) -> SecretTemplate {
        let parts = match &expr.kind {
            ExprSyntaxKind::Text(parts) => parts.iter().map(|part| match part {
                TextPart::Literal(text) => SecretTemplatePart::Plain(text.clone()),
                TextPart::Value(value) => self.guarded_part(value),
            }),
            _ => return SecretTemplate(vec![self.guarded_part(expr)]),
        };
        SecretTemplate(parts.collect())
    }

    fn guarded_part(&mut self, expr: &tree::ExprSyntax) -> SecretTemplatePart {
        if let ExprSyntaxKind::Name(name) = &expr.kind {
            if let Some(entry) = self.names.get_mut(ItemKind::Secret, name) {
                entry.used = true;
                return SecretTemplatePart::Secret(self.secrets[entry.index].clone());
            }
            if self.names.get(ItemKind::Value, name).is_none() {
                let name = Name { text: name.clone(), span: expr.span };
                self.find(ItemKind::Secret, &name);
                return SecretTemplatePart::Plain(String::new());
            }
        }
        SecretTemplatePart::Plain(self.global_text(expr, "this"))
    }

    /// The text that an expression of top-level values gives; said if it is none.
    fn global_text(&mut self, expr: &tree::ExprSyntax, what: &str) -> String {
        let (lowered, _) = self.lower_expr(expr);
        match self.constant(&lowered) {
            Some(Value::Text(text)) if !text.is_empty() => text,
            _ => {
                if expr.kind != ExprSyntaxKind::Unread {
                    let message = format!("{what} must be a text");
                    let finding = Finding::new(Code::WrongKind, expr.span, message);
                    self.say(finding.label("not a text").help("for example \"/dev/ttyACM0\""));
                }
                String::new()
            }
        }
    }

    /// What an expression gives before anything runs, if that can be known.
    fn constant(&self, expr: &lantern_model::code::Expr) -> Option<Value> {
        use lantern_model::code::Expr;
        match expr {
            Expr::Value(value) => Some(value.clone()),
            Expr::Global(index) => self.constant(&self.lowered.set.globals[*index].initial),
            Expr::Text(parts) => {
                let mut text = String::new();
                for part in parts {
                    text.push_str(&self.constant(part)?.to_string());
                }
                Some(Value::Text(text))
            }
            _ => None,
        }
    }

    fn check_speed(&mut self, device: &tree::DeviceSyntax) -> u32 {
        let Some(speed) = &device.speed else { return 9600 };
        let (lowered, _) = self.lower_expr(speed);
        match self.constant(&lowered) {
            Some(Value::Number(number)) if SPEEDS.contains(&number) && number.fract() == 0.0 => {
                number as u32
            }
            _ => {
                self.say(
                    Finding::new(
                        Code::BadNumber,
                        speed.span,
                        "serial ports do not have this speed",
                    )
                    .label("not a speed")
                    .help("usual ones are 9600, 57600 and 115200"),
                );
                9600
            }
        }
    }

    fn check_address(
        &mut self,
        place: &str,
        device: &tree::DeviceSyntax,
        schemes: &[&str],
    ) -> String {
        let sound = schemes.iter().any(|scheme| {
            place
                .strip_prefix(scheme)
                .and_then(|rest| rest.strip_prefix("://"))
                .is_some_and(|host| !host.is_empty() && !host.contains(char::is_whitespace))
        });
        if !sound && !place.is_empty() {
            self.say(
                Finding::new(Code::BadText, device.place.span, "this is no address")
                    .label(format!("a {} needs one", device.kind.text))
                    .help(format!("for example \"{}://127.0.0.1:4710\"", schemes[0])),
            );
        }
        let authority = place.split_once("://").map_or("", |(_, rest)| rest);
        let authority = authority.split(['/', '?', '#']).next().unwrap_or_default();
        if authority.contains('@') {
            let instead = match device.kind.text.as_str() {
                "broker" => "`with user = \"bench\", password = hut-key`",
                _ => "`with header \"Authorization\" = fan-key`",
            };
            self.say(
                Finding::new(
                    Code::BadText,
                    device.place.span,
                    "an address holds no name and no password",
                )
                .label("it would be shown wherever the address is")
                .help(format!("name a secret, and write {instead} behind the address")),
            );
        }
        place.trim_end_matches('/').to_owned()
    }

    /// Where a listener listens: an address of this machine and a port.
    fn check_own_address(&mut self, address: String, device: &tree::DeviceSyntax) -> String {
        let sound = address.parse::<std::net::SocketAddr>().is_ok();
        if !sound && !address.is_empty() {
            self.say(
                Finding::new(Code::BadText, device.place.span, "a listener cannot use this address")
                    .label("not an address and port")
                    .help("\"127.0.0.1:4711\" is called from this machine only, \"0.0.0.0:4711\" from everywhere"),
            );
        }
        address
    }
}

/// Whether the host at the start of a text is this machine itself.
fn is_this_machine(address: &str) -> bool {
    let authority = address.split(['/', '?', '#']).next().unwrap_or_default();
    let host = match authority.strip_prefix('[') {
        Some(rest) => rest.split(']').next().unwrap_or_default(),
        None => authority.split(':').next().unwrap_or_default(),
    };
    host == "localhost" || host.parse().is_ok_and(|ip: IpAddr| ip.is_loopback())
}

/// Whether it may name a header field (RFC 9110, section 5.6.2).
fn is_field_name(name: &str) -> bool {
    let sign = |c: char| c.is_ascii_alphanumeric() || "!#$%&'*+-.^_`|~".contains(c);
    !name.is_empty() && name.chars().all(sign)
}
