//! Which user a TCP connection of this machine belongs to.

use std::fs::File;
use std::io::{BufRead, BufReader};
use std::net::{IpAddr, SocketAddr};

/// The number of the user whose process has the other end of a connection, by the kernel's table of
/// sockets (proc_net(5), `/proc/net/tcp`). Nothing for a connection from another machine.
///
/// `peer` is that end, `own` the end of this process.
pub(crate) fn owner_of(peer: SocketAddr, own: SocketAddr) -> Option<u32> {
    ["/proc/net/tcp", "/proc/net/tcp6"].into_iter().find_map(|table| {
        let table = BufReader::new(File::open(table).ok()?);
        owner_in(table, peer, own)
    })
}

fn owner_in(table: impl BufRead, peer: SocketAddr, own: SocketAddr) -> Option<u32> {
    table.lines().map_while(Result::ok).find_map(|line| {
        let mut fields = line.split_ascii_whitespace().skip(1);
        let ends = (address(fields.next()?)?, address(fields.next()?)?);
        let owner = fields.nth(4)?.parse().ok()?;
        (ends == (canonical(peer), canonical(own))).then_some(owner)
    })
}

/// An address as the table writes it: words of 32 bits in the machine's order, then the port.
fn address(written: &str) -> Option<(IpAddr, u16)> {
    let (ip, port) = written.split_once(':')?;
    let mut bytes = Vec::new();
    for at in (0..ip.len()).step_by(8) {
        let word = u32::from_str_radix(ip.get(at..at + 8)?, 16).ok()?;
        bytes.extend_from_slice(&word.to_ne_bytes());
    }
    let ip = match <[u8; 4]>::try_from(bytes.as_slice()) {
        Ok(four) => IpAddr::from(four),
        Err(_) => IpAddr::from(<[u8; 16]>::try_from(bytes.as_slice()).ok()?),
    };
    Some((ip.to_canonical(), u16::from_str_radix(port, 16).ok()?))
}

fn canonical(address: SocketAddr) -> (IpAddr, u16) {
    (address.ip().to_canonical(), address.port())
}

#[cfg(test)]
mod tests {
    use std::net::{TcpListener, TcpStream};

    use super::*;

    #[test]
    fn a_connection_of_ours_is_ours_whatever_its_address_is() {
        for place in ["127.0.0.1:0", "[::1]:0", "[::]:0"] {
            // Machines without IPv6 have no such place.
            let Ok(listener) = TcpListener::bind(place) else { continue };
            let port = listener.local_addr().expect("it has one").port();
            let host = if place.starts_with("[::1]") { "::1" } else { "127.0.0.1" };
            let _stream = TcpStream::connect((host, port)).expect("it listens");
            let (stream, peer) = listener.accept().expect("one came");
            let own = stream.local_addr().expect("it has one");
            let user = rustix::process::geteuid().as_raw();
            assert_eq!(owner_of(peer, own), Some(user), "{place}");
            assert_eq!(owner_of(own, own), None);
        }
    }

    #[test]
    fn lines_of_the_table_that_are_none_are_left_out() {
        let table = "  sl  local_address rem_address   st\n\
                     0: 0100007F:1F90 0100007F:A0B2 01 00000000:00000000 00:00000000 00000000  1000\n\
                     1: xyz\n2: 01:02 03\n";
        let [own, peer] =
            ["127.0.0.1:41138", "127.0.0.1:8080"].map(|a| a.parse().expect("it is one"));
        assert_eq!(owner_in(table.as_bytes(), peer, own), Some(1000));
        assert_eq!(owner_in(table.as_bytes(), own, peer), None);
    }
}
