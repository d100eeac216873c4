//! `/etc/fstab` and `/etc/crypttab` (`man 5 fstab`, `man 5 crypttab`): lines of fields, whose spacing and comments stay.

use serde::Serialize;

use crate::fs::Subvolume;

/// A line that mounts something.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Line {
    /// What is mounted.
    pub spec: String,
    /// Where; `none` for swap space.
    pub place: String,
    /// The kind of file system.
    pub kind: String,
    /// Options, with commas.
    pub options: String,
}

impl Line {
    /// The subvolume that is mounted, where the options name one (`man 5 btrfs`).
    pub(crate) fn subvolume(&self) -> Option<Subvolume> {
        subvolume(&self.options)
    }
}

/// The subvolume that mount options name.
pub(crate) fn subvolume(options: &str) -> Option<Subvolume> {
    let of = |option: &str| match option.split_once('=')? {
        ("subvol", path) => Some(Subvolume::Path(path.trim_start_matches('/').as_bytes().to_vec())),
        ("subvolid", number) => number.parse().ok().map(Subvolume::Number),
        _ => None,
    };
    options.split(',').find_map(of)
}

/// Spaces and tabs in fields are written as octal numbers.
fn plain(field: &str) -> String {
    field.replace("\\040", " ").replace("\\011", "\t").replace("\\134", "\\")
}

/// Reads all lines that mount something.
pub(crate) fn read(text: &str) -> Vec<Line> {
    let lines = text.lines().map(str::trim).filter(|line| !line.is_empty() && !line.starts_with('#'));
    lines
        .filter_map(|line| {
            let mut fields = line.split_whitespace().map(plain);
            let (spec, place, kind) = (fields.next()?, fields.next()?, fields.next()?);
            Some(Line { spec, place, kind, options: fields.next().unwrap_or_else(|| "defaults".into()) })
        })
        .collect()
}

/// `text` with the field of number `column` of each line replaced by what `change` says; everything else stays as it is.
#[expect(clippy::string_slice, reason = "cut where white space was found")]
pub(crate) fn with_field(text: &str, column: usize, mut change: impl FnMut(&str) -> Option<String>) -> String {
    let mut result = String::with_capacity(text.len() + 64);
    for line in text.split_inclusive('\n') {
        let field = if line.trim_start().starts_with('#') { None } else { field(line, column) };
        match field.and_then(|(start, end)| Some((start, end, change(&plain(&line[start..end]))?))) {
            Some((start, end, new)) => {
                result.push_str(&line[..start]);
                result.push_str(&new);
                result.push_str(&line[end..]);
            }
            None => result.push_str(line),
        }
    }
    result
}

/// `text` with the volumes of lines called as `change` says.
pub(crate) fn with_spec(text: &str, mut change: impl FnMut(&Line) -> Option<String>) -> String {
    let lines = text.split_inclusive('\n').map(|line| match read(line).first() {
        Some(known) => with_field(line, 0, |_| change(known)),
        None => line.to_string(),
    });
    lines.collect()
}

/// First and last byte of a field.
#[expect(clippy::string_slice, reason = "cut where white space was found")]
fn field(line: &str, column: usize) -> Option<(usize, usize)> {
    let mut at = 0;
    for number in 0.. {
        at += line[at..].find(|c: char| !c.is_whitespace())?;
        let end = line[at..].find(char::is_whitespace).map_or(line.len(), |len| at + len);
        if number == column {
            return Some((at, end));
        }
        at = end;
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_field_changes_and_all_else_stays() {
        let text = "# /dev/sda1 was here\n/dev/sda1\t/  ext4 errors=remount-ro 0 1  # tail\n\n/dev/sr0 /media/cd\\040rom udf noauto 0 0\nproc /proc proc";
        let lines = read(text);
        assert_eq!((lines.len(), lines[1].place.as_str(), lines[2].options.as_str()), (3, "/media/cd rom", "defaults"));
        let new = with_field(text, 0, |spec| (spec == "/dev/sda1").then(|| "UUID=1".into()));
        assert_eq!(new, text.replacen("/dev/sda1\t", "UUID=1\t", 1));
        assert_eq!(with_field(text, 9, |_| Some("x".into())), text);
    }
}
