//! Rules with devices that are stood in for.

use std::sync::mpsc::{Receiver, channel};
use std::thread;

use lantern_net::{Pedals, serve_fans};

use super::DEVICE_RULES;
use super::at_work::{AtWork, PATIENCE, next};
use crate::failure::Failure;

/// How often the contact of the pedal bounces.
const BOUNCES: usize = 5;

/// What comes of a pedal.
pub(super) fn told() -> Result<Vec<String>, Failure> {
    let failed = |source| Failure::System { what: "cannot stand in for devices", source };
    let folder = tempfile::tempdir().map_err(failed)?;
    let (fans, changes) = stand_in_fans()?;
    let pedals = Pedals::plug_in(Some(&folder.path().join("pedals"))).map_err(failed)?;
    let rules = DEVICE_RULES.replace("127.0.0.1:4710", &fans);
    let bench = AtWork::start(folder.path(), "devices.lantern", &rules)?;
    let mut told = vec![format!("at work        {}", bench.next())];
    let sent = (0..BOUNCES).filter(|_| pedals.send(b"left\r\n").is_ok()).count();
    told.push(format!("left pedal     {sent} lines came in, as its contact bounces"));
    told.push(format!("one rule       {}", bench.next()));
    told.push(format!("the fans       {}", next(&changes)));
    told.push(format!("asked again    {}", bench.next()));
    Ok(told)
}

/// The controller, at an address of its own, and what changes there.
fn stand_in_fans() -> Result<(String, Receiver<String>), Failure> {
    let (ready, address) = channel();
    let (changed, changes) = channel();
    thread::spawn(move || {
        let zones = ["saw", "hall"].map(str::to_owned);
        let ready = move |address| ready.send(address).unwrap_or_default();
        // If the port cannot be used, no address comes.
        let _ = serve_fans(0, &zones, ready, move |change| drop(changed.send(change.to_owned())));
    });
    let source = || std::io::Error::other("no port of this machine is free");
    let address: std::net::SocketAddr = address
        .recv_timeout(PATIENCE)
        .map_err(|_| Failure::System { what: "cannot stand in for the fans", source: source() })?;
    Ok((address.to_string(), changes))
}
