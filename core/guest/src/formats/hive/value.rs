//! Values: what they are called, and what their bytes mean.

use serde::Serialize;

use super::{Hive, MAX_VALUES, NONE, Node, names};
use crate::error::Result;

/// The most bytes that lie in a cell; what is longer lies in several of these, from version 1.4 on.
pub(super) const SEGMENT: usize = 16_344;
/// The longest value that is read, in bytes.
const MOST: usize = 16 << 20;
/// Bytes of a value's cell before its name.
pub(super) const HEAD: usize = 20;
/// Where the length says that the bytes lie in its place.
pub(super) const INLINE: u32 = 1 << 31;

/// Types of values (`winnt.h`, `REG_…`).
pub(super) mod kind {
    pub(in super::super) const NONE: u32 = 0;
    pub(in super::super) const TEXT: u32 = 1;
    pub(in super::super) const EXPANDED: u32 = 2;
    pub(in super::super) const BYTES: u32 = 3;
    pub(in super::super) const NUMBER: u32 = 4;
    pub(in super::super) const TEXTS: u32 = 7;
    pub(in super::super) const LARGE: u32 = 11;
}

/// A value of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Value {
    /// Its name; empty for the key's own.
    pub(crate) name: String,
    /// Its type.
    pub(crate) kind: u32,
    /// Its bytes.
    pub(crate) bytes: Vec<u8>,
}

/// What the bytes of a value mean, by its type.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Data {
    /// A text.
    Text(String),
    /// A text with names of variables in it.
    Expand(String),
    /// Texts.
    Texts(Vec<String>),
    /// A number of 32 bits.
    Number(u32),
    /// A number of 64 bits.
    Large(u64),
    /// Bytes.
    Bytes(Vec<u8>),
    /// Bytes of another type, by its number.
    Other(u32, Vec<u8>),
}

fn text(bytes: &[u8]) -> String {
    let units: Vec<u16> = bytes.as_chunks().0.iter().copied().map(u16::from_le_bytes).collect();
    let end = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
    String::from_utf16_lossy(units.get(..end).unwrap_or_default())
}

fn units(text: &str) -> impl Iterator<Item = u8> {
    text.encode_utf16().flat_map(u16::to_le_bytes)
}

impl Value {
    /// What it means. What does not fit its type is bytes of that type.
    pub(crate) fn data(&self) -> Data {
        let other = || Data::Other(self.kind, self.bytes.clone());
        match self.kind {
            kind::TEXT => Data::Text(text(&self.bytes)),
            kind::EXPANDED => Data::Expand(text(&self.bytes)),
            kind::BYTES => Data::Bytes(self.bytes.clone()),
            kind::NUMBER => match self.bytes.as_slice().try_into() {
                Ok(four) => Data::Number(u32::from_le_bytes(four)),
                Err(_) => other(),
            },
            kind::LARGE => match self.bytes.as_slice().try_into() {
                Ok(eight) => Data::Large(u64::from_le_bytes(eight)),
                Err(_) => other(),
            },
            kind::TEXTS => {
                let units: Vec<u16> = self.bytes.as_chunks().0.iter().copied().map(u16::from_le_bytes).collect();
                let mut texts: Vec<String> = units.split(|unit| *unit == 0).map(String::from_utf16_lossy).collect();
                // An empty one ends them.
                let end = texts.iter().position(String::is_empty).unwrap_or(texts.len());
                texts.truncate(end);
                Data::Texts(texts)
            }
            _ => other(),
        }
    }
}

impl Data {
    /// Its type, and its bytes as they lie in a hive.
    pub fn to_bytes(&self) -> (u32, Vec<u8>) {
        match self {
            Self::Text(text) => (kind::TEXT, units(text).chain([0, 0]).collect()),
            Self::Expand(text) => (kind::EXPANDED, units(text).chain([0, 0]).collect()),
            Self::Texts(texts) => {
                (kind::TEXTS, texts.iter().flat_map(|text| units(text).chain([0, 0])).chain([0, 0]).collect())
            }
            Self::Number(number) => (kind::NUMBER, number.to_le_bytes().into()),
            Self::Large(number) => (kind::LARGE, number.to_le_bytes().into()),
            Self::Bytes(bytes) => (kind::BYTES, bytes.clone()),
            Self::Other(kind, bytes) => (*kind, bytes.clone()),
        }
    }

