//! Small devices that are not there: for the demo, the documents and the tests.

mod fans;
mod pedals;

pub use fans::serve_fans;
pub use pedals::Pedals;
