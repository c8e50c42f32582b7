//! Attacks on the built program, each bounded in time and on this machine alone. During each attack
//! the person's keys fire rules at once and the panic combination works, seen at the receiving
//! program.

mod consent;
mod files;
mod floods;
mod guardian;
mod jobs;
mod letters;
mod output;
mod receiver;
mod rehearsals;
mod secrets;
mod socket;
mod terminals;
mod values;
