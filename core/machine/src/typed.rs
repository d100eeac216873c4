//! Values that a stranger's file can say, in types that hold nothing else: what ends up in a script, in XML, or on a
//! terminal cannot steer it.

use std::{fmt, ops::Deref, str::FromStr};

use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error as _};

/// A hardware address of an adapter (IEEE 802, EUI-48). Its text is six pairs of lower-case hexadecimal digits with colons.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Mac([u8; 6]);

impl Mac {
    /// The address of these bytes.
    pub fn new(bytes: [u8; 6]) -> Self {
        Self(bytes)
    }

    /// An address in any of its spellings: with colons, dashes, dots, or nothing between the digits.
    pub fn parse(text: &str) -> Option<Self> {
        let mut bytes = [0; 6];
        let mut digits = text.trim().chars().filter(|c| !matches!(c, ':' | '-' | '.'));
        let mut next = || u8::try_from(digits.next()?.to_digit(16)?).ok();
        for byte in &mut bytes {
            *byte = next()? << 4 | next()?;
        }
        digits.next().is_none().then_some(Self(bytes))
    }

    /// The twelve digits in upper case, with nothing between them.
    pub fn digits(self) -> String {
        self.0.iter().map(|byte| format!("{byte:02X}")).collect()
    }
}

impl fmt::Display for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let [a, b, c, d, e, g] = self.0;
        write!(f, "{a:02x}:{b:02x}:{c:02x}:{d:02x}:{e:02x}:{g:02x}")
    }
}

impl fmt::Debug for Mac {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Mac({self})")
    }
}

impl FromStr for Mac {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        Self::parse(text)
            .ok_or_else(|| format!("'{}' is not a hardware address: six pairs of hexadecimal digits", shown(text)))
    }
}

impl Serialize for Mac {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_str(self)
    }
}

impl<'de> Deserialize<'de> for Mac {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

/// The most characters of a name.
const LONGEST: usize = 255;

/// The name of a machine, a disk, an adapter or a network: one line of 1 to 255 characters, none of which steers a terminal
/// or hides.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Name(String);

impl Name {
    /// What of `text` a name can hold; `fallback` where that is nothing.
    pub fn cleaned(text: &str, fallback: &str) -> Self {
        let keep = |text: &str| -> String {
            let plain: String = text.chars().filter(|c| is_plain(*c)).take(LONGEST).collect();
            plain.trim().to_string()
        };
        let name = keep(text);
        match (name.is_empty(), keep(fallback)) {
            (false, _) => Self(name),
            (true, fallback) if fallback.is_empty() => Self("-".into()),
            (true, fallback) => Self(fallback),
        }
    }

    /// As text.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

/// Whether a character neither steers a terminal nor hides: no control, no line or paragraph separator, nothing that turns
/// the direction of writing, no character without width (Unicode, general categories Cc, Zl, Zp and most of Cf).
fn is_plain(c: char) -> bool {
    !c.is_control()
        && !matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{feff}' | '\u{fff9}'..='\u{fffb}' | '\u{e0000}'..='\u{e007f}')
}

fn shown(text: &str) -> String {
    text.chars().flat_map(|c| if is_plain(c) { vec![c] } else { c.escape_default().collect() }).take(80).collect()
}

impl Deref for Name {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl AsRef<str> for Name {
    fn as_ref(&self) -> &str {
        &self.0
    }
}

impl PartialEq<str> for Name {
    fn eq(&self, other: &str) -> bool {
        self.0 == other
    }
}

impl PartialEq<&str> for Name {
    fn eq(&self, other: &&str) -> bool {
        self.0 == *other
    }
}

impl PartialEq<String> for Name {
    fn eq(&self, other: &String) -> bool {
        &self.0 == other
    }
}

impl PartialEq<Name> for String {
    fn eq(&self, other: &Name) -> bool {
        *self == other.0
    }
}

impl PartialEq<Name> for &str {
    fn eq(&self, other: &Name) -> bool {
        *self == other.0
    }
}

impl fmt::Display for Name {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl From<Name> for String {
    fn from(name: Name) -> Self {
        name.0
    }
}

impl FromStr for Name {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let cleaned = Self::cleaned(text, "");
        if cleaned.0 == text {
            Ok(cleaned)
        } else {
            Err(format!("'{}' is not a name: one line of 1 to {LONGEST} visible characters", shown(text)))
        }
    }
}

impl Serialize for Name {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

impl<'de> Deserialize<'de> for Name {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(D::Error::custom)
    }
}

/// An identity in any spelling: with braces, dashes, spaces, or none of them.
pub(crate) fn uuid(text: &str) -> Option<uuid::Uuid> {
    let digits: String =
        text.chars().filter(|c| !matches!(c, '{' | '}' | '-') && !c.is_whitespace()).take(33).collect();
    uuid::Uuid::try_parse(&digits).ok()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn addresses_in_every_spelling_and_nothing_else() {
        for text in ["00:50:56:AB:cd:01", "00-50-56-ab-cd-01", "005056abcd01", "0050.56ab.cd01", " 00:50:56:ab:cd:01 "]
        {
            let mac = Mac::parse(text).unwrap();
            assert_eq!((mac.to_string().as_str(), mac.digits().as_str()), ("00:50:56:ab:cd:01", "005056ABCD01"));
        }
        for text in [
            "",
            "00:50:56",
            "zz:50:56:ab:cd:01",
            "00'; Start-Process calc; '",
            "005056abcd01ff",
            "００５０５６ａｂｃｄ０１",
        ] {
            assert_eq!(Mac::parse(text), None, "{text}");
            assert!(serde_json::from_value::<Mac>(text.into()).is_err());
        }
    }

    #[test]
    fn identities_in_every_spelling_and_nothing_else() {
        let same = "564d0000-1111-2222-3333-445566778899";
        for text in [same, "{564D0000-1111-2222-3333-445566778899}", "56 4d 00 00 11 11 22 22-33 33 44 55 66 77 88 99"]
        {
            assert_eq!(uuid(text).unwrap().to_string(), same);
        }
        for text in ["", "none", "564d0000-1111-2222-3333-4455667788zz", "ééééééééééééééééééééééééééééééééé"]
        {
            assert_eq!(uuid(text), None, "{text}");
        }
    }

    proptest! {
        #[test]
        fn a_name_holds_one_visible_line(text in any::<String>(), fallback in any::<String>()) {
            let name = Name::cleaned(&text, &fallback);
            prop_assert!(!name.is_empty() && name.chars().count() <= LONGEST && name.chars().all(is_plain));
            prop_assert_eq!(name.parse::<Name>().unwrap(), name.clone());
            let again: Name = serde_json::from_value(serde_json::to_value(&name).unwrap()).unwrap();
            prop_assert_eq!(again, name);
        }

        #[test]
        fn an_address_comes_back_from_its_text(bytes in any::<[u8; 6]>()) {
            prop_assert_eq!(Mac::parse(&Mac(bytes).to_string()), Some(Mac(bytes)));
        }
    }
}
