//! Packets behind their length, four bytes in network order, as the SSH subsystems send them (RFC 4819, section 3.1, and the file
//! transfer protocol).

/// A packet says that it is longer than is taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PacketTooLong;

/// The next packet in what came in, without its length; none: more has to come.
///
/// # Errors
/// [`PacketTooLong`]: it says that it has more than `most` bytes.
pub fn next(buffer: &mut Vec<u8>, most: usize) -> Result<Option<Vec<u8>>, PacketTooLong> {
    let Some(length) = buffer.first_chunk::<4>() else { return Ok(None) };
    let length = u32::from_be_bytes(*length) as usize;
    if length > most {
        return Err(PacketTooLong);
    }
    if buffer.len() < 4 + length {
        return Ok(None);
    }
    let packet = buffer[4..4 + length].to_vec();
    buffer.drain(..4 + length);
    Ok(Some(packet))
}
