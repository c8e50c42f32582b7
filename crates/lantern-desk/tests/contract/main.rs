//! One list of tests for every desk: what the contract says, tried on the simulated desk and on a
//! real X server with the same names. Then what is each desk's own.

mod clauses;
mod marks;
mod real;
mod simulated;

/// Makes a test of every clause of the contract, for a bench.
macro_rules! hold_to_the_contract {
    ($bench:expr) => {
        $crate::hold_to_the_contract!($bench;
            an_armed_key_is_withheld_and_reported
            an_unarmed_key_reaches_the_program
            only_the_exact_modifiers_are_withheld
            a_release_is_reported_when_it_is_followed
            fingers_are_reported_when_asked_for
            fingers_that_are_down_already_are_reported
            a_tap_reaches_the_program_and_is_not_the_persons
            text_arrives_as_written
            the_persons_modifiers_are_out_of_the_way_and_put_back
            what_the_run_holds_stays_down
            what_others_hold_is_parked
            a_tapped_key_that_is_armed_reaches_the_program
            a_key_given_back_is_down_until_the_finger_leaves
            the_pointer_moves_by_and_to_pixels
            sides_are_told_apart_when_asked
            every_step_has_its_outcome
            while_one_key_waits_every_key_is_withheld_and_given_back_in_order
            a_key_may_become_another_as_long_as_it_is_down
            an_armed_button_is_withheld_and_reported
        );
    };
    ($bench:expr; $($clause:ident)*) => {
        $(#[test]
        fn $clause() {
            crate::clauses::$clause(&mut $bench);
        })*
    };
}
pub(crate) use hold_to_the_contract;
