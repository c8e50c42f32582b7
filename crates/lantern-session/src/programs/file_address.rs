//! Paths as `file:` addresses, and back.

/// The `file:` address (RFC 8089) of an absolute path.
pub(super) fn file_address(path: &str) -> String {
    let mut address = "file://".to_owned();
    for byte in path.bytes() {
        if byte.is_ascii_alphanumeric() || b"/-._~".contains(&byte) {
            address.push(byte.into());
        } else {
            address.push_str(&format!("%{byte:02X}"));
        }
    }
    address
}

/// The path of an address with its percent escapes (RFC 3986, section 2.1) decoded. A `%` that begins
/// no escape is kept.
pub(super) fn unescaped(path: &str) -> String {
    let mut bytes = Vec::with_capacity(path.len());
    let mut rest = path;
    while let Some((before, after)) = rest.split_once('%') {
        bytes.extend_from_slice(before.as_bytes());
        let digits = after.get(..2).filter(|two| two.bytes().all(|byte| byte.is_ascii_hexdigit()));
        let code = digits.and_then(|digits| u8::from_str_radix(digits, 16).ok());
        match code {
            Some(byte) => {
                bytes.push(byte);
                rest = &after[2..];
            }
            None => {
                bytes.push(b'%');
                rest = after;
            }
        }
    }
    bytes.extend_from_slice(rest.as_bytes());
    String::from_utf8_lossy(&bytes).into_owned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_escaped_and_unescaped() {
        assert_eq!(file_address("/core logs/§4"), "file:///core%20logs/%C2%A74");
        assert_eq!(unescaped("/core%20logs/%C2%A74%"), "/core logs/§4%");
        assert_eq!(unescaped("%+f%é"), "%+f%é");
    }
}
