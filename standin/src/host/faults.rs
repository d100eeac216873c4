//! What a host does wrong when it is asked to.

use std::str::FromStr;

/// What goes wrong. Counts are of answers to come: each one that goes wrong takes one away.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Faults {
    /// Cuts the connection after so many bytes of a file, so many times.
    pub cut: Option<(u64, u32)>,
    /// Sends whole files in place of parts.
    pub no_ranges: bool,
    /// Packs what it sends, though nobody asked for that.
    pub gzip: bool,
    /// Sends files in chunks, without their length.
    pub chunked: bool,
    /// Sends files from another place, to which it leads: the link's beginning.
    pub redirect: Option<String>,
    /// Is busy so many times, and says for how many seconds.
    pub busy: Option<(u32, u32)>,
    /// Waits so many milliseconds before it answers.
    pub slow: u64,
    /// Says that files have another version from now on.
    pub changed: bool,
    /// Sends the part after the one that was asked for, and says so.
    pub other_part: bool,
    /// Sends headers without end.
    pub endless_headers: bool,
}

impl Faults {
    /// Sets what `word` says: `cut=BYTES*TIMES`, `no-ranges`, `gzip`, `chunked`, `redirect=LINK`, `busy=TIMES*SECONDS`,
    /// `slow=MILLISECONDS`, `changed`, `other-part`, `endless-headers`.
    ///
    /// # Errors
    /// A word that is none of these.
    pub fn set(&mut self, word: &str) -> Result<(), String> {
        let wrong = || format!("'{word}' is no fault that there is");
        let (name, value) = word.split_once('=').unwrap_or((word, ""));
        fn pair<A: FromStr, B: FromStr>(text: &str) -> Option<(A, B)> {
            let (one, two) = text.split_once('*')?;
            Some((one.parse().ok()?, two.parse().ok()?))
        }
        match name {
            "cut" => self.cut = Some(pair(value).ok_or_else(wrong)?),
            "busy" => self.busy = Some(pair(value).ok_or_else(wrong)?),
            "slow" => self.slow = value.parse().map_err(|_| wrong())?,
            "redirect" if !value.is_empty() => self.redirect = Some(value.into()),
            "no-ranges" => self.no_ranges = true,
            "gzip" => self.gzip = true,
            "chunked" => self.chunked = true,
            "changed" => self.changed = true,
            "other-part" => self.other_part = true,
            "endless-headers" => self.endless_headers = true,
            _ => return Err(wrong()),
        }
        Ok(())
    }
}
