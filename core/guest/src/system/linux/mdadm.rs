//! `mdadm.conf`: which devices are looked at for members of arrays, and what arrays are called (`man 5 mdadm.conf`).

use uuid::Uuid;

/// Where a system, and its early boot image, have it.
pub(crate) const PLACES: [&str; 2] = ["/etc/mdadm/mdadm.conf", "/etc/mdadm.conf"];

/// Every device that may have a member, which is also what is meant where nothing is said.
const EVERY: &str = "DEVICE partitions containers\n";

/// Lines, each with those behind it that begin with a space and so belong to it.
fn lines(text: &str) -> Vec<String> {
    let mut all: Vec<String> = Vec::new();
    for line in text.split_inclusive('\n') {
        match all.last_mut() {
            Some(last) if line.starts_with([' ', '\t']) => last.push_str(line),
            _ => all.push(line.into()),
        }
    }
    all
}

/// The words of a line in front of a comment.
fn words(line: &str) -> Vec<&str> {
    let before = line.lines().flat_map(|part| part.split_whitespace().take_while(|word| !word.starts_with('#')));
    before.collect()
}

/// Whether a line is of this kind: three letters are enough.
fn is(words: &[&str], kind: &str) -> bool {
    words.first().is_some_and(|word| word.len() >= 3 && kind.starts_with(&word.to_ascii_lowercase()))
}

fn value<'w>(word: &'w str, key: &str) -> Option<&'w str> {
    let (name, value) = word.split_once('=')?;
    name.eq_ignore_ascii_case(key).then_some(value)
}

/// What arrays are called, by their UUIDs: names below `/dev`.
pub(crate) fn arrays(text: &str) -> Vec<(String, Uuid)> {
    let array = |line: &String| {
        let words = words(line);
        let name = words.get(1)?.strip_prefix("/dev/").filter(|_| is(&words, "array"))?;
        let uuid = words.iter().find_map(|word| value(word, "uuid"))?;
        let digits: String = uuid.chars().filter(char::is_ascii_hexdigit).collect();
        Some((name.to_string(), Uuid::parse_str(&digits).ok()?))
    };
    lines(text).iter().filter_map(array).collect()
}

/// The same text for other hardware, where a device that it names has another name, which `keeps` says of each; `None` where it stays right.
/// `uuid_of` gives the UUID of an array by its name, for those that are known by their members alone.
pub(crate) fn renamed(
    text: &str,
    keeps: impl Fn(&str) -> bool,
    uuid_of: impl Fn(&str) -> Option<String>,
) -> Option<String> {
    let mut new = String::with_capacity(text.len());
    for line in lines(text) {
        let words = words(&line);
        if is(&words, "device") && !words.iter().skip(1).all(|word| keeps(word)) {
            new.push_str(EVERY);
            continue;
        }
        let members = words.iter().find_map(|word| value(word, "devices"));
        let is_other = |members: &str| !members.split(',').all(&keeps);
        if !is(&words, "array") || !members.is_some_and(is_other) {
            new.push_str(&line);
            continue;
        }
        let is_known = |word: &&str| ["uuid", "name", "super-minor"].iter().any(|key| value(word, key).is_some());
        let uuid = words.get(1).and_then(|name| uuid_of(name)).map(|uuid| format!("UUID={uuid}"));
        if !words.iter().any(is_known) && uuid.is_none() {
            new.push_str(&line);
            continue;
        }
        let mut left: Vec<&str> = words.iter().copied().filter(|word| value(word, "devices").is_none()).collect();
        if !words.iter().any(is_known) {
            left.extend(uuid.as_deref());
        }
        new.push_str(&left.join(" "));
        new.push('\n');
    }
    (new != text).then_some(new)
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "# by hand\nDEVICE /dev/sda2\n  /dev/sdb2 # both\nHOMEHOST <ignore>\n\
        ARRAY /dev/md0 metadata=1.2 UUID=5a170000:00004000:80000000:00000001 devices=/dev/sda2,/dev/sdb2\n\
        array /dev/md/tide DEVICES=/dev/sdc1\nARRAY /dev/md9 devices=/dev/sdd1\nMAILADDR root\n";

    #[test]
    fn arrays_have_names_by_their_uuids() {
        let uuid = Uuid::from_u128(0x5a17_0000_0000_4000_8000_0000_0000_0001);
        assert_eq!(arrays(TEXT), [("md0".to_string(), uuid)]);
    }

    #[test]
    fn what_has_another_name_is_not_named_any_more() {
        let uuid_of = |name: &str| (name == "/dev/md/tide").then(|| "1:2:3:4".to_string());
        assert_eq!(renamed(TEXT, |_| true, uuid_of), None);
        let new = renamed(TEXT, |name| !name.starts_with("/dev/sd"), uuid_of).unwrap();
        let wanted = "# by hand\nDEVICE partitions containers\nHOMEHOST <ignore>\n\
            ARRAY /dev/md0 metadata=1.2 UUID=5a170000:00004000:80000000:00000001\n\
            array /dev/md/tide UUID=1:2:3:4\nARRAY /dev/md9 devices=/dev/sdd1\nMAILADDR root\n";
        assert_eq!(new, wanted);
        // Where only one of them is another, the line of both is.
        let new = renamed("DEV /dev/sda2 /dev/sdb2\n", |name| name != "/dev/sdb2", |_| None);
        assert_eq!(new.as_deref(), Some(EVERY));
    }
}
