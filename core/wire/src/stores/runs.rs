//! Where a piece of a disk holds data, in whole pages.

/// Bytes of a page.
pub(super) const PAGE: u64 = 512;
/// Zeros between two runs of data that are sent along with them: one request is dearer.
const GAP: u64 = 64 << 10;

/// The runs of `bytes` that hold data, in whole pages: where each begins, and its length. Runs with little between them are one.
pub(super) fn data_runs(bytes: &[u8]) -> Vec<(u64, u64)> {
    let mut runs: Vec<(u64, u64)> = Vec::new();
    let mut at = 0;
    for page in bytes.chunks(reformis_disk::to_usize(PAGE)) {
        if page.iter().any(|byte| *byte != 0) {
            match runs.last_mut().filter(|(start, len)| at - (start + len) < GAP) {
                Some((start, len)) => *len = at + PAGE - *start,
                None => runs.push((at, PAGE)),
            }
        }
        at += PAGE;
    }
    runs
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn runs_are_whole_pages_and_close_ones_are_one() {
        let mut bytes = vec![0u8; 1 << 20];
        assert_eq!(data_runs(&bytes), []);
        for at in [700, 1 << 10, 40 << 10, 600 << 10, (1 << 20) - 1] {
            bytes[at] = 1;
        }
        assert_eq!(data_runs(&bytes), [(512, (40 << 10) + 512 - 512), (600 << 10, 512), ((1 << 20) - 512, 512)]);
    }
}
