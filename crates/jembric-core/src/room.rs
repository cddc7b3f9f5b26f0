//! [`Room`]: memory of a new column that is written without being cleared first.
//!
//! Clearing takes about as long as writing, and one thread does it. In columns that repeat values
//! it was two fifths of the time.
#![allow(unsafe_code)] // For one line, which sets the length of a column that is written.

use std::mem::MaybeUninit;

/// Room for some values of a new column, which is filled from its beginning to its end.
pub(crate) struct Room<'m, T> {
    slots: &'m mut [MaybeUninit<T>],
    filled: usize,
}

impl<T: Copy> Room<'_, T> {
    /// The number of values that it has room for.
    pub(crate) fn len(&self) -> usize {
        self.slots.len()
    }

    /// Fills the next part of the room. The function must fill all of that part.
    #[inline]
    pub(crate) fn part(&mut self, length: usize, write: impl FnOnce(&mut Room<'_, T>)) {
        let mut room = Room { slots: &mut self.slots[self.filled..][..length], filled: 0 };
        write(&mut room);
        assert_eq!(room.filled, length, "the part is filled");
        self.filled += length;
    }

    /// Adds a value several times.
    #[inline]
    pub(crate) fn repeat(&mut self, value: T, times: usize) {
        self.slots[self.filled..][..times].fill(MaybeUninit::new(value));
        self.filled += times;
    }

    /// Adds values until they end or the room is full.
    #[inline]
    pub(crate) fn extend(&mut self, values: impl Iterator<Item = T>) {
        let mut filled = self.filled;
        for (slot, value) in self.slots[filled..].iter_mut().zip(values) {
            slot.write(value);
            filled += 1;
        }
        self.filled = filled;
    }
}

/// A new column, made by a function that fills all rooms. Each room has a length, and they follow
/// each other in the column.
///
/// Panics if a room is not filled.
pub(crate) fn filled<T: Copy>(
    lengths: impl Iterator<Item = usize> + Clone,
    write: impl FnOnce(&mut [Room<'_, T>]),
) -> Vec<T> {
    let all = lengths.clone().sum();
    let mut values = Vec::with_capacity(all);
    let mut rest = &mut values.spare_capacity_mut()[..all];
    let mut rooms = Vec::new();
    for length in lengths {
        let (slots, others) = rest.split_at_mut(length);
        rooms.push(Room { slots, filled: 0 });
        rest = others;
    }
    assert!(rest.is_empty(), "the rooms are the whole column");
    write(&mut rooms);
    assert!(rooms.iter().all(|room| room.filled == room.len()), "every room is filled");
    // SAFETY: the capacity is at least `all`. The rooms are the first `all` slots. No room can have
    // been exchanged for one of another column, because their lifetimes differ. Only the functions
    // above move `filled`, and they write each slot that they count, so all slots hold values now.
    unsafe { values.set_len(all) };
    values
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::iter;

    #[test]
    fn rooms_follow_each_other_in_the_column() {
        let made = filled([2, 0, 3, 1].into_iter(), |rooms| {
            rooms[3].repeat(9, 1);
            rooms[0].repeat(1, 2);
            rooms[2].part(1, |part| part.repeat(5, 1));
            rooms[2].extend(6..);
        });
        assert_eq!(made, [1, 1, 5, 6, 7, 9]);
        assert!(filled(iter::empty(), |_: &mut [Room<'_, u8>]| {}).is_empty());
    }

    #[test]
    #[should_panic = "every room is filled"]
    fn a_room_that_is_not_filled_is_an_error() {
        filled([2].into_iter(), |rooms| rooms[0].extend(iter::once(1)));
    }

    #[test]
    #[should_panic = "the part is filled"]
    fn a_part_that_is_not_filled_is_an_error() {
        filled([2].into_iter(), |rooms| rooms[0].part(2, |part| part.repeat(1, 1)));
    }

    #[test]
    #[should_panic = "out of range"]
    fn a_room_takes_no_more_than_it_has_place_for() {
        filled([2, 2].into_iter(), |rooms| {
            rooms[1].repeat(1, 2);
            rooms[0].repeat(1, 3);
        });
    }
}
