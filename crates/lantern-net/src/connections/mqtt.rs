//! A connection to a broker, whichever version of the protocol that speaks (MQTT 5.0, else 3.1.1).
//!
//! Knows packets and sessions, not what they are for.

use std::sync::Arc;
use std::time::Duration;

use rumqttc::v5::mqttbytes::v5 as five;
use rumqttc::{TlsConfiguration, Transport, v5};
use rustls::{ClientConfig, RootCertStore};

use super::LinkError;
use super::mqtt_events::{MqttEvent, NUMBER, came_five, came_three};

/// How often a quiet connection is tried.
const KEEP_ALIVE: Duration = Duration::from_secs(60);
/// How long a broker that knows how keeps what comes while we are away.
const SESSION: Duration = Duration::from_secs(10 * 60);
/// Maximum size of a packet in bytes.
const LARGEST: u32 = 256 * 1024;
/// Room in a packet for everything but the topic and the text, in bytes.
const OVERHEAD: usize = 256;
/// Messages on their way at a time.
const UNDER_WAY: u16 = 100;

/// How to reach a broker, and as whom.
#[derive(Clone)]
pub(super) struct BrokerAddress {
    pub host: String,
    pub port: u16,
    pub is_secure: bool,
    pub client: String,
    pub user: Option<(String, String)>,
    pub will: Option<(String, String)>,
}

/// A message to publish.
#[derive(Debug, Clone)]
pub(super) struct PublishMessage {
    pub topic: String,
    pub text: String,
    pub retained: bool,
    /// A number that identifies the message, also when it is sent again.
    pub number: String,
}

impl PublishMessage {
    /// Why no broker could take it, if so. Such a packet would end the connection, or stay for ever in
    /// front of all others.
    pub(super) fn fault(topic: &str, text: &str) -> Option<&'static str> {
        if topic.is_empty() || topic.len() > usize::from(u16::MAX) {
            Some("a topic has 1 to 65,535 bytes")
        } else if topic.contains(['+', '#']) {
            Some("nothing can be published at a topic with `+` or `#`")
        } else if topic.contains('\0') {
            Some("a topic has no character U+0000")
        } else if topic.len() + text.len() + OVERHEAD > LARGEST as usize {
            Some("a message has at most 256 KiB")
        } else {
            None
        }
    }
}

/// Why a connection is none.
pub(super) enum MqttError {
    /// It broke, or could not be made.
    Off(String),
    /// The broker does not want us.
    Refused(String),
    /// The broker does not speak this version.
    MqttVersion,
    /// The broker closed the connection without a word, as MQTT 3.1.1 asks of one that does not know
    /// the version of a client, and as one does that is ending.
    Closed,
}

/// A connection of one version.
pub(super) enum MqttConnection {
    /// MQTT 5.0.
    Five(v5::AsyncClient, Box<v5::EventLoop>),
    /// MQTT 3.1.1.
    Three(rumqttc::AsyncClient, Box<rumqttc::EventLoop>),
}

/// The side of a connection that sends; it may be used while the other waits.
#[derive(Clone)]
pub(super) enum MqttSender {
    Five(v5::AsyncClient),
    Three(rumqttc::AsyncClient),
}

/// Which version is spoken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum MqttVersion {
    Five,
    Three,
}

impl MqttConnection {
    /// A connection to be made. A `fresh` one forgets what the broker knew of us, and leaves no will: a session
    /// that begins so is kept by no broker for certain, so that the next one must follow at once.
    pub(super) fn new(
        version: MqttVersion,
        reach: &BrokerAddress,
        fresh: bool,
    ) -> Result<MqttConnection, LinkError> {
        match version {
            MqttVersion::Five => MqttConnection::five(reach, fresh),
            MqttVersion::Three => MqttConnection::three(reach, fresh),
        }
    }

    fn five(reach: &BrokerAddress, fresh: bool) -> Result<MqttConnection, LinkError> {
        let mut options = v5::MqttOptions::new(&reach.client, &reach.host, reach.port);
        options
            .set_keep_alive(KEEP_ALIVE)
            .set_clean_start(fresh)
            .set_session_expiry_interval(Some(SESSION.as_secs() as u32))
            .set_max_packet_size(Some(LARGEST))
            .set_receive_maximum(Some(UNDER_WAY))
            .set_outgoing_inflight_upper_limit(UNDER_WAY);
        if let Some((user, password)) = &reach.user {
            options.set_credentials(user, password);
        }
        if let (Some((topic, text)), false) = (&reach.will, fresh) {
            let qos = v5::mqttbytes::QoS::AtLeastOnce;
            let will = five::LastWill::new(topic.as_str(), text.as_str(), qos, true, None);
            options.set_last_will(will);
        }
        if reach.is_secure {
            options.set_transport(secure()?);
        }
        let (client, connection) = v5::AsyncClient::new(options, usize::from(UNDER_WAY));
        Ok(MqttConnection::Five(client, Box::new(connection)))
    }

