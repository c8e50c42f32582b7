//! What rules ask of the machine besides its desk, as far as it needs no session.

mod launching;