    /// What a person writes: a type, a colon, and the data. `text:`, `expand:`, `texts:` with `|` between them, `dword:` and `qword:`,
    /// decimal or with `0x`, `hex:` with or without spaces or commas, and `hex(N):` of the type N.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(text: &str) -> Result<Self, String> {
        let (kind, data) =
            text.split_once(':').ok_or("a value is written as TYPE:DATA, such as dword:0 or text:tide")?;
        let number = || {
            let parsed = match data.strip_prefix("0x") {
                Some(digits) => u64::from_str_radix(digits, 16),
                None => data.parse(),
            };
            parsed.map_err(|_| format!("'{data}' is no number"))
        };
        let bytes = || -> Result<Vec<u8>, String> {
            let digits: Vec<u8> = data.bytes().filter(|byte| !b" ,".contains(byte)).collect();
            let pairs = digits.as_chunks::<2>();
            let pair =
                |pair: &[u8; 2]| std::str::from_utf8(pair).ok().and_then(|text| u8::from_str_radix(text, 16).ok());
            let bytes: Option<Vec<u8>> = pairs.0.iter().map(pair).collect();
            bytes.filter(|_| pairs.1.is_empty()).ok_or_else(|| format!("'{data}' is no row of hexadecimal bytes"))
        };
        Ok(match kind {
            "text" => Self::Text(data.into()),
            "expand" => Self::Expand(data.into()),
            "texts" => Self::Texts(data.split('|').filter(|text| !text.is_empty()).map(Into::into).collect()),
            "dword" => Self::Number(u32::try_from(number()?).map_err(|_| format!("'{data}' has more than 32 bits"))?),
            "qword" => Self::Large(number()?),
            "hex" => Self::Bytes(bytes()?),
            "none" => Self::Other(kind::NONE, bytes()?),
            other => {
                let code = other.strip_prefix("hex(").and_then(|rest| rest.strip_suffix(')'));
                let code = code.and_then(|code| u32::from_str_radix(code, 16).ok());
                let unknown = || format!("'{other}' is no type; text, expand, texts, dword, qword, hex and hex(N) are");
                Self::Other(code.ok_or_else(unknown)?, bytes()?)
            }
        })
    }

    /// The text that it is.
    pub fn into_text(self) -> Option<String> {
        match self {
            Self::Text(text) | Self::Expand(text) => Some(text),
            _ => None,
        }
    }

    /// The name of its type.
    pub fn kind(&self) -> String {
        match self {
            Self::Text(_) => "text".into(),
            Self::Expand(_) => "expand".into(),
            Self::Texts(_) => "texts".into(),
            Self::Number(_) => "dword".into(),
            Self::Large(_) => "qword".into(),
            Self::Bytes(_) => "hex".into(),
            Self::Other(kind::NONE, _) => "none".into(),
            Self::Other(kind, _) => format!("hex({kind:x})"),
        }
    }
}

/// Its type as [`Data::parse`] takes it, and what it is: text, texts, a number, or bytes as hexadecimal digits.
impl Serialize for Data {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        use serde::ser::SerializeStruct;
        let mut fields = serializer.serialize_struct("Data", 2)?;
        fields.serialize_field("type", &self.kind())?;
        match self {
            Self::Text(text) | Self::Expand(text) => fields.serialize_field("data", text)?,
            Self::Texts(texts) => fields.serialize_field("data", texts)?,
            Self::Number(number) => fields.serialize_field("data", number)?,
            Self::Large(number) => fields.serialize_field("data", number)?,
            Self::Bytes(bytes) | Self::Other(_, bytes) => {
                let digits: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
                fields.serialize_field("data", &digits)?;
            }
        }
        fields.end()
    }
}

impl std::fmt::Display for Data {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Text(text) | Self::Expand(text) => f.write_str(text),
            Self::Texts(texts) => f.write_str(&texts.join(" | ")),
            Self::Number(number) => write!(f, "{number} ({number:#x})"),
            Self::Large(number) => write!(f, "{number} ({number:#x})"),
            Self::Bytes(bytes) | Self::Other(_, bytes) => {
                let shown: Vec<String> = bytes.iter().take(32).map(|byte| format!("{byte:02x}")).collect();
                f.write_str(&shown.join(" "))?;
                if bytes.len() > 32 { write!(f, " … ({} bytes)", bytes.len()) } else { Ok(()) }
            }
        }
    }
}

impl Hive {
    /// Where the values of a key lie.
    pub(super) fn value_cells(&self, node: &Node) -> Result<Vec<u32>> {
        if node.values == 0 {
            return Ok(Vec::new());
        }
        if node.values > MAX_VALUES {
            return Err(self.damaged(format!("a key says that it has {} values", node.values)));
        }
        let len = 4 * Self::size(node.values);
        let list = self.cell(node.value_list, len)?;
        Ok((0..len).step_by(4).map(|at| Self::long(&list, at)).collect())
    }

    /// The head of the value at `at`, with its name.
    pub(super) fn value_head(&self, at: u32) -> Result<Vec<u8>> {
        let cell = self.cell(at, HEAD)?;
        let is_sound = cell.starts_with(b"vk") && cell.len() >= HEAD + Self::word(&cell, 2);
        if is_sound { Ok(cell) } else { Err(self.damaged(format!("something leads to {at:#x}, which is no value"))) }
    }

