//! Finding what need not be written.

use std::ops::Range;

/// Whether every byte is zero. Data nearly always says no within its first line, so that is looked at first.
pub(crate) fn is_zero(bytes: &[u8]) -> bool {
    const LINE: usize = 256;
    let mut lines = bytes.chunks_exact(LINE);
    let all = lines.by_ref().all(|line| line.iter().fold(0, |sum, byte| sum | byte) == 0);
    all && lines.remainder().iter().all(|&byte| byte == 0)
}

/// The ranges of `bytes` that hold something, in whole units of `unit` bytes (the last may be cut by the end).
pub(crate) fn data_runs(bytes: &[u8], unit: usize) -> Vec<Range<usize>> {
    let mut runs: Vec<Range<usize>> = Vec::new();
    for (index, piece) in bytes.chunks(unit).enumerate() {
        if is_zero(piece) {
            continue;
        }
        let start = index * unit;
        match runs.last_mut() {
            Some(last) if last.end == start => last.end += piece.len(),
            _ => runs.push(start..start + piece.len()),
        }
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_whole_units_joined() {
        let mut bytes = vec![0; 1000];
        assert!(is_zero(&bytes) && data_runs(&bytes, 100).is_empty());
        bytes[199] = 1;
        bytes[200] = 1;
        bytes[999] = 1;
        assert_eq!(data_runs(&bytes, 100), [100..300, 900..1000]);
        assert_eq!(data_runs(&bytes, 300), [0..300, 900..1000]);
        assert_eq!(data_runs(&bytes, 4096), [0..1000]);
    }
}
