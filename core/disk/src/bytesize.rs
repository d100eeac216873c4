//! Sizes as people write them: binary units when printed, both kinds when read.

use std::{fmt, str::FromStr};

/// A number of bytes that prints in binary units and is read from text such as `20GiB`, `20GB` or `4096`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct ByteSize(pub u64);

const BINARY: [(&str, u32); 6] = [("KiB", 10), ("MiB", 20), ("GiB", 30), ("TiB", 40), ("PiB", 50), ("EiB", 60)];

impl fmt::Display for ByteSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Some((unit, shift)) = BINARY.iter().rev().find(|(_, shift)| self.0 >> shift > 0) else {
            return f.pad(&format!("{} B", self.0));
        };
        let whole = self.0 as f64 / (1u64 << shift) as f64;
        // Three digits tell enough, and a whole number is shown as one.
        let digits = if self.0.is_multiple_of(1 << shift) || whole >= 99.95 {
            0
        } else if whole >= 9.995 {
            1
        } else {
            2
        };
        f.pad(&format!("{whole:.digits$} {unit}"))
    }
}

/// Why a text is no size.
#[derive(Debug, thiserror::Error, PartialEq, Eq)]
#[error("{0:?} is not a size: write a number with KiB, MiB, GiB, TiB, or kB, MB, GB, TB, or plain bytes")]
pub struct ByteSizeError(String);

impl FromStr for ByteSize {
    type Err = ByteSizeError;

    #[expect(
        clippy::cast_possible_truncation,
        reason = "fewer digits than would overflow, and a part smaller than its unit"
    )]
    #[expect(clippy::string_slice, reason = "cut where a character starts, as it was found there")]
    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let wrong = || ByteSizeError(text.to_string());
        let text = text.trim();
        let split = text.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(text.len());
        let (number, unit) = (&text[..split], text[split..].trim().to_ascii_lowercase());
        let factor: u64 = match unit.as_str() {
            "" | "b" => 1,
            "kib" | "k" => 1 << 10,
            "mib" | "m" => 1 << 20,
            "gib" | "g" => 1 << 30,
            "tib" | "t" => 1 << 40,
            "kb" => 1_000,
            "mb" => 1_000_000,
            "gb" => 1_000_000_000,
            "tb" => 1_000_000_000_000,
            _ => return Err(wrong()),
        };
        let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
        let whole: u64 = whole.parse().map_err(|_| wrong())?;
        let mut bytes = whole.checked_mul(factor).ok_or_else(wrong)?;
        if !fraction.is_empty() {
            let digits: u64 = fraction.parse().map_err(|_| wrong())?;
            let scale = 10u64.checked_pow(fraction.len() as u32).ok_or_else(wrong)?;
            let part = u128::from(digits) * u128::from(factor) / u128::from(scale);
            bytes = bytes.checked_add(part as u64).ok_or_else(wrong)?;
        }
        Ok(Self(bytes))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn prints_three_digits_and_whole_numbers_plainly() {
        for (bytes, text) in [
            (0, "0 B"),
            (1023, "1023 B"),
            (1 << 10, "1 KiB"),
            (3 << 30, "3 GiB"),
            (1_500_000, "1.43 MiB"),
            (15_000_000, "14.3 MiB"),
            (150_000_000, "143 MiB"),
            (4 << 40, "4 TiB"),
            (u64::MAX, "16.0 EiB"),
        ] {
            assert_eq!(ByteSize(bytes).to_string(), text);
        }
    }

    #[test]
    fn reads_both_kinds_of_units() {
        for (text, bytes) in
            [("20GiB", 20 << 30), ("20GB", 20_000_000_000), ("4096", 4096), ("1.5 MiB", 3 << 19), ("2g", 2 << 30)]
        {
            assert_eq!(text.parse(), Ok(ByteSize(bytes)));
        }
        for text in ["", "GiB", "1,5GiB", "-1", "20PB", "99999999TiB", "1.x"] {
            assert!(text.parse::<ByteSize>().is_err(), "{text}");
        }
    }
}
