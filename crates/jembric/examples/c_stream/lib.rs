//! A library for other languages: the latest record of each entity, of a table that comes and goes
//! through Arrow's C stream interface.
//!
//! `cargo build -p jembric --example c_stream` makes it. `.ci/formats.py` calls it from Python.

// Pointers come from the other language, and only it can promise that they are right.
#![allow(unsafe_code)]

use jembric::{Latest, arrow::ffi_stream::FFI_ArrowArrayStream, io};
use std::ffi::{CStr, c_char};

/// Takes the stream at `records`, and puts one with the latest record of each value of `per` at
/// `answer`. Returns the rows of the answer, or −1 where the table or the columns cannot give one.
///
/// # Safety
///
/// `records` points to a stream that nobody else uses, `answer` to room for one, `per` and `date`
/// to names that end in a zero byte.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn harbour_latest(
    records: *mut FFI_ArrowArrayStream,
    per: *const c_char,
    date: *const c_char,
    answer: *mut FFI_ArrowArrayStream,
) -> i64 {
    // SAFETY: the caller promises these pointers.
    let (records, per, date) = unsafe {
        (FFI_ArrowArrayStream::from_raw(records), CStr::from_ptr(per), CStr::from_ptr(date))
    };
    let latest = || -> jembric::Result<jembric::Table> {
        let table = io::from_c_stream(records)?;
        Ok(Latest::new(date.to_string_lossy()).per([per.to_string_lossy()]).apply(&table)?.table)
    };
    match latest() {
        Ok(table) => {
            // SAFETY: there is room for a stream, and none there yet that would have to be
            // released.
            unsafe { answer.write(io::to_c_stream(&table)) };
            table.rows() as i64
        }
        Err(error) => {
            eprintln!("{error}");
            -1
        }
    }
}
