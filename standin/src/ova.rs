//! A host that exports: descriptor, manifest and disks in one archive.

use std::io::{self, Write};

use sha1::Digest as _;

/// The digest of a manifest.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ManifestKind {
    /// As hosts before 2010 and some still write.
    Sha1,
    /// The usual one.
    Sha256,
    /// As OVF 2 allows.
    Sha512,
}

fn hex(bytes: impl AsRef<[u8]>) -> String {
    bytes.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The manifest of `files` (name, bytes): a line each.
pub fn manifest(kind: ManifestKind, files: &[(&str, &[u8])]) -> String {
    let line = |name: &str, bytes: &[u8]| match kind {
        ManifestKind::Sha1 => format!("SHA1({name})= {}\n", hex(sha1::Sha1::digest(bytes))),
        ManifestKind::Sha256 => format!("SHA256({name})= {}\n", hex(sha2::Sha256::digest(bytes))),
        ManifestKind::Sha512 => format!("SHA512({name})= {}\n", hex(sha2::Sha512::digest(bytes))),
    };
    files.iter().map(|(name, bytes)| line(name, bytes)).collect()
}

/// Writes an uncompressed archive of `files` in order, as a host does (ustar, no times that tell anything).
///
/// # Errors
/// Those of writing.
pub fn archive(out: impl Write, files: &[(&str, &[u8])]) -> io::Result<()> {
    let mut builder = tar::Builder::new(out);
    for (name, bytes) in files {
        let mut header = tar::Header::new_ustar();
        header.set_size(bytes.len() as u64);
        header.set_mode(0o644);
        header.set_entry_type(tar::EntryType::Regular);
        // Set by hand: the library refuses names that climb, and a stranger's archive may hold them.
        let field = &mut header.as_old_mut().name;
        field[..name.len()].copy_from_slice(name.as_bytes());
        header.set_cksum();
        builder.append(&header, *bytes)?;
    }
    builder.into_inner()?.flush()
}

/// The members of `archive`, in their order: names and bytes.
///
/// # Errors
/// It is no archive.
pub fn members(archive: &[u8]) -> io::Result<Vec<(String, Vec<u8>)>> {
    let mut members = Vec::new();
    for entry in tar::Archive::new(archive).entries()? {
        let mut entry = entry?;
        let mut bytes = Vec::new();
        io::Read::read_to_end(&mut entry, &mut bytes)?;
        members.push((entry.path()?.to_string_lossy().into_owned(), bytes));
    }
    Ok(members)
}
