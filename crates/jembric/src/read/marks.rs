//! Finds separators, line breaks and quotes in a text, 64 bytes at a time, which is faster than a
//! search for each.

/// The places of three bytes in a text, in order.
pub(crate) struct Marks<'a> {
    bytes: &'a [u8],
    wanted: [u8; 3],
    /// The beginning of the current block, and its bytes that have not been returned yet.
    block: usize,
    left: u64,
}

const BLOCK: usize = 64;

impl<'a> Marks<'a> {
    pub(crate) fn new(bytes: &'a [u8], wanted: [u8; 3]) -> Marks<'a> {
        let mut marks = Marks { bytes, wanted, block: 0, left: 0 };
        marks.go_to(0);
        marks
    }

    /// Continues from this place, and skips everything before it.
    pub(crate) fn go_to(&mut self, place: usize) {
        self.block = place;
        let rest = &self.bytes[place.min(self.bytes.len())..];
        self.left = match rest.first_chunk::<BLOCK>() {
            Some(block) => found(block, self.wanted),
            None => {
                let mut block = [0; BLOCK];
                block[..rest.len()].copy_from_slice(rest);
                found(&block, self.wanted) & ((1 << rest.len()) - 1)
            }
        };
    }
}

impl Iterator for Marks<'_> {
    type Item = usize;

    #[inline]
    fn next(&mut self) -> Option<usize> {
        // Go on to the next block with a mark. Most blocks have one, so the loop is short.
        while self.left == 0 {
            if self.block + BLOCK >= self.bytes.len() {
                return None;
            }
            self.go_to(self.block + BLOCK);
        }
        let place = self.block + self.left.trailing_zeros() as usize;
        // Clear the lowest bit, which was returned.
        self.left &= self.left - 1;
        Some(place)
    }
}

/// One bit for each byte of the block: whether it is one of the three.
#[inline]
fn found(block: &[u8; BLOCK], [a, b, c]: [u8; 3]) -> u64 {
    // The compiler compares many bytes at once. The multiplication then collects the lowest bits of
    // eight bytes in one byte.
    let flags = block.map(|byte| u8::from((byte == a) | (byte == b) | (byte == c)));
    let (eights, _) = flags.as_chunks::<8>();
    let bits =
        |eight: &[u8; 8]| u64::from_le_bytes(*eight).wrapping_mul(0x0102_0408_1020_4080) >> 56;
    eights.iter().rev().fold(0, |all, eight| all << 8 | bits(eight))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn marks_stand_where_a_plain_search_finds_them(text in "[ab,;\"\n\u{0}]{0,300}",
            from in 0_usize..300) {
            let bytes = text.as_bytes();
            let plain = |from: usize| (from..bytes.len()).filter(|&i| matches!(bytes[i],
                b',' | b'\n' | b'"')).collect::<Vec<_>>();
            let mut marks = Marks::new(bytes, [b',', b'\n', b'"']);
            prop_assert_eq!(marks.by_ref().collect::<Vec<_>>(), plain(0));
            let from = from.min(bytes.len());
            marks.go_to(from);
            prop_assert_eq!(marks.collect::<Vec<_>>(), plain(from));
        }
    }
}
