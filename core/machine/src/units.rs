//! Units of quantities. In OVF: DSP0004's programmatic units, and the words that hosts wrote before them.

/// Bytes of one unit of `text`: `byte * 2^20`, `MegaBytes`, `GB`. No text means bytes.
pub(crate) fn bytes_per_unit(text: &str) -> Option<u64> {
    let mut factors = text.split('*').map(str::trim);
    let base = factors.next().unwrap_or_default().to_ascii_lowercase();
    // Hosts mean powers of two, also where they write the decimal word.
    let base = match base.as_str() {
        "" | "byte" | "bytes" | "b" => 1,
        "kilobyte" | "kilobytes" | "kb" | "kibibyte" | "kib" => 1 << 10,
        "megabyte" | "megabytes" | "mb" | "mebibyte" | "mib" => 1 << 20,
        "gigabyte" | "gigabytes" | "gb" | "gibibyte" | "gib" => 1 << 30,
        "terabyte" | "terabytes" | "tb" | "tebibyte" | "tib" => 1 << 40,
        _ => return None,
    };
    factors.try_fold(base, |product: u64, factor| {
        let value = match factor.split_once('^') {
            Some((base, exponent)) => base.trim().parse::<u64>().ok()?.checked_pow(exponent.trim().parse().ok()?)?,
            None => factor.parse().ok()?,
        };
        product.checked_mul(value)
    })
}

/// Bytes of one unit in domain XML (libvirt, "Memory Allocation"): there `KB` is 1000 bytes and `KiB` is 1024.
pub(crate) fn si_bytes_per_unit(text: &str) -> Option<u64> {
    Some(match text {
        "b" | "bytes" => 1,
        "KB" => 1000,
        "k" | "K" | "KiB" => 1 << 10,
        "MB" => 1_000_000,
        "M" | "MiB" => 1 << 20,
        "GB" => 1_000_000_000,
        "G" | "GiB" => 1 << 30,
        "TB" => 1_000_000_000_000,
        "T" | "TiB" => 1 << 40,
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::bytes_per_unit;

    #[test]
    fn units_of_all_years() {
        for (text, bytes) in [
            ("byte * 2^20", 1 << 20),
            ("byte*2^30", 1 << 30),
            (" byte * 1024 * 1024", 1 << 20),
            ("MegaBytes", 1 << 20),
            ("GB", 1 << 30),
            ("", 1),
            ("KiloBytes", 1 << 10),
        ] {
            assert_eq!(bytes_per_unit(text), Some(bytes), "{text}");
        }
        for text in ["hertz * 10^6", "byte * 2^64", "byte * x", "byte * 2^2^2", "byte * 99999999999999999999"] {
            assert_eq!(bytes_per_unit(text), None, "{text}");
        }
    }
}
