//! A library for other languages: the latest record of each entity, with tables passed through
//! Arrow's C stream interface.
//!
//! Build it with `cargo build -p jembric --example c_stream`. `.ci/formats.py` calls it from
//! Python.

// The pointers come from the other language, and only the caller can guarantee that they are valid.
#![allow(unsafe_code)]

use jembric::{Latest, arrow::ffi_stream::FFI_ArrowArrayStream, io};
use std::ffi::{CStr, c_char};

/// Takes the stream at `records`, and writes a stream with the latest record of each value of `per`
/// to `answer`. Returns the number of rows of the result, or −1 on an error.
///
/// # Safety
///
/// `records` points to a stream that nobody else uses, `answer` to memory for a stream, and `per`
/// and `date` to names that end with a zero byte.
#[unsafe(no_mangle)]
pub unsafe extern "C" fn harbour_latest(
    records: *mut FFI_ArrowArrayStream,
    per: *const c_char,
    date: *const c_char,
    answer: *mut FFI_ArrowArrayStream,
) -> i64 {
    // SAFETY: the caller guarantees these pointers.
    let (records, per, date) = unsafe {
        (FFI_ArrowArrayStream::from_raw(records), CStr::from_ptr(per), CStr::from_ptr(date))
    };
    let latest = || -> jembric::Result<jembric::Table> {
        let table = io::from_c_stream(records)?;
        Ok(Latest::new(date.to_string_lossy()).per([per.to_string_lossy()]).apply(&table)?.table)
    };
    match latest() {
        Ok(table) => {
            // SAFETY: there is memory for a stream, and no stream in it that would need to be
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
