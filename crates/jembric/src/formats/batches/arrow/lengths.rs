//! Checks the lengths in an Arrow file or stream against its size, before memory is allocated for
//! them.

use super::super::{Room, Unread};
use crate::arrow::schema::ArrowError;
use arrow_ipc::{Block, reader::read_footer_length, root_as_footer, root_as_message};
use std::io::{Read, Seek, SeekFrom};

/// The bytes after the footer of a file: its length and the name of the format.
const TAIL: usize = 10;
/// The mark before the length of a message, in all but the oldest files.
const CONTINUATION: u32 = u32::MAX;

/// Errors: a block ends after the end of the file; compressed buffers need more bytes than the
/// limit. Other damage is reported by the reader.
pub(super) fn check(
    is_file: bool,
    input: &mut (impl Read + Seek),
    len: u64,
    room: &Room,
) -> Result<(), Unread> {
    let unpacked = if is_file { of_file(input, len)? } else { of_stream(input, len)? };
    room.has(unpacked)
}

/// The unpacked bytes of all compressed buffers of a file.
fn of_file(input: &mut (impl Read + Seek), len: u64) -> Result<u64, Unread> {
    let beyond = |what: &str| -> Unread {
        ArrowError::IpcError(format!("{what} ends behind the last of the file's {len} bytes"))
            .into()
    };
    let Some(end) = len.checked_sub(TAIL as u64) else { return Ok(0) };
    let tail = read_at(input, end, TAIL)?;
    let footer_len = read_footer_length(tail.try_into().unwrap_or_default())?;
    let from = end.checked_sub(footer_len as u64).ok_or_else(|| beyond("the footer"))?;
    let footer = read_at(input, from, footer_len)?;
    let Ok(footer) = root_as_footer(&footer) else { return Ok(0) };
    let lists = [footer.dictionaries(), footer.recordBatches()];
    let mut unpacked = 0_u64;
    for block in lists.into_iter().flatten().flatten() {
        let [from, about, whole] =
            places_of(block).filter(|&[_, _, end]| end <= len).ok_or_else(|| beyond("a block"))?;
        let message = read_at(input, from, (about - from) as usize)?;
        let prefix = if message.starts_with(&CONTINUATION.to_le_bytes()) { 8 } else { 4 };
        let message = message.get(prefix..).unwrap_or_default();
        unpacked = unpacked.saturating_add(of_message(input, message, about, whole)?);
    }
    Ok(unpacked)
}

/// Where a block, its body, and its end are.
fn places_of(block: &Block) -> Option<[u64; 3]> {
    let from = u64::try_from(block.offset()).ok()?;
    let body = from.checked_add(u64::try_from(block.metaDataLength()).ok()?)?;
    Some([from, body, body.checked_add(u64::try_from(block.bodyLength()).ok()?)?])
}

/// The unpacked bytes of all compressed buffers of a stream.
fn of_stream(input: &mut (impl Read + Seek), len: u64) -> Result<u64, Unread> {
    let (mut at, mut unpacked) = (0, 0_u64);
    while at + 8 <= len {
        let prefix = read_at(input, at, 8)?;
        let [first, second] = [&prefix[..4], &prefix[4..]].map(|number| {
            number.iter().rev().fold(0_u32, |number, &byte| number << 8 | u32::from(byte))
        });
        let (from, about) = if first == CONTINUATION { (at + 8, second) } else { (at + 4, first) };
        let body = from + u64::from(about);
        if about == 0 || body > len {
            break;
        }
        let message = read_at(input, from, about as usize)?;
        let Ok(parsed) = root_as_message(&message) else { break };
        let Some(end) =
            u64::try_from(parsed.bodyLength()).ok().and_then(|bytes| body.checked_add(bytes))
        else {
            break;
        };
        unpacked = unpacked.saturating_add(of_message(input, &message, body, end.min(len))?);
        at = end;
    }
    Ok(unpacked)
}

/// The unpacked bytes of the compressed buffers of a message, whose body lies between these places.
fn of_message(
    input: &mut (impl Read + Seek),
    message: &[u8],
    body: u64,
    end: u64,
) -> Result<u64, Unread> {
    let Ok(message) = root_as_message(message) else { return Ok(0) };
    let of_dictionary = || message.header_as_dictionary_batch()?.data();
    let batch = message.header_as_record_batch().or_else(of_dictionary);
    let Some(batch) = batch.filter(|batch| batch.compression().is_some()) else { return Ok(0) };
    let mut unpacked = 0_u64;
    for buffer in batch.buffers().into_iter().flatten() {
        let at = body.saturating_add(u64::try_from(buffer.offset()).unwrap_or(u64::MAX));
        if buffer.length() < 8 || at.saturating_add(8) > end {
            continue;
        }
        let stated = read_at(input, at, 8)?.try_into().map_or(0, i64::from_le_bytes);
        // −1 marks a buffer that is not compressed.
        unpacked = unpacked.saturating_add(u64::try_from(stated).unwrap_or(0));
    }
    Ok(unpacked)
}

fn read_at(input: &mut (impl Read + Seek), at: u64, bytes: usize) -> Result<Vec<u8>, ArrowError> {
    let mut read = vec![0; bytes];
    input.seek(SeekFrom::Start(at))?;
    input.read_exact(&mut read)?;
    Ok(read)
}
