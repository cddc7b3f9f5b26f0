//! Finds where records begin, so that threads can read a file in several places.
//!
//! A line break ends a record unless it is inside quotes, and that depends on all quotes before it.
//! So a first pass counts the quotes and line breaks of each block, on all threads. Then the first
//! record of each block is found by reading a little of it. The line breaks also give the greatest
//! possible number of records, and so the length of the columns. The readers of records check that
//! quotes are where RFC 4180 allows them.

use crate::{data::exchange::Portion, error::Result, text::file_bytes::FileBytes};
use memchr::{memchr, memchr_iter, memchr2_iter};
use rayon::prelude::*;

/// The bytes that are read at a time: many enough to be worth a thread, and few enough to stay in
/// its cache.
pub(crate) const BLOCK: u64 = 1 << 20;
/// The bytes that are searched first for the beginning of a record.
const LOOK: u64 = 1 << 14;

/// Whole records that are read together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Region {
    pub(crate) start: u64,
    pub(crate) end: u64,
    /// The line of its first record.
    pub(crate) line: u64,
    /// The greatest possible number of records.
    pub(crate) most_records: usize,
}

/// What a block of bytes adds to what is known at its beginning.
struct Counted {
    quotes: u64,
    breaks: u64,
}

/// The quotes and line breaks of some bytes.
pub(crate) type Counts = (u64, u64);

/// One of several shares of a source.
pub(crate) struct Share<'a> {
    /// The part of the source.
    pub(crate) portion: Portion,
    /// What the shares before have, given what this one has.
    pub(crate) before: &'a dyn Fn(Counts) -> Result<Counts>,
}

/// The regions from the beginning of a record to the end of the source.
pub(crate) fn regions(
    source: &FileBytes,
    (start, line): (u64, u64),
    quoting: bool,
    block: u64,
) -> Result<Vec<Region>> {
    let whole = Share { portion: Portion::WHOLE, before: &|_| Ok((0, 0)) };
    regions_of(&whole, source, (start, line), quoting, block)
}

/// The regions of the records that begin in a share of the bytes from this place and line on.
pub(crate) fn regions_of(
    share: &Share<'_>,
    source: &FileBytes,
    (start, line): (u64, u64),
    quoting: bool,
    block: u64,
) -> Result<Vec<Region>> {
    let len = source.len();
    let all = len.saturating_sub(start).div_ceil(block);
    let Portion { from, to, of } = share.portion;
    // The nearest end of a block.
    let bound = |part: u64| {
        let of = u128::from(of);
        let blocks = (u128::from(all) * u128::from(part) + of / 2) / of;
        len.min(start + blocks as u64 * block)
    };
    let (from, to) = (bound(from), bound(to));
    let blocks: Vec<u64> = (from..to).step_by(block as usize).collect();
    // Count quotes and line breaks in parallel. Which of the line breaks end records depends on the
    // blocks before, and is found below.
    let counted: Vec<Counted> = blocks
        .par_iter()
        .map_init(Vec::new, |buffer, &at| {
            let bytes = source.bytes(at, len.min(at + block), buffer)?;
            let quotes = if quoting { memchr_iter(b'"', bytes).count() as u64 } else { 0 };
            Ok(Counted { quotes, breaks: memchr_iter(b'\n', bytes).count() as u64 })
        })
        .collect::<Result<_>>()?;
    let own = counted.iter().map(|counted| (counted.quotes, counted.breaks));
    let own = own.fold((0, 0), |all, more| (all.0 + more.0, all.1 + more.1));
    let before = (share.before)(own)?;

    let mut regions: Vec<Region> = Vec::with_capacity(blocks.len());
    // `inside` tells whether the block begins inside quotes: an odd number of quotes stands before
    // it.
    let (mut inside, mut line) = (before.0 % 2 == 1, line + before.1);
    for (&at, &Counted { quotes, breaks }) in blocks.iter().zip(&counted) {
        match regions.last_mut() {
            None if at == start => regions.push(Region {
                start: at,
                end: len,
                line,
                most_records: breaks as usize + 1,
            }),
            // A record that began before this block ends in or after it, and what follows belongs
            // to the same region.
            Some(before) if before.start > at => before.most_records += breaks as usize,
            before => {
                // The block begins in the middle of a record, in general. Its region begins with
                // the next one.
                let (begins, passed) = next_record(source, at, inside, quoting)?;
                if let Some(before) = before {
                    before.end = begins;
                }
                regions.push(Region {
                    start: begins,
                    end: len,
                    line: line + passed,
                    most_records: breaks as usize,
                });
            }
        }
        // A doubled quote is two quotes, and does not change the parity.
        inside ^= quotes % 2 == 1;
        line += breaks;
    }
    if let Some(last) = regions.last_mut() {
        // The last record of a share may end in the next one.
        last.end = if to < len { next_record(source, to, inside, quoting)?.0 } else { len };
    }
    // A block without the beginning of a record has an empty region.
    regions.retain(|region| region.start < region.end);
    Ok(regions)
}

