//! Files of lines: ifupdown's, systemd-networkd's, NetworkManager's keyfiles, and `ifcfg-NAME`. Each function gives the text in which
//! the adapter asks for its address, and the addresses that it had: none where there is nothing to change.

/// A text, and the addresses that are left out of it.
type Made = (String, Vec<String>);

/// The value behind a key.
fn value(line: &str) -> String {
    let value = line.split_once('=').map_or("", |(_, value)| value);
    value.trim().trim_matches(['"', '\'']).split([',', ';']).next().unwrap_or_default().to_string()
}

/// Debian's ifupdown (`interfaces(5)`): stanzas `iface NAME FAMILY METHOD`.
pub(super) fn interfaces(text: &str, name: &str) -> Made {
    let (mut new, mut left, mut inside) = (String::new(), Vec::new(), false);
    for line in text.split_inclusive('\n') {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words[..] {
            ["iface", adapter, family, "static", ..] if adapter == name => {
                inside = true;
                let method = if family == "inet6" { "auto" } else { "dhcp" };
                // The word stands behind the family; a name may be the same.
                let (head, tail) = line.rsplit_once("static").unwrap_or((line, ""));
                new += &format!("{head}{method}{tail}");
                continue;
            }
            ["iface" | "auto" | "mapping" | "source" | "source-directory" | "rename" | "no-auto-down", ..] => {
                inside = false;
            }
            [word, ..] if word.starts_with("allow-") => inside = false,
            ["address", address, ..] if inside => {
                left.push(address.to_string());
                continue;
            }
            [
                "netmask" | "gateway" | "network" | "broadcast" | "pointopoint" | "dns-nameservers" | "dns-nameserver",
                ..,
            ] if inside => {
                continue;
            }
            _ => {}
        }
        new += line;
    }
    (new, left)
}

/// `ifcfg-NAME` of network-scripts.
pub(super) fn ifcfg(text: &str) -> Made {
    const DROPPED: [&str; 8] =
        ["NETMASK", "PREFIX", "GATEWAY", "NETWORK", "BROADCAST", "IPV6ADDR", "IPV6_DEFAULTGW", "DNS"];
    let mut left = Vec::new();
    let numbered = |key: &str, stem: &str| {
        key.strip_prefix(stem).is_some_and(|rest| rest.bytes().all(|byte| byte.is_ascii_digit()))
    };
    let kept = text.split_inclusive('\n').filter(|line| {
        let key = line.trim_start().split('=').next().unwrap_or_default();
        if numbered(key, "IPADDR") {
            left.push(value(line));
            return false;
        }
        !DROPPED.iter().any(|stem| numbered(key, stem)) && key != "BOOTPROTO"
    });
    let mut new: String = kept.collect();
    if left.is_empty() {
        return (text.into(), left);
    }
    if !new.is_empty() && !new.ends_with('\n') {
        new.push('\n');
    }
    (new + "BOOTPROTO=dhcp\n", left)
}

/// A NetworkManager keyfile: `[ipv4]` and `[ipv6]` with `method=manual`.
pub(super) fn keyfile(text: &str) -> Made {
    let (mut new, mut left, mut inside) = (String::new(), Vec::new(), false);
    for line in text.split_inclusive('\n') {
        let trimmed = line.trim();
        let key = trimmed.split('=').next().unwrap_or_default().trim();
        if trimmed.starts_with('[') {
            inside = matches!(trimmed, "[ipv4]" | "[ipv6]");
        } else if inside && key == "method" && value(trimmed) == "manual" {
            new += "method=auto\n";
            continue;
        } else if inside && (key.starts_with("address") || key.starts_with("route") || matches!(key, "gateway" | "dns"))
        {
            if key.starts_with("address") {
                left.push(value(trimmed));
            }
            continue;
        }
        new += line;
    }
    (if left.is_empty() { text.into() } else { new }, left)
}

/// A `.network` file of systemd-networkd.
pub(super) fn networkd(text: &str) -> Made {
    let (mut new, mut left, mut section) = (String::new(), Vec::new(), String::new());
    for line in text.split_inclusive('\n') {
        let trimmed = line.trim();
        let key = trimmed.split('=').next().unwrap_or_default().trim();
        if trimmed.starts_with('[') {
            section = trimmed.into();
            if section == "[Network]" {
                new += line;
                new += if line.ends_with('\n') { "DHCP=yes\n" } else { "\nDHCP=yes\n" };
                continue;
            }
        }
        let of_network = section == "[Network]" && matches!(key, "Address" | "Gateway" | "DNS" | "DHCP");
        if key == "Address" && matches!(section.as_str(), "[Network]" | "[Address]") {
            left.push(value(trimmed));
        }
        if !of_network && !matches!(section.as_str(), "[Address]" | "[Route]") {
            new += line;
        }
    }
    (if left.is_empty() { text.into() } else { new }, left)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn interfaces_of_one_adapter_change() {
        let text = "auto lo static\niface lo inet loopback\niface static inet static\n\taddress 192.0.2.7/24\n\tgateway 192.0.2.1\n\tup true\n\nallow-hotplug tide\niface tide inet static\n\taddress 192.0.2.9/24\niface static inet6 static\n address 2001:db8::7/64\n";
        let (new, left) = interfaces(text, "static");
        assert_eq!(left, ["192.0.2.7/24", "2001:db8::7/64"]);
        let expected = "auto lo static\niface lo inet loopback\niface static inet dhcp\n\tup true\n\nallow-hotplug tide\niface tide inet static\n\taddress 192.0.2.9/24\niface static inet6 auto\n";
        assert_eq!(new, expected);
        assert_eq!(interfaces(&new, "static"), (expected.into(), Vec::new()));
    }

    #[test]
    fn files_of_sections_and_of_keys() {
        let text = "DEVICE=eth0\nBOOTPROTO=none\nIPADDR=\"192.0.2.7\"\nPREFIX0=24\nGATEWAY=192.0.2.1\nDNS1=192.0.2.1\nONBOOT=yes";
        let (new, left) = ifcfg(text);
        assert_eq!(
            (new.as_str(), left.as_slice()),
            ("DEVICE=eth0\nONBOOT=yes\nBOOTPROTO=dhcp\n", &["192.0.2.7".to_string()][..])
        );
        assert_eq!(ifcfg(&new).1, [""; 0]);
        let text = "[connection]\nid=shore\n\n[ipv4]\naddress1=192.0.2.7/24,192.0.2.1\ndns=192.0.2.1;\ndns-search=tide.example;\nmethod=manual\n\n[ipv6]\nmethod=disabled\n";
        let (new, left) = keyfile(text);
        assert_eq!(left, ["192.0.2.7/24"]);
        assert_eq!(
            new,
            "[connection]\nid=shore\n\n[ipv4]\ndns-search=tide.example;\nmethod=auto\n\n[ipv6]\nmethod=disabled\n"
        );
        let text = "[Match]\nName=ens3\n\n[Network]\nAddress=192.0.2.7/24\nDNS=192.0.2.1\nVLAN=tide\n\n[Route]\nGateway=192.0.2.1\n";
        let (new, left) = networkd(text);
        assert_eq!(left, ["192.0.2.7/24"]);
        assert_eq!(new, "[Match]\nName=ens3\n\n[Network]\nDHCP=yes\nVLAN=tide\n\n");
        let text = "[Match]\nName=ens3\n[Network]\nDHCP=yes\n";
        assert_eq!(networkd(text), (text.into(), Vec::new()));
    }
}
