//! Lines out of bytes as they come: any line end, in any pieces, whatever the bytes are.

/// The longest line that is kept, in bytes; what is longer is cut there.
const LONGEST: usize = 4096;

/// What bytes gave.
#[derive(Debug, Default)]
pub(crate) struct CompletedLines {
    /// The lines that they end.
    pub(crate) lines: Vec<String>,
    /// Whether one had to be cut, told when it first is.
    pub(crate) cut: bool,
}

/// What has come of a device's present line.
#[derive(Debug, Default)]
pub(crate) struct LineBuffer {
    half: Vec<u8>,
    /// The last byte was a carriage return: a line feed right behind it ends no second line.
    after_return: bool,
    /// Its end is left out.
    is_cut: bool,
}

impl LineBuffer {
    /// Takes bytes in; gives the lines they end. Bytes that are no text become U+FFFD.
    pub(crate) fn take(&mut self, bytes: &[u8]) -> CompletedLines {
        let mut taken = CompletedLines::default();
        for byte in bytes {
            let after_return = std::mem::replace(&mut self.after_return, *byte == b'\r');
            match byte {
                b'\n' if after_return => {}
                b'\n' | b'\r' => {
                    let line = std::mem::take(&mut self.half);
                    self.is_cut = false;
                    taken.lines.push(String::from_utf8_lossy(&line).into_owned());
                }
                other if self.half.len() < LONGEST => self.half.push(*other),
                _ => taken.cut |= !std::mem::replace(&mut self.is_cut, true),
            }
        }
        // A line end of two bytes is one, and an empty line says nothing.
        taken.lines.retain(|line| !line.is_empty());
        taken
    }
}