/// The first record after this place, and the number of lines before it.
fn next_record(source: &FileBytes, at: u64, mut inside: bool, quoting: bool) -> Result<(u64, u64)> {
    let (mut from, mut breaks, mut step, mut buffer) = (at, 0, LOOK, Vec::new());
    while from < source.len() {
        let to = source.len().min(from + step);
        let bytes = source.bytes(from, to, &mut buffer)?;
        let found = if quoting {
            memchr2_iter(b'"', b'\n', bytes).find(|&i| {
                let quote = bytes[i] == b'"';
                inside ^= quote;
                breaks += u64::from(!quote);
                !quote && !inside
            })
        } else {
            memchr(b'\n', bytes).inspect(|_| breaks += 1)
        };
        if let Some(i) = found {
            return Ok((from + i as u64 + 1, breaks));
        }
        // Records are short in most files. A long one is searched in growing steps.
        (from, step) = (to, step * 2);
    }
    Ok((source.len(), breaks))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The beginnings of records, found by going through the text, with their lines.
    fn beginnings(text: &[u8], quoting: bool) -> Vec<(u64, u64)> {
        let (mut inside, mut line, mut begins) = (false, 1, vec![(0, 1)]);
        for (at, &byte) in text.iter().enumerate() {
            inside ^= quoting && byte == b'"';
            line += u64::from(byte == b'\n');
            if byte == b'\n' && !inside {
                begins.push((at as u64 + 1, line));
            }
        }
        begins.retain(|&(at, _)| at < text.len() as u64);
        begins
    }

    proptest! {
        #[test]
        fn regions_cut_a_text_between_records_and_have_room_for_theirs(text in "[a,\"\n]{0,200}",
            block in 1_u64..40, quoting: bool) {
            let source = FileBytes::stream("t".to_owned(), text.as_bytes(), None).unwrap();
            let regions = regions(&source, (0, 1), quoting, block).unwrap();
            let begins = beginnings(text.as_bytes(), quoting);
            let mut end = 0;
            for region in &regions {
                prop_assert_eq!(region.start, end, "regions follow one another");
                prop_assert!(begins.contains(&(region.start, region.line)), "{:?} {:?}", region,
                    begins);
                let records = begins.iter().filter(|(at,
                    _)| (region.start..region.end).contains(at)).count();
                prop_assert!(records <= region.most_records, "{} records in {:?}", records, region);
                end = region.end;
            }
            prop_assert_eq!(end, text.len() as u64, "nothing is left out");
            let room: usize = regions.iter().map(|region| region.most_records).sum();
            prop_assert!(room <= text.matches('\n').count() + 1, "no more room than lines");
        }

        /// However many shares there are, each record is in one of them.
        #[test]
        fn shares_have_the_regions_of_the_whole(text in "[a,\"\n]{0,200}", block in 1_u64..40,
            quoting: bool, of in 1_u64..9) {
            let source = FileBytes::stream("t".to_owned(), text.as_bytes(), None).unwrap();
            let counts = std::cell::RefCell::new((0, 0));
            let before = |own: Counts| {
                let before = *counts.borrow();
                *counts.borrow_mut() = (before.0 + own.0, before.1 + own.1);
                Ok(before)
            };
            let shares = (0..of).map(|number| {
                let portion = Portion { from: number, to: number + 1, of };
                let share = Share { portion, before: &before };
                regions_of(&share, &source, (0, 1), quoting, block).unwrap()
            });
            let shares: Vec<Region> = shares.flatten().collect();
            let begins = beginnings(text.as_bytes(), quoting);
            for region in &shares {
                let own = region.start..region.end;
                let records = begins.iter().filter(|(at, _)| own.contains(at)).count();
                prop_assert!(records <= region.most_records, "{} records in {:?}", records, region);
            }
            let shown = |region: &Region| (region.start, region.end, region.line);
            let shares: Vec<_> = shares.iter().map(shown).collect();
            let whole = regions(&source, (0, 1), quoting, block).unwrap();
            prop_assert_eq!(shares, whole.iter().map(shown).collect::<Vec<_>>());
        }
    }
}
