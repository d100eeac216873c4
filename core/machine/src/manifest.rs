//! The manifest of an OVF package: a digest for each file (DSP0243, section "OVF package", file extension `.mf`).

use crate::error::{Error, Result};

/// The digest algorithm of a line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Algorithm {
    /// SHA-1.
    Sha1,
    /// SHA-256.
    Sha256,
    /// SHA-512.
    Sha512,
}

impl Algorithm {
    /// The word for it in receipts.
    pub fn name(self) -> &'static str {
        match self {
            Self::Sha1 => "sha1",
            Self::Sha256 => "sha256",
            Self::Sha512 => "sha512",
        }
    }

    /// Hexadecimal digits of a digest.
    fn digits(self) -> usize {
        match self {
            Self::Sha1 => 40,
            Self::Sha256 => 64,
            Self::Sha512 => 128,
        }
    }
}

/// One line: a file and its digest.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Name of the file, relative to the manifest.
    pub file: String,
    /// The algorithm.
    pub algorithm: Algorithm,
    /// The digest in lower-case hexadecimal digits.
    pub digest: String,
}

/// Reads a manifest; `file` names it in errors.
///
/// # Errors
/// [`Error::Invalid`] for a line that is none, a digest of the wrong length, or an algorithm that is not known.
#[expect(clippy::cast_possible_truncation, reason = "lines of a file that is at most some MiB long")]
pub fn parse(bytes: &[u8], file: &str) -> Result<Vec<Entry>> {
    let text = String::from_utf8_lossy(bytes);
    let mut entries = Vec::new();
    for (index, line) in text.trim_start_matches('\u{feff}').lines().enumerate() {
        let line = line.trim();
        if line.is_empty() {
            continue;
        }
        let invalid = |what: &str| Error::Invalid { file: file.into(), line: index as u32 + 1, what: what.to_string() };
        // `SHA256(name)= digest`; a name may hold parentheses, and some writers put spaces.
        let (head, digest) = line.rsplit_once('=').ok_or_else(|| invalid("expected 'SHA256(file)= digest'"))?;
        let (algorithm, rest) = head.split_once('(').ok_or_else(|| invalid("expected 'SHA256(file)= digest'"))?;
        let name = rest.trim_end().strip_suffix(')').ok_or_else(|| invalid("the file's name has no ')' behind it"))?;
        let algorithm = match algorithm.trim().to_ascii_uppercase().replace('-', "").as_str() {
            "SHA1" => Algorithm::Sha1,
            "SHA256" => Algorithm::Sha256,
            "SHA512" => Algorithm::Sha512,
            _ => return Err(invalid("a digest algorithm other than SHA-1, SHA-256 and SHA-512")),
        };
        let digest = digest.trim().to_ascii_lowercase();
        if digest.len() != algorithm.digits() || !digest.bytes().all(|b| b.is_ascii_hexdigit()) {
            return Err(invalid(
                "the digest does not have the length of its algorithm, or is not a hexadecimal number",
            ));
        }
        entries.push(Entry { file: name.into(), algorithm, digest });
    }
    Ok(entries)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_of_different_writers() {
        let digest = "AB".repeat(32);
        let text =
            format!("SHA256(a b (1).vmdk)= {digest}\r\n\r\nSHA256 (x.ovf) = {digest}\nSHA1(y)={}\n", "0".repeat(40));
        let entries = parse(text.as_bytes(), "x.mf").unwrap();
        let names: Vec<_> = entries.iter().map(|e| (e.file.as_str(), e.algorithm)).collect();
        let expected = [("a b (1).vmdk", Algorithm::Sha256), ("x.ovf", Algorithm::Sha256), ("y", Algorithm::Sha1)];
        assert_eq!(names, expected);
        assert_eq!(entries[0].digest, digest.to_lowercase());
        for bad in ["hello", "SHA256(x)= 12", "MD5(x)= 00", "SHA1 x = 00", "SHA256(x= 00"] {
            assert!(parse(bad.as_bytes(), "x.mf").unwrap_err().to_string().contains("line 1"), "{bad}");
        }
    }
}
