//! The built program, as a person uses it: files in a folder, keys on a real display.

mod bad_input;
mod chaos;
mod commands;
mod cookbook;
mod desktop;
mod documents;
mod endurance;
mod faults;
mod gestures;
mod hands;
mod hearing;
mod home;
mod listening;
mod looking;
mod programs;
mod rehearsals;
mod resident;
mod running;
mod screen;
mod shapes;
mod signs;
mod text;
mod tools;
mod windows;
