//! Services that need no desktop session.

mod launching;
