//! The guardian is stopped, or the program that it watches.

use rustix::process::Signal;

use super::receiver::{Desk, FIRES};
use crate::running::{Running, send};

#[test]
fn x11_a_guardian_that_is_stopped_does_not_keep_the_program_from_ending() {
    let mut desk = Desk::set_up();
    let running = Running::start(&desk.display, FIRES);
    send(running.guardian(), Signal::STOP);
    desk.expect_keys_at_once();
    running.stop();
    desk.person.expect_no_keys_down();
}
