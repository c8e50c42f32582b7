//! The built program, as a person uses it: files in a folder, keys on a real display.

mod alone;
mod at_work;
mod bad_input;
mod broker;
mod calls;
mod chaos;
mod commands;
mod composing;
mod cookbook;
mod copying;
mod desktop;
mod documents;
mod endurance;
mod faults;
mod gestures;
mod hands;
mod hearing;
mod home;
#[path = "../hostile/mod.rs"]
mod hostile;
mod listening;
mod looking;
mod outside;
mod pointing;
mod programs;
mod rehearsals;
mod resident;
mod running;
mod screen;
mod serial;
mod sessions;
mod shapes;
mod signs;
mod structure;
mod text;
mod tools;
mod twelve;
#[path = "../twelve/mod.rs"]
mod twelve_scenes;
mod wayland;
mod web;
mod windows;
mod wlroots;
