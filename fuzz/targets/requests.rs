//! What comes over the control socket: in any pieces, it becomes requests or answers that say what is wrong, in
//! bounded memory; and values given to a macro are data.
#![no_main]
#![allow(dead_code)]

#[path = "../../crates/lantern/src/ipc/protocol.rs"]
mod protocol;
#[path = "../../crates/lantern/src/ipc/receive_buffer.rs"]
mod receive_buffer;

use lantern_script::parse_value;
use protocol::{read_request, reply};
use receive_buffer::{LONGEST_LINE, ReceiveBuffer};
use serde_json::Value;

libfuzzer_sys::fuzz_target!(|input: (Vec<u8>, u8)| {
    let (bytes, piece) = input;
    let mut received = ReceiveBuffer::default();
    for piece in bytes.chunks(usize::from(piece).max(1)) {
        received.add(piece);
        while received.has_line() {
            take(&received.take_line());
        }
        assert!(!received.is_too_long() || bytes.len() > LONGEST_LINE);
    }
});

fn take(line: &[u8]) {
    assert!(!line.contains(&b'\n') && !line.trim_ascii().is_empty());
    let answer = match read_request(line) {
        Err(error) => reply(&Value::Null, Err(error)),
        Ok(request) => {
            if let Ok(values) = request.params::<Vec<String>>() {
                for value in &values {
                    // A value is read back as it is written.
                    if let Some(known) = parse_value(value) {
                        let _ = known.to_string();
                    }
                }
            }
            reply(&request.id.unwrap_or(Value::Null), Ok(Value::Null))
        }
    };
    let answer: Value = serde_json::from_str(&answer).expect("an answer is JSON");
    assert_eq!(answer["jsonrpc"], "2.0");
}
