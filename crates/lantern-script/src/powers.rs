//! What a set can do to the machine and the person, told before it runs: for a file that somebody
//! else wrote.

use lantern_model::code::{Asked, Expr, Op};
use lantern_model::{Broker, Cause, DeviceKind, Place, RuleSet, Secret, Value, Verb};

/// What sort of power it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum PowerKind {
    /// It sees the characters that are typed.
    ReadsTyping,
    /// It sees which keys and buttons are down.
    SeesKeys,
    /// It hears what is spoken.
    Listens,
    /// It sees what the clipboard holds.
    ReadsClipboard,
    /// It starts a program.
    StartsProgram,
    /// It gives a line to the shell.
    UsesShell,
    /// It opens an address or file.
    Opens,
    /// It speaks to another machine.
    Connects,
    /// It lets others call it.
    IsCalled,
    /// It reads a secret, to show it to a device.
    ReadsSecret,
    /// It uses a serial port.
    UsesPort,
}

impl PowerKind {
    /// The power in words.
    pub const fn words(self) -> &'static str {
        match self {
            PowerKind::ReadsTyping => "sees what is typed",
            PowerKind::SeesKeys => "sees which keys are down",
            PowerKind::Listens => "opens the microphone",
            PowerKind::ReadsClipboard => "reads the clipboard",
            PowerKind::StartsProgram => "starts",
            PowerKind::UsesShell => "gives the shell",
            PowerKind::Opens => "opens",
            PowerKind::Connects => "speaks to",
            PowerKind::IsCalled => "can be called on",
            PowerKind::ReadsSecret => "reads the secret in",
            PowerKind::UsesPort => "uses the port",
        }
    }
}

/// Something a set can do.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct Power {
    /// What sort.
    pub kind: PowerKind,
    /// With what: a program, line, address; empty where there is nothing to name.
    pub what: String,
    /// Where it was first found.
    pub place: Place,
}

/// Everything a set can do, each once.
pub fn powers(rules: &RuleSet) -> Vec<Power> {
    let mut found = Vec::new();
    for rule in &rules.rules {
        for trigger in &rule.triggers {
            let kind = match trigger.cause {
                Cause::Typed(_) => PowerKind::ReadsTyping,
                Cause::Voice(_) => PowerKind::Listens,
                _ => continue,
            };
            found.push(Power { kind, what: String::new(), place: trigger.place });
        }
        let asks = |expr: &Expr| expr.asks(&|asked| *asked == Asked::Fingers);
        if rule.condition.as_ref().is_some_and(asks) {
            let place = rule.place;
            found.push(Power { kind: PowerKind::SeesKeys, what: String::new(), place });
        }
    }
    for routine in &rules.routines {
        for (op, place) in routine.ops.iter().zip(&routine.places) {
            if op.exprs().into_iter().any(|expr| expr.asks(&|asked| *asked == Asked::Fingers)) {
                let place = *place;
                found.push(Power { kind: PowerKind::SeesKeys, what: String::new(), place });
            }
            if let Op::Do { verb, words, .. } = op
                && let Some((kind, what)) = power_of(verb, words)
            {
                found.push(Power { kind, what, place: *place });
            }
        }
    }
    for device in &rules.devices {
        let (kind, what) = match &device.kind {
            DeviceKind::Serial { port, .. } => (PowerKind::UsesPort, port),
            DeviceKind::Listener { address, .. } => (PowerKind::IsCalled, address),
            DeviceKind::Broker(Broker { address, .. }) | DeviceKind::Web { address, .. } => {
                (PowerKind::Connects, address)
            }
        };
        for secret in device.kind.secrets() {
            let what = match secret {
                Secret::File(path) => path.clone(),
                Secret::Environment(variable) => format!("${variable}"),
            };
            found.push(Power { kind: PowerKind::ReadsSecret, what, place: device.place });
        }
        found.push(Power { kind, what: what.clone(), place: device.place });
    }
    found.sort();
    found.dedup_by(|later, first| {
        later.kind == first.kind && later.what == first.what && later.place.file == first.place.file
    });
    found
}

fn power_of(verb: &Verb, words: &[Expr]) -> Option<(PowerKind, String)> {
    let first = || words.first().map_or_else(String::new, shown);
    Some(match verb {
        Verb::Launch => (PowerKind::StartsProgram, first()),
        Verb::Run => {
            (PowerKind::StartsProgram, words.iter().map(shown).collect::<Vec<_>>().join(" "))
        }
        Verb::Shell => (PowerKind::UsesShell, first()),
        Verb::Open => (PowerKind::Opens, first()),
        Verb::ReadClipboard => (PowerKind::ReadsClipboard, String::new()),
        _ => return None,
    })
}

/// A text as far as it is known before it runs.
fn shown(expr: &Expr) -> String {
    match expr {
        Expr::Value(Value::Text(text)) => text.clone(),
        Expr::Text(parts) => parts.iter().map(shown).collect(),
        _ => "…".to_owned(),
    }
}