    fn three(reach: &BrokerAddress, fresh: bool) -> Result<MqttConnection, LinkError> {
        let mut options = rumqttc::MqttOptions::new(&reach.client, &reach.host, reach.port);
        options
            .set_keep_alive(KEEP_ALIVE)
            .set_clean_session(fresh)
            .set_max_packet_size(LARGEST as usize, LARGEST as usize)
            .set_inflight(UNDER_WAY);
        if let Some((user, password)) = &reach.user {
            options.set_credentials(user, password);
        }
        if let (Some((topic, text)), false) = (&reach.will, fresh) {
            let qos = rumqttc::QoS::AtLeastOnce;
            options.set_last_will(rumqttc::LastWill::new(topic, text.as_str(), qos, true));
        }
        if reach.is_secure {
            options.set_transport(secure()?);
        }
        let (client, connection) = rumqttc::AsyncClient::new(options, usize::from(UNDER_WAY));
        Ok(MqttConnection::Three(client, Box::new(connection)))
    }

    pub(super) fn sender(&self) -> MqttSender {
        match self {
            MqttConnection::Five(client, _) => MqttSender::Five(client.clone()),
            MqttConnection::Three(client, _) => MqttSender::Three(client.clone()),
        }
    }

    /// What comes next. After a break the next call connects anew, to the session from before.
    pub(super) async fn next(&mut self) -> Result<MqttEvent, MqttError> {
        match self {
            MqttConnection::Five(_, connection) => {
                Ok(came_five(connection.poll().await.map_err(broken_five)?))
            }
            MqttConnection::Three(_, connection) => {
                Ok(came_three(connection.poll().await.map_err(broken_three)?))
            }
        }
    }
}

impl MqttSender {
    /// Hands a message over; whether there was room for it.
    pub(super) fn publish(&self, message: &PublishMessage) -> bool {
        let PublishMessage { topic, text, retained, number } = message;
        match self {
            MqttSender::Five(client) => {
                let properties = five::PublishProperties {
                    payload_format_indicator: Some(1),
                    user_properties: vec![(NUMBER.to_owned(), number.clone())],
                    ..five::PublishProperties::default()
                };
                let qos = v5::mqttbytes::QoS::AtLeastOnce;
                let (topic, text) = (topic.as_str(), text.clone());
                client.try_publish_with_properties(topic, qos, *retained, text, properties).is_ok()
            }
            // Nothing tells a message that is sent again from another one here, but this promise.
            MqttSender::Three(client) => {
                let qos = rumqttc::QoS::ExactlyOnce;
                client.try_publish(topic, qos, *retained, text.as_str()).is_ok()
            }
        }
    }

    /// Subscribes to topics with QoS 1. The receiving side removes duplicates, because QoS 2 leaves
    /// a session unusable if it breaks at the wrong moment.
    pub(super) fn subscribe(&self, topics: &[String]) {
        for topic in topics {
            // There is room for more topics than a file has.
            let _ = match self {
                MqttSender::Five(client) => {
                    client.try_subscribe(topic, v5::mqttbytes::QoS::AtLeastOnce).is_ok()
                }
                MqttSender::Three(client) => {
                    client.try_subscribe(topic, rumqttc::QoS::AtLeastOnce).is_ok()
                }
            };
        }
    }
}

/// TLS by the roots of the system.
fn secure() -> Result<Transport, LinkError> {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let config = ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .map_err(|error| LinkError::BadAddress {
            address: "mqtts://".to_owned(),
            why: error.to_string(),
        })?
        .with_root_certificates(roots)
        .with_no_client_auth();
    Ok(Transport::tls_with_config(TlsConfiguration::Rustls(Arc::new(config))))
}

fn broken_five(error: v5::ConnectionError) -> MqttError {
    use five::ConnectReturnCode as Code;
    use v5::{ConnectionError, StateError};
    match error {
        ConnectionError::ConnectionRefused(
            Code::RefusedProtocolVersion | Code::UnsupportedProtocolVersion,
        )
        // How the answer of a broker looks that knows the older version only.
        | ConnectionError::MqttState(StateError::Deserialization(_))
        | ConnectionError::NotConnAck(_) => MqttError::MqttVersion,
        ConnectionError::MqttState(StateError::ConnectionAborted) => MqttError::Closed,
        ConnectionError::ConnectionRefused(code) => MqttError::Refused(words_of(&code)),
        ConnectionError::Io(error) => MqttError::Off(error.to_string()),
        other => MqttError::Off(other.to_string()),
    }
}

fn broken_three(error: rumqttc::ConnectionError) -> MqttError {
    use rumqttc::{ConnectionError, StateError};
    match error {
        ConnectionError::ConnectionRefused(code) => MqttError::Refused(words_of(&code)),
        ConnectionError::MqttState(StateError::ConnectionAborted) => MqttError::Closed,
        ConnectionError::Io(error) => MqttError::Off(error.to_string()),
        other => MqttError::Off(other.to_string()),
    }
}

/// `NotAuthorized` as words.
fn words_of(code: &impl std::fmt::Debug) -> String {
    let mut words = String::new();
    for letter in format!("{code:?}").chars() {
        if letter.is_ascii_uppercase() && !words.is_empty() {
            words.push(' ');
        }
        words.push(letter.to_ascii_lowercase());
    }
    words
}
