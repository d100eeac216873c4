//! Netplan: YAML in blocks, of which lines are left out and put in, so that comments and all else stay.

/// Keys of an adapter that stand for addresses of its own.
const DROPPED: [&str; 6] = ["addresses", "gateway4", "gateway6", "routes", "nameservers", "dhcp4"];

/// The spaces that a line begins with.
fn depth(line: &str) -> usize {
    line.len() - line.trim_start_matches(' ').len()
}

/// Whether a line says nothing.
fn is_blank(line: &str) -> bool {
    let trimmed = line.trim();
    trimmed.is_empty() || trimmed.starts_with('#')
}

/// The key that a line begins with.
fn key(line: &str) -> &str {
    line.trim().split(':').next().unwrap_or_default().trim_matches(['"', '\''])
}

/// The lines of the block that stands below `lines[at]`: those that are deeper.
fn below(lines: &[&str], at: usize) -> std::ops::Range<usize> {
    let own = lines.get(at).map_or(0, |line| depth(line));
    let rest = lines.iter().enumerate().skip(at + 1);
    let end = rest.filter(|(_, line)| !is_blank(line)).find(|(_, line)| {
        // The dash of a list may stand as deep as the key that it belongs to.
        depth(line) < own || depth(line) == own && !line.trim_start().starts_with('-')
    });
    at + 1..end.map_or(lines.len(), |(end, _)| end)
}

/// The text in which the adapter called `name` asks for its address, and the addresses that it had.
pub(super) fn netplan(text: &str, name: &str) -> Result<(String, Vec<String>), &'static str> {
    const FLOW: &str = "it is not written in plain blocks, which are all that can be changed here";
    let lines: Vec<&str> = text.split_inclusive('\n').collect();
    if text.contains('\t')
        || text.contains(['&', '*']) && lines.iter().any(|line| line.contains(": &") || line.contains(": *"))
    {
        return Err(FLOW);
    }
    let ethernets = lines.iter().position(|line| !is_blank(line) && key(line) == "ethernets").ok_or(FLOW)?;
    let all = below(&lines, ethernets);
    let line = |at: usize| lines.get(at).copied().unwrap_or_default();
    let first = all.clone().find(|at| !is_blank(line(*at))).map(|at| depth(line(at)));
    let is_own = |at: &usize| !is_blank(line(*at)) && Some(depth(line(*at))) == first;
    let names = |at: usize| {
        let called = |at: usize| {
            matches!(key(line(at)), "name" | "set-name")
                && line(at).split_once(':').is_some_and(|(_, value)| value.trim().trim_matches(['"', '\'']) == name)
        };
        key(line(at)) == name || below(&lines, at).any(called)
    };
    let Some(own) = all.clone().filter(is_own).find(|at| names(*at)) else { return Err(FLOW) };
    let is_open = line(own).split('#').next().unwrap_or_default().trim_end().ends_with(':');
    if !is_open {
        // In one line: only what is right already can be left as it is.
        return if line(own).contains("addresses") { Err(FLOW) } else { Ok((text.into(), Vec::new())) };
    }
    let block = below(&lines, own);
    let inner = block.clone().find(|at| !is_blank(line(*at))).map_or(depth(line(own)) + 2, |at| depth(line(at)));
    let (mut dropped, mut left) = (Vec::new(), Vec::new());
    for at in block.clone().filter(|at| !is_blank(line(*at)) && depth(line(*at)) == inner) {
        let found = key(line(at));
        if DROPPED.contains(&found) && !line(at).trim_start().starts_with('-') {
            let part = below(&lines, at);
            if found == "addresses" {
                let texts = std::iter::once(line(at)).chain(part.clone().map(line));
                let words = texts.flat_map(|text| text.split([' ', '[', ']', ',', '"', '\'', '\n']));
                left.extend(words.filter(|word| word.contains('/')).map(|word| word.trim_end_matches(':').to_string()));
            }
            dropped.push(at..part.end);
        }
    }
    if left.is_empty() {
        return Ok((text.into(), left));
    }
    let mut new = String::with_capacity(text.len());
    for (at, line) in lines.iter().enumerate() {
        if !dropped.iter().any(|range| range.contains(&at)) {
            new += line;
        }
        if at == own {
            if !line.ends_with('\n') {
                new.push('\n');
            }
            new += &format!("{}dhcp4: true\n", " ".repeat(inner));
        }
    }
    Ok((new, left))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_adapter_of_a_plain_file_changes() {
        let text = "# shore\nnetwork:\n  version: 2\n  ethernets:\n    ens3: # first\n      addresses:\n      - 192.0.2.7/24\n      - \"2001:db8::7/64\":\n          label: x\n      routes:\n        - to: default\n          via: 192.0.2.1\n      mtu: 1400\n    tide:\n      match: {macaddress: \"02:5a:17:00:00:01\"}\n      set-name: ens4\n      addresses: [192.0.2.9/24]\n  vlans: {}\n";
        let (new, left) = netplan(text, "ens3").unwrap();
        assert_eq!(left, ["192.0.2.7/24", "2001:db8::7/64"]);
        let expected = "# shore\nnetwork:\n  version: 2\n  ethernets:\n    ens3: # first\n      dhcp4: true\n      mtu: 1400\n    tide:\n      match: {macaddress: \"02:5a:17:00:00:01\"}\n      set-name: ens4\n      addresses: [192.0.2.9/24]\n  vlans: {}\n";
        assert_eq!(new, expected);
        let (new, left) = netplan(&new, "ens4").unwrap();
        assert_eq!(left, ["192.0.2.9/24"]);
        assert!(new.contains("    tide:\n      dhcp4: true\n      match:") && !new.contains("addresses"), "{new}");
        assert_eq!(netplan(&new, "ens4").unwrap(), (new.clone(), Vec::new()));
    }

    #[test]
    fn what_is_in_one_line_is_told_where_it_would_have_to_change() {
        let line = |inner: &str| format!("network:\n  ethernets:\n    ens3: {inner}\n");
        assert_eq!(netplan(&line("{dhcp4: true}"), "ens3").unwrap().1, [""; 0]);
        assert!(netplan(&line("{addresses: [192.0.2.7/24]}"), "ens3").is_err());
        assert!(netplan("network: {ethernets: {ens3: {addresses: [192.0.2.7/24]}}}\n", "ens3").is_err());
        assert!(netplan(&line("&a {dhcp4: true}"), "ens3").is_err());
    }
}