    /// The name of the value at `at`.
    pub(super) fn value_name(&self, at: u32) -> Result<Vec<u16>> {
        let cell = self.value_head(at)?;
        let name = cell.get(HEAD..HEAD + Self::word(&cell, 2)).unwrap_or_default();
        Ok(names::read(name, Self::word(&cell, 16) & 1 != 0))
    }

    /// The value at `at`.
    pub(super) fn value_at(&self, at: u32) -> Result<Value> {
        let cell = self.value_head(at)?;
        let (len, place) = (Self::long(&cell, 4), Self::long(&cell, 8));
        let wrong = || self.damaged(format!("the value at {at:#x} says that it has {len} bytes"));
        let size = Self::size(len & !INLINE);
        let bytes = if len & INLINE != 0 {
            cell.get(8..8 + size).filter(|_| size <= 4).ok_or_else(wrong)?.to_vec()
        } else if size == 0 || place == NONE {
            Vec::new()
        } else if size > MOST {
            return Err(wrong());
        } else if size > SEGMENT && self.minor > 3 {
            self.segments(place, size)?
        } else {
            let mut bytes = self.cell(place, size)?;
            bytes.truncate(size);
            bytes
        };
        Ok(Value { name: names::text(&self.value_name(at)?), kind: Self::long(&cell, 12), bytes })
    }

    /// The cells that hold the parts of a long value: its list, and they.
    pub(super) fn segment_cells(&self, place: u32) -> Result<(u32, Vec<u32>)> {
        let head = self.cell(place, 8)?;
        if !head.starts_with(b"db") {
            return Err(self.damaged(format!("the long value at {place:#x} has no list of its parts")));
        }
        let (count, list) = (Self::word(&head, 2), Self::long(&head, 4));
        let cells = self.cell(list, 4 * count)?;
        Ok((list, (0..count).map(|index| Self::long(&cells, 4 * index)).collect()))
    }

    fn segments(&self, place: u32, size: usize) -> Result<Vec<u8>> {
        let (_, cells) = self.segment_cells(place)?;
        if cells.len() != size.div_ceil(SEGMENT) {
            return Err(self.damaged(format!("the long value at {place:#x} has {} parts", cells.len())));
        }
        let _room = self.budget.take(size as u64)?;
        let mut bytes = Vec::with_capacity(size);
        for cell in cells {
            let len = (size - bytes.len()).min(SEGMENT);
            let mut part = self.cell(cell, len)?;
            part.truncate(len);
            bytes.extend(part);
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_a_person_writes_is_what_it_says() {
        let parse = |text: &str| Data::parse(text).unwrap();
        assert_eq!(parse("dword:0x10"), Data::Number(16));
        assert_eq!(parse("qword:18446744073709551615"), Data::Large(u64::MAX));
        assert_eq!(parse("text:a:b=c"), Data::Text("a:b=c".into()));
        assert_eq!(parse("texts:one|two||"), Data::Texts(vec!["one".into(), "two".into()]));
        assert_eq!(parse("hex:00,ff 1A"), Data::Bytes(vec![0, 255, 26]));
        assert_eq!(parse("hex(8):01"), Data::Other(8, vec![1]));
        assert_eq!(parse("none:"), Data::Other(0, Vec::new()));
        for (text, what) in [
            ("tide", "TYPE:DATA"),
            ("dword:-1", "no number"),
            ("dword:4294967296", "32 bits"),
            ("hex:0", "hexadecimal"),
            ("hex(x):00", "no type"),
        ] {
            assert!(Data::parse(text).unwrap_err().contains(what), "{text}");
        }
    }

    fn data() -> impl Strategy<Value = Data> {
        let text = "[^\0|]{0,12}";
        prop_oneof![
            text.prop_map(Data::Text),
            text.prop_map(Data::Expand),
            prop::collection::vec("[^\0|]{1,9}", 0..4).prop_map(Data::Texts),
            any::<u32>().prop_map(Data::Number),
            any::<u64>().prop_map(Data::Large),
            prop::collection::vec(any::<u8>(), 0..20).prop_map(Data::Bytes),
            (12..99_u32, prop::collection::vec(any::<u8>(), 0..9)).prop_map(|(kind, bytes)| Data::Other(kind, bytes)),
        ]
    }

    proptest! {
        /// As bytes in a hive, and as text in JSON.
        #[test]
        fn data_keeps_its_meaning(data in data()) {
            let (kind, bytes) = data.to_bytes();
            prop_assert_eq!(Value { name: String::new(), kind, bytes }.data(), data.clone());
            let json = serde_json::to_value(&data).unwrap();
            let told = match &json["data"] {
                serde_json::Value::String(text) => text.clone(),
                serde_json::Value::Array(texts) => texts.iter().filter_map(|text| text.as_str()).collect::<Vec<_>>().join("|"),
                number => number.to_string(),
            };
            let again = format!("{}:{told}", json["type"].as_str().unwrap());
            prop_assert_eq!(Data::parse(&again), Ok(data));
        }
    }
}
