//! Packets of a broker, of either version of MQTT, are read or refused.
#![no_main]
#![allow(dead_code)]

#[path = "../../crates/lantern-net/src/connections/mqtt_events.rs"]
mod mqtt_events;

use bytes::BytesMut;
use lantern_model::topic_fits;
use mqtt_events::MqttEvent;

/// Maximum size of a packet in bytes.
const LARGEST: u32 = 256 * 1024;

libfuzzer_sys::fuzz_target!(|bytes: &[u8]| {
    let mut stream = BytesMut::from(bytes);
    while let Ok(packet) = rumqttc::v5::mqttbytes::v5::Packet::read(&mut stream, Some(LARGEST)) {
        take(mqtt_events::came_five(rumqttc::v5::Event::Incoming(packet)));
    }
    let mut stream = BytesMut::from(bytes);
    while let Ok(packet) = rumqttc::Packet::read(&mut stream, LARGEST as usize) {
        take(mqtt_events::came_three(rumqttc::Event::Incoming(packet)));
    }
});

fn take(came: MqttEvent) {
    if let MqttEvent::ReceivedMessage(said) = came {
        for filter in ["#", "+/state", "saw/#", "saw/lights"] {
            let fits = topic_fits(filter, &said.topic);
            assert!(fits || filter != "#" || said.topic.starts_with('$'), "{:?}", said.topic);
        }
    }
}
