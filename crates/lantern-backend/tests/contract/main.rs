//! One list of tests for every back end: what the contract says, tried on the simulated back end and on a
//! real X server with the same names. Then what is each back end's own.

mod clauses;
mod marks;
mod methods;
mod real;
mod simulated;

/// Makes a test of every clause of the contract, for a bench.
macro_rules! hold_to_the_contract {
    ($bench:expr) => {
        $crate::clauses::with_clauses! { crate::hold_to_the_contract; $bench }
    };
    ($bench:expr; $($clause:ident)*) => {
        $(#[test]
        fn $clause() {
            crate::clauses::$clause(&mut $bench);
        })*
    };
}
pub(crate) use hold_to_the_contract;
