//! The built program, as a person uses it: files in a folder, keys on a real display.

mod desktop;
mod running;
