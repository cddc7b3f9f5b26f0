//! The allocator, which reports when memory runs out.
//!
//! Rust aborts when it cannot allocate memory, and an abort leaves temporary files behind. This
//! allocator ends the process with a message and status 1, as every other error does.

#![allow(unsafe_code)] // An allocator is unsafe by its nature; this one hands everything on.

use jembric::io::abandon_files;
use mimalloc::MiMalloc;
use std::{
    alloc::{GlobalAlloc, Layout},
    io::Write,
    sync::atomic::{AtomicBool, Ordering::Relaxed},
};

/// An allocator that ends the process when it has no more memory.
pub(crate) struct OrEnd(pub(crate) MiMalloc);

// SAFETY: each call is passed to the inner allocator with the same arguments, and its result is
// returned unchanged.
unsafe impl GlobalAlloc for OrEnd {
    unsafe fn alloc(&self, layout: Layout) -> *mut u8 {
        // SAFETY: as for this call.
        or_end(unsafe { self.0.alloc(layout) }, layout.size())
    }

    unsafe fn alloc_zeroed(&self, layout: Layout) -> *mut u8 {
        // SAFETY: as for this call.
        or_end(unsafe { self.0.alloc_zeroed(layout) }, layout.size())
    }

    unsafe fn realloc(&self, memory: *mut u8, layout: Layout, size: usize) -> *mut u8 {
        // SAFETY: as for this call.
        or_end(unsafe { self.0.realloc(memory, layout, size) }, size)
    }

    unsafe fn dealloc(&self, memory: *mut u8, layout: Layout) {
        // SAFETY: as for this call.
        unsafe { self.0.dealloc(memory, layout) }
    }
}

#[inline]
fn or_end(memory: *mut u8, size: usize) -> *mut u8 {
    if memory.is_null() {
        end(size);
    }
    memory
}

#[cold]
fn end(size: usize) -> ! {
    // If even the memory for this is missing, do nothing more.
    static IS_ENDING: AtomicBool = AtomicBool::new(false);
    if !IS_ENDING.swap(true, Relaxed) {
        let mut text = [0_u8; 160];
        let mut rest = &mut text[..];
        let _ = writeln!(
            rest,
            "error: there is not enough memory ({size} bytes more were asked for). Ask for a \
                shorter answer, \
             or read fewer columns"
        );
        let left = rest.len();
        let written = text.len() - left;
        let _ = std::io::stderr().write_all(&text[..written]);
        abandon_files(false);
    }
    std::process::exit(1)
}
