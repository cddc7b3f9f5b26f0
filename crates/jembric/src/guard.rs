//! Converts panics of format libraries on damaged files to errors.
//!
//! A format library may meet bytes that its authors did not consider. Then the command fails
//! without writing anything, and the process continues.

use std::{
    any::Any,
    cell::Cell,
    panic::{AssertUnwindSafe, catch_unwind, set_hook, take_hook},
    sync::Once,
};

thread_local! {
    /// Whether a panic of this thread will be caught, and must not be printed.
    static IS_GUARDED: Cell<bool> = const { Cell::new(false) };
}

/// Runs the work, and returns its result or the message of its panic.
///
/// Each thread that does part of the work must be guarded separately. Otherwise its panic is
/// printed before it arrives here.
pub(crate) fn guarded<T>(work: impl FnOnce() -> T) -> Result<T, String> {
    static QUIET: Once = Once::new();
    QUIET.call_once(|| {
        let before = take_hook();
        set_hook(Box::new(move |about| {
            if !IS_GUARDED.get() {
                before(about);
            }
        }));
    });
    let outer = IS_GUARDED.replace(true);
    let done = catch_unwind(AssertUnwindSafe(work));
    IS_GUARDED.set(outer);
    done.map_err(|panic| format!("it is damaged ({})", said(&*panic)))
}

fn said(panic: &(dyn Any + Send)) -> &str {
    let text = panic.downcast_ref::<&str>().copied();
    let text = text.or_else(|| panic.downcast_ref::<String>().map(String::as_str));
    text.and_then(|text| text.lines().next()).unwrap_or("the format's reader gave up")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_panic_is_an_error_and_an_answer_stays_one() {
        let index = std::hint::black_box(7);
        let failed = guarded(|| [1, 2][index]).unwrap_err();
        assert_eq!(failed, "it is damaged (index out of bounds: the len is 2 but the index is 7)");
        assert_eq!(guarded(|| 5), Ok(5));
    }
}
