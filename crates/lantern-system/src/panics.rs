//! Panics in jobs. A panic is a fault of this program; it must fail the job in which it happened, and
//! nothing else.

use std::any::Any;
use std::future::Future;
use std::panic::{AssertUnwindSafe, catch_unwind};

use futures::FutureExt;

/// What a job gave, or the message of its panic. Whatever the job changed may be half done: the
/// caller drops it.
pub fn catch<T>(job: impl FnOnce() -> T) -> Result<T, String> {
    catch_unwind(AssertUnwindSafe(job)).map_err(|panic| message(&*panic))
}

/// The same for a job that waits.
pub async fn catch_in<T>(job: impl Future<Output = T>) -> Result<T, String> {
    AssertUnwindSafe(job).catch_unwind().await.map_err(|panic| message(&*panic))
}

/// The message of a panic.
fn message(panic: &(dyn Any + Send)) -> String {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_becomes_its_message() {
        assert_eq!(catch(|| 5), Ok(5));
        assert_eq!(catch(|| panic!("no entry")), Err::<(), _>("no entry".to_owned()));
        assert_eq!(catch(|| panic!("no {}", 7)), Err::<(), _>("no 7".to_owned()));
        let waits = async { panic!("no entry") };
        let caught = futures::executor::block_on(catch_in(waits));
        assert_eq!(caught, Err::<(), _>("no entry".to_owned()));
    }
}
