//! Names of keys and values: kept as Latin-1 where that can be, compared by the capitals of their units.

/// A name as units.
pub(super) fn units(name: &str) -> Vec<u16> {
    name.encode_utf16().collect()
}

/// A name that is kept in `bytes`.
pub(super) fn read(bytes: &[u8], is_latin: bool) -> Vec<u16> {
    if is_latin {
        bytes.iter().map(|byte| u16::from(*byte)).collect()
    } else {
        bytes.as_chunks().0.iter().copied().map(u16::from_le_bytes).collect()
    }
}

/// A name as it is kept, and whether that is Latin-1.
pub(super) fn write(name: &[u16]) -> (Vec<u8>, bool) {
    let latin: Option<Vec<u8>> = name.iter().map(|unit| u8::try_from(*unit).ok()).collect();
    match latin {
        Some(bytes) => (bytes, true),
        None => (name.iter().flat_map(|unit| unit.to_le_bytes()).collect(), false),
    }
}

/// The capital of a unit, where it is one unit too.
fn capital(unit: u16) -> u16 {
    let Some(char) = char::from_u32(unit.into()) else { return unit };
    let mut upper = char.to_uppercase();
    match (upper.next().map(u32::from), upper.next()) {
        (Some(upper), None) => u16::try_from(upper).unwrap_or(unit),
        _ => unit,
    }
}

/// What a name is compared by.
pub(super) fn key(name: &[u16]) -> Vec<u16> {
    name.iter().copied().map(capital).collect()
}

/// The hash of a name in a list of subkeys.
pub(super) fn hash(name: &[u16]) -> u32 {
    name.iter().fold(0, |sum: u32, unit| sum.wrapping_mul(37).wrapping_add(capital(*unit).into()))
}

/// The name as text.
pub(super) fn text(name: &[u16]) -> String {
    String::from_utf16_lossy(name)
}
