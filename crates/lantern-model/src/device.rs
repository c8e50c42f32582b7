//! Devices of the rules and their addresses.

use crate::SourceLocation;

/// The number of a device in its set.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct DeviceId(pub usize);

/// State of the connection to a device.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ConnectionState {
    /// Connected.
    Open,
    /// Not connected, for this reason. It is tried again.
    Down(String),
}

/// A device that rules use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Device {
    /// Its name in the file.
    pub name: String,
    /// What it is.
    pub kind: DeviceKind,
    /// Where it stands in the file.
    pub place: SourceLocation,
}

/// What a device is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum DeviceKind {
    /// A serial port, at a speed in bits a second.
    Serial {
        /// Its path.
        port: String,
        /// Bits a second.
        speed: u32,
    },
    /// A message broker.
    Broker(Broker),
    /// A web server.
    Web {
        /// Its address, without a slash at its end.
        address: String,
        /// Header fields of every request, by name.
        headers: Vec<(String, SecretTemplate)>,
    },
    /// An HTTP listener of this program.
    Listener {
        /// The address it listens on.
        address: String,
        /// The callers, by name, each with its token. Empty: every program of the same user may call.
        callers: Vec<(String, SecretTemplate)>,
    },
}

impl DeviceKind {
    /// Where it is.
    pub fn address(&self) -> &str {
        match self {
            DeviceKind::Serial { port, .. } => port,
            DeviceKind::Broker(Broker { address, .. })
            | DeviceKind::Web { address, .. }
            | DeviceKind::Listener { address, .. } => address,
        }
    }

    /// Every secret that is sent to it.
    pub fn secrets(&self) -> impl Iterator<Item = &Secret> {
        let guarded: Vec<&SecretTemplate> = match self {
            DeviceKind::Serial { .. } => Vec::new(),
            DeviceKind::Broker(Broker { user, password, .. }) => {
                user.iter().chain(password).collect()
            }
            DeviceKind::Web { headers: known, .. }
            | DeviceKind::Listener { callers: known, .. } => {
                known.iter().map(|(_, guarded)| guarded).collect()
            }
        };
        guarded.into_iter().flat_map(|guarded| &guarded.0).filter_map(|part| match part {
            SecretTemplatePart::Secret(secret) => Some(secret),
            SecretTemplatePart::Plain(_) => None,
        })
    }

    /// The kind's word in a file.
    pub const fn word(&self) -> &'static str {
        match self {
            DeviceKind::Serial { .. } => "serial",
            DeviceKind::Broker(_) => "broker",
            DeviceKind::Web { .. } => "web",
            DeviceKind::Listener { .. } => "listener",
        }
    }
}

/// An MQTT broker and the credentials for it.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Broker {
    /// Its address, with `mqtt://` or `mqtts://` before it.
    pub address: String,
    /// The user name.
    pub user: Option<SecretTemplate>,
    /// The password.
    pub password: Option<SecretTemplate>,
    /// The birth message: topic and text, retained while the connection is up.
    pub birth: Option<(String, String)>,
    /// The will: topic and text that the broker publishes when the connection breaks.
    pub will: Option<(String, String)>,
}

/// A text with secrets in it. Secrets are read when needed and never shown.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SecretTemplate(pub Vec<SecretTemplatePart>);

/// A part of a text with secrets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecretTemplatePart {
    /// Characters as written.
    Plain(String),
    /// What a secret holds.
    Secret(Secret),
}

/// Where a secret is kept.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Secret {
    /// In this file, its last line end left away.
    File(String),
    /// In this variable of the environment.
    Environment(String),
}

/// Whether a topic is one that a filter names: `+` is one level, `#` all that follow (MQTT 5.0,
/// section 4.7).
///
/// ```
/// assert!(lantern_model::topic_fits("saw/+/state", "saw/2/state"));
/// assert!(!lantern_model::topic_fits("saw/+", "saw/2/state"));
/// ```
pub fn topic_fits(filter: &str, topic: &str) -> bool {
    let mut levels = topic.split('/');
    for wanted in filter.split('/') {
        match (wanted, levels.next()) {
            ("#", _) => return true,
            ("+", Some(_)) => {}
            (wanted, Some(level)) if wanted == level => {}
            _ => return false,
        }
    }
    levels.next().is_none()
}
