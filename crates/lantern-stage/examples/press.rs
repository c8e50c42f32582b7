//! Taps combinations on the keyboard of the display in DISPLAY, one after another, as a person at it
//! would: `press f9 ctrl+pad-4`.

use lantern_stage::Person;

fn main() {
    let display = std::env::var("DISPLAY").expect("DISPLAY names a display");
    let mut person = Person::at(&display);
    for combo in std::env::args().skip(1) {
        person.tap(&combo);
    }
}
