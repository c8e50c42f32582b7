//! Panics in jobs. A panic is a fault of this program; it must fail the job in which it happened, and
//! nothing else.

use std::any::Any;
use std::fmt;
use std::future::Future;
use std::panic::{AssertUnwindSafe, catch_unwind};

use futures::FutureExt;

/// The message of a panic; empty if the panic had no text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PanicMessage(pub String);

impl fmt::Display for PanicMessage {
    fn fmt(&self, out: &mut fmt::Formatter<'_>) -> fmt::Result {
        out.write_str(&self.0)
    }
}

impl std::error::Error for PanicMessage {}

/// Runs a job and catches its panic. The caller drops what the job changed, since it may be half done.
///
/// # Errors
/// When the job panicked.
pub fn catch<T>(job: impl FnOnce() -> T) -> Result<T, PanicMessage> {
    catch_unwind(AssertUnwindSafe(job)).map_err(|panic| message(&*panic))
}

/// Runs an asynchronous job as [`catch`] does.
///
/// # Errors
/// When the job panicked.
pub async fn catch_in<T>(job: impl Future<Output = T>) -> Result<T, PanicMessage> {
    AssertUnwindSafe(job).catch_unwind().await.map_err(|panic| message(&*panic))
}

/// The message of a panic.
fn message(panic: &(dyn Any + Send)) -> PanicMessage {
    let text = panic.downcast_ref::<&str>().map(|text| (*text).to_owned());
    PanicMessage(text.or_else(|| panic.downcast_ref::<String>().cloned()).unwrap_or_default())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_becomes_its_message() {
        assert_eq!(catch(|| 5), Ok(5));
        assert_eq!(catch(|| panic!("no entry")), Err::<(), _>(PanicMessage("no entry".to_owned())));
        assert_eq!(catch(|| panic!("no {}", 7)), Err::<(), _>(PanicMessage("no 7".to_owned())));
        let waits = async { panic!("no entry") };
        let caught = futures::executor::block_on(catch_in(waits));
        assert_eq!(caught, Err::<(), _>(PanicMessage("no entry".to_owned())));
    }
}
