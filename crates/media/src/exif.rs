//! EXIF (CIPA DC-008): of all it can say, whether a picture is stored turned or mirrored.

/// Words for a picture that has to be turned before it is looked at; `None` for one that stands upright. `notes` is a TIFF
/// structure.
pub fn turned(notes: &[u8]) -> Option<String> {
    orientation(notes).and_then(words)
}

/// The same for the value of an orientation tag (TIFF 6.0, section 8: 1 is upright).
pub fn words(orientation: u16) -> Option<String> {
    (2..=8).contains(&orientation).then(|| format!("it is stored rotated or mirrored (orientation {orientation})"))
}

fn orientation(notes: &[u8]) -> Option<u16> {
    let little = match notes.get(..4)? {
        b"II*\0" => true,
        b"MM\0*" => false,
        _ => return None,
    };
    let two = |at: usize| {
        let two = notes.get(at..at + 2)?.try_into().ok()?;
        Some(if little { u16::from_le_bytes(two) } else { u16::from_be_bytes(two) })
    };
    let four = |at: usize| {
        let four = notes.get(at..at + 4)?.try_into().ok()?;
        Some(if little { u32::from_le_bytes(four) } else { u32::from_be_bytes(four) })
    };
    let start = usize::try_from(four(4)?).ok()?;
    let entries = 0..usize::from(two(start)?);
    // An entry: tag, kind, count, value.
    let mut entries = entries.map(|at| start + 2 + at * 12);
    entries.find(|at| two(*at) == Some(0x0112)).and_then(|at| two(at + 8))
}
