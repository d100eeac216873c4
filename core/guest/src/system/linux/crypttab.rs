//! `/etc/crypttab`: which encrypted volumes a system opens, and what it calls them (`man 5 crypttab`).

/// Name and volume of each line.
pub(crate) fn read(text: &str) -> Vec<(String, String)> {
    let line = |line: &str| {
        let mut fields = line.split_whitespace();
        let name = fields.next().filter(|name| !name.starts_with('#'))?;
        Some((name.to_string(), fields.next()?.to_string()))
    };
    text.lines().filter_map(line).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_name_what_they_open() {
        let text = "# a comment\nvault UUID=1-2 none luks,discard\n\nswap\t/dev/sda3 /dev/urandom swap\nalone\n";
        let expected = [("vault", "UUID=1-2"), ("swap", "/dev/sda3")];
        assert_eq!(read(text), expected.map(|(name, spec)| (name.to_string(), spec.to_string())));
    }
}
