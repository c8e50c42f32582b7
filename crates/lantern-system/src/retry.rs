//! Work over a connection that is kept open.

/// An error that tells whether the connection itself is at fault.
pub trait ConnectionError {
    /// Whether the connection itself is at fault, so that a new one may do.
    fn is_broken(&self) -> bool;
}

/// Does `work` over the connection that is open, or a new one; once more if that one is broken, as the
/// service may have been started anew since.
///
/// # Errors
/// Those of `connect` and `work`.
pub fn try_twice<C, T, E: ConnectionError>(
    connection: &mut Option<C>,
    connect: impl Fn() -> Result<C, E>,
    mut work: impl FnMut(&mut C) -> Result<T, E>,
) -> Result<T, E> {
    let is_fresh = connection.is_none();
    let open = match connection {
        Some(open) => open,
        None => connection.insert(connect()?),
    };
    match work(open) {
        Err(error) if error.is_broken() && !is_fresh => {
            let open = connection.insert(connect()?);
            work(open)
        }
        result => result,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[derive(Debug, PartialEq)]
    struct Broken(bool);

    impl ConnectionError for Broken {
        fn is_broken(&self) -> bool {
            self.0
        }
    }

    #[test]
    fn a_broken_connection_is_opened_anew_once_and_a_fresh_one_is_not() {
        let work = |open: &mut u32| if *open == 1 { Err(Broken(true)) } else { Ok(*open) };
        assert_eq!(try_twice(&mut Some(1), || Ok(2), work), Ok(2));
        assert_eq!(try_twice(&mut None, || Ok(1), work), Err(Broken(true)));
        let refuse = |_: &mut u32| Err::<(), _>(Broken(false));
        let connect = || panic!("it is not at fault");
        assert_eq!(try_twice(&mut Some(1), connect, refuse), Err(Broken(false)));
    }
}
