//! What packets of a broker mean, in either version of the protocol.

use rumqttc::v5::mqttbytes::v5 as five;
use rumqttc::{Outgoing, v5};

/// MQTT 5.0 user property with the number of a message of this program.
pub(super) const NUMBER: &str = "lantern-message";

/// A message that came.
#[derive(Debug)]
pub(super) struct ReceivedMessage {
    pub topic: String,
    pub text: String,
    /// It was there before we came.
    pub retained: bool,
    /// It may have come before, under this packet number.
    pub again: bool,
    pub packet: u16,
    /// What its sender tells it apart by.
    pub number: Option<String>,
}

/// What came of waiting.
#[derive(Debug)]
pub(super) enum MqttEvent {
    /// The broker takes us; whether it still knows of us.
    Welcome { resumed: bool },
    /// A message.
    ReceivedMessage(ReceivedMessage),
    /// The next message of those that were handed over goes out as this packet.
    Sent(u16),
    /// The broker has that one for certain.
    Confirmed(u16),
    /// Nothing that matters here.
    Nothing,
}

/// What an event of a connection of MQTT 5.0 means.
pub(super) fn came_five(event: v5::Event) -> MqttEvent {
    use five::Packet;
    match event {
        v5::Event::Outgoing(Outgoing::Publish(packet)) => MqttEvent::Sent(packet),
        v5::Event::Incoming(Packet::ConnAck(welcome)) => {
            MqttEvent::Welcome { resumed: welcome.session_present }
        }
        v5::Event::Incoming(Packet::PubAck(ack)) => MqttEvent::Confirmed(ack.pkid),
        v5::Event::Incoming(Packet::PubComp(ack)) => MqttEvent::Confirmed(ack.pkid),
        v5::Event::Incoming(Packet::Publish(message)) => {
            let told = message.properties.as_ref().and_then(|properties| {
                properties.user_properties.iter().find(|(name, _)| name == NUMBER)
            });
            MqttEvent::ReceivedMessage(ReceivedMessage {
                topic: String::from_utf8_lossy(&message.topic).into_owned(),
                text: String::from_utf8_lossy(&message.payload).into_owned(),
                retained: message.retain,
                again: message.dup,
                packet: message.pkid,
                number: told.map(|(_, number)| number.clone()),
            })
        }
        _ => MqttEvent::Nothing,
    }
}

/// What an event of a connection of MQTT 3.1.1 means.
pub(super) fn came_three(event: rumqttc::Event) -> MqttEvent {
    use rumqttc::Packet;
    match event {
        rumqttc::Event::Outgoing(Outgoing::Publish(packet)) => MqttEvent::Sent(packet),
        rumqttc::Event::Incoming(Packet::ConnAck(welcome)) => {
            MqttEvent::Welcome { resumed: welcome.session_present }
        }
        rumqttc::Event::Incoming(Packet::PubAck(ack)) => MqttEvent::Confirmed(ack.pkid),
        rumqttc::Event::Incoming(Packet::PubComp(ack)) => MqttEvent::Confirmed(ack.pkid),
        rumqttc::Event::Incoming(Packet::Publish(message)) => {
            MqttEvent::ReceivedMessage(ReceivedMessage {
                topic: message.topic,
                text: String::from_utf8_lossy(&message.payload).into_owned(),
                retained: message.retain,
                again: message.dup,
                packet: message.pkid,
                number: None,
            })
        }
        _ => MqttEvent::Nothing,
    }
}
