//! What a packed message of Arrow's interprocess communication asks for: checked before anything is reserved, in files and in streams.

use arrow::error::ArrowError;
use arrow::ipc::{BodyCompression, Buffer as Place, CompressionType, root_as_message};

pub fn wrong(what: &str) -> ArrowError {
    ArrowError::ParseError(what.to_owned())
}

/// Bytes that the buffers of a message's body unpack to, zero for those that are not packed: each begins with its length (Arrow columnar
/// format, "Buffer Compression").
///
/// # Errors
/// When the message cannot be read, or a buffer lies outside of the body or does not unpack to what it says.
pub fn unpacked(message: &[u8], body: &[u8]) -> std::result::Result<u64, ArrowError> {
    let message = root_as_message(message).map_err(|e| wrong(&format!("a block cannot be read: {e}")))?;
    let batch = message.header_as_record_batch().or_else(|| message.header_as_dictionary_batch()?.data());
    let Some(batch) = batch else { return Ok(0) };
    let Some(packing) = batch.compression() else { return Ok(0) };
    batch.buffers().iter().flatten().try_fold(0u64, |all, place| {
        let own = unpacked_length(body, place, &packing)?;
        all.checked_add(own).ok_or_else(|| wrong("a block unpacks to more than there is"))
    })
}

fn unpacked_length(body: &[u8], place: &Place, packing: &BodyCompression<'_>) -> std::result::Result<u64, ArrowError> {
    let outside = || wrong("a buffer lies outside of its block");
    let start = usize::try_from(place.offset()).map_err(|_| outside())?;
    let length = usize::try_from(place.length()).map_err(|_| outside())?;
    let bytes = start.checked_add(length).and_then(|end| body.get(start..end)).ok_or_else(outside)?;
    let Some((said, packed)) = bytes.split_first_chunk::<8>() else { return Ok(0) };
    let said = match i64::from_le_bytes(*said) {
        // Not packed.
        -1 => return Ok(0),
        said => u64::try_from(said).map_err(|_| outside())?,
    };
    if packing.codec() == CompressionType::LZ4_FRAME {
        // It is unpacked to its end, whatever was said.
        let all = std::io::Read::take(lz4_flex::frame::FrameDecoder::new(packed), said.saturating_add(1));
        let whole = std::io::copy(&mut { all }, &mut std::io::sink())?;
        if whole != said {
            return Err(wrong(&format!("a buffer does not unpack to the {said} bytes that it says")));
        }
    }
    Ok(said)
}
