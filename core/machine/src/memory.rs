//! How much memory reading a machine file takes at the most, told before it is read: a caller holds it against its budget.

use crate::kind::MachineFile;

/// A node and an attribute of an XML document, which the parser makes room for wherever a `<` or a `=` stands.
const NODE: u64 = 96;
const ATTRIBUTE: u64 = 96;
/// A value of a JSON document, in lists and tables that grow by doubling.
const VALUE: u64 = 200;
/// A line of settings, in a table.
const LINE: u64 = 200;
/// Copies of the text that live at the same time: as it is read, in another encoding, and what is kept of it.
const COPIES: u64 = 4;

/// Bytes that [`crate::read`] takes at the most for a machine file of `kind` with these `bytes`.
pub fn memory(kind: MachineFile, bytes: &[u8]) -> u64 {
    let text = COPIES * bytes.len() as u64;
    match kind {
        MachineFile::Vmx => text + LINE * count(bytes, |byte| byte == b'\n'),
        MachineFile::LaunchJson => json_memory(bytes),
        _ => text + NODE * count(bytes, |byte| byte == b'<') + ATTRIBUTE * count(bytes, |byte| byte == b'='),
    }
}

/// Bytes that a JSON document with these `bytes` takes at the most once it is read.
pub fn json_memory(bytes: &[u8]) -> u64 {
    COPIES * bytes.len() as u64 + VALUE * count(bytes, |byte| matches!(byte, b',' | b'[' | b'{'))
}

fn count(bytes: &[u8], is_one: impl Fn(u8) -> bool) -> u64 {
    bytes.iter().filter(|byte| is_one(**byte)).count() as u64
}
