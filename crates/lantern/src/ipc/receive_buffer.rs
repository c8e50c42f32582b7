//! What a client of the control socket sent, in lines.

/// Maximum length of a request in bytes; a client that sends a longer line is disconnected.
pub const LONGEST_LINE: usize = 64 * 1024;

/// Bytes of a client.
#[derive(Debug, Default)]
pub struct ReceiveBuffer {
    bytes: Vec<u8>,
    /// Up to where lines were taken.
    taken: usize,
    /// Up to where lines are whole.
    whole: usize,
}

impl ReceiveBuffer {
    /// Adds bytes. Empty lines at the front are dropped, since they ask for nothing.
    pub fn add(&mut self, bytes: &[u8]) {
        self.bytes.drain(..self.taken);
        self.whole -= self.taken;
        self.taken = 0;
        let before = self.bytes.len();
        self.bytes.extend_from_slice(bytes);
        if let Some(end) = bytes.iter().rposition(|byte| *byte == b'\n') {
            self.whole = before + end + 1;
        }
        self.skip_empty_lines();
    }

    /// Whether a line is whole.
    pub fn has_line(&self) -> bool {
        self.taken < self.whole
    }

    /// Whether a line is longer than [`LONGEST_LINE`].
    pub fn is_too_long(&self) -> bool {
        self.bytes.len() - self.whole > LONGEST_LINE
    }

    /// The next whole line, without its end.
    pub fn take_line(&mut self) -> Vec<u8> {
        let rest = &self.bytes[self.taken..self.whole];
        let end = rest.iter().position(|byte| *byte == b'\n').unwrap_or(rest.len());
        let line = rest[..end].to_vec();
        self.taken = (self.taken + end + 1).min(self.whole);
        self.skip_empty_lines();
        line
    }

    fn skip_empty_lines(&mut self) {
        let rest = &self.bytes[self.taken..self.whole];
        let first = rest.iter().position(|byte| !byte.is_ascii_whitespace());
        self.taken += first.unwrap_or(rest.len());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn lines(received: &mut ReceiveBuffer) -> Vec<String> {
        let mut lines = Vec::new();
        while received.has_line() {
            lines.push(String::from_utf8(received.take_line()).expect("it is text"));
        }
        lines
    }

    #[test]
    fn lines_come_out_of_any_pieces_and_empty_ones_do_not() {
        let text = "\n\nstatus\r\n \n\nwhy\nhalf";
        for length in 1..=text.len() {
            let mut received = ReceiveBuffer::default();
            let mut taken = Vec::new();
            for piece in text.as_bytes().chunks(length) {
                received.add(piece);
                taken.append(&mut lines(&mut received));
            }
            assert_eq!(taken, ["status\r", "why"], "in pieces of {length}");
            received.add(b" done\n");
            assert_eq!(lines(&mut received), ["half done"]);
        }
    }

    #[test]
    fn many_empty_lines_take_no_room_and_a_line_without_an_end_is_too_long() {
        let mut received = ReceiveBuffer::default();
        for _ in 0..100 {
            received.add(&[b'\n'; 4096]);
            assert!(!received.has_line() && received.bytes.len() <= 2 * 4096);
        }
        for _ in 0..=LONGEST_LINE / 4096 {
            received.add(&[b'x'; 4096]);
        }
        assert!(received.is_too_long() && !received.has_line());
    }
}
