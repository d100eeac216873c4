//! Names that a machine can have where it goes.

use reformis_machine::Destination;

/// A name that the destination and every file system take: the destination's characters, starting with a letter or digit.
pub(crate) fn landing_name(name: &str, destination: &Destination) -> String {
    let rules = &destination.rules;
    let mut plain = String::new();
    for c in name.chars() {
        let lower = c.to_ascii_lowercase();
        let c = [c, lower].into_iter().find(|c| rules.allows(*c)).unwrap_or('-');
        if !(c == '-' && plain.ends_with('-')) {
            plain.push(c);
        }
    }
    let longest = rules.longest_name.unwrap_or(60).min(60) as usize;
    let plain: String = plain.trim_start_matches(['-', '.', '_']).chars().take(longest).collect();
    let plain = plain.trim_end_matches(['-', '.', '_']);
    if plain.is_empty() { "machine".into() } else { plain.to_string() }
}

/// Whether `name` is one that [`landing_name`] leaves as it is.
pub(crate) fn is_allowed(name: &str, destination: &Destination) -> bool {
    landing_name(name, destination) == name
}

#[cfg(test)]
mod tests {
    use reformis_machine::Site;

    use super::*;

    #[test]
    fn names_become_plain_and_stay_inside_the_folder() {
        let site = Site::default();
        let (host, cloud) = (site.destination("virtio-host").unwrap(), site.destination("virtio-cloud").unwrap());
        for (name, plain, strict) in [
            ("tidelog", "tidelog", "tidelog"),
            ("Tide Log (old)", "Tide-Log-old", "tide-log-old"),
            ("../../etc/passwd", "etc-passwd", "etc-passwd"),
            (".hidden", "hidden", "hidden"),
            ("-rf", "rf", "rf"),
            ("潮位", "machine", "machine"),
            ("", "machine", "machine"),
            ("a\n\u{1b}[2Jb", "a-2Jb", "a-2jb"),
            ("web.saltmarsh_1", "web.saltmarsh_1", "web-saltmarsh-1"),
        ] {
            assert_eq!(landing_name(name, &host), plain, "{name:?}");
            assert_eq!(landing_name(name, &cloud), strict, "{name:?}");
            assert!(is_allowed(plain, &host) && is_allowed(strict, &cloud));
        }
        assert_eq!(landing_name(&"x".repeat(500), &host).len(), 60);
        assert!(!is_allowed("Tide", &cloud) && is_allowed("Tide", &host));
    }
}
