//! Adapters that keep the kernel's own names (`eth0`, `eth1`): the kernel gives these out in the order in which it finds the cards,
//! and one that has the name of another cannot be renamed to it. A service takes the names away and gives them out anew.

use super::Edits;

/// The script and its service.
const SCRIPT: &str = "/usr/local/lib/reformis/adapter-names";
const UNIT: &str = "reformis-adapter-names.service";

/// Whether the kernel gives such names out itself.
fn is_kernels(name: &str) -> bool {
    name.strip_prefix("eth").is_some_and(|rest| !rest.is_empty() && rest.bytes().all(|byte| byte.is_ascii_digit()))
}

impl Edits<'_, '_> {
    /// Makes the service for these names and addresses, where an adapter could have the name that another one is to get.
    pub(super) fn keep_order(&mut self, pairs: &[(String, String)], changes: &mut Vec<String>) -> crate::Result<()> {
        let pairs: Vec<&(String, String)> = pairs.iter().filter(|(name, _)| is_kernels(name)).collect();
        if pairs.is_empty() || self.work.hardware.adapters.len() < 2 || !self.system.has_systemd() {
            return Ok(());
        }
        let list: String = pairs.iter().map(|(name, mac)| format!(" {mac}={name}")).collect();
        let script = format!(
            "#!/bin/sh\n\
             # Gives each adapter the name that this system's configuration has for it, also where another one has it.\n\
             pairs=\"{}\"\n\
             for pair in $pairs; do\n\
             \x20   for path in /sys/class/net/*; do\n\
             \x20       now=${{path##*/}}\n\
             \x20       if [ -e \"$path/device\" ] && [ \"$(cat \"$path/address\")\" = \"${{pair%=*}}\" ] && [ \"$now\" != \"${{pair#*=}}\" ]; then\n\
             \x20           ip link set dev \"$now\" down\n\
             \x20           ip link set dev \"$now\" name \"keep-${{pair#*=}}\"\n\
             \x20       fi\n\
             \x20   done\n\
             done\n\
             for pair in $pairs; do\n\
             \x20   name=${{pair#*=}}\n\
             \x20   [ -e \"/sys/class/net/keep-$name\" ] || continue\n\
             \x20   # Whoever has it and is not spoken of gets the first that is free.\n\
             \x20   if [ -e \"/sys/class/net/$name\" ]; then\n\
             \x20       free=0\n\
             \x20       while [ -e \"/sys/class/net/eth$free\" ] || echo \"$pairs \" | grep -q \"=eth$free \"; do free=$((free + 1)); done\n\
             \x20       ip link set dev \"$name\" down\n\
             \x20       ip link set dev \"$name\" name \"eth$free\"\n\
             \x20   fi\n\
             \x20   ip link set dev \"keep-$name\" name \"$name\"\n\
             done\n\
             exit 0\n",
            list.trim_start()
        );
        let unit = format!(
            "[Unit]\nDescription=Names of adapters after the move\nDefaultDependencies=no\n\
             Wants=network-pre.target systemd-udev-settle.service\nAfter=systemd-udev-settle.service local-fs.target\n\
             Before=network-pre.target\n\n\
             [Service]\nType=oneshot\nRemainAfterExit=yes\nExecStart=/bin/sh {SCRIPT}\n\n\
             [Install]\nWantedBy=multi-user.target\n"
        );
        let tree = &mut self.system.tree;
        let known = tree.text(SCRIPT);
        if known.as_ref() == Some(&script) {
            return Ok(());
        }
        tree.make_folders("/usr/local/lib/reformis")?;
        tree.write_as(SCRIPT, script.as_bytes(), 0o755)?;
        tree.write(format!("/etc/systemd/system/{UNIT}"), unit.as_bytes())?;
        tree.make_folders("/etc/systemd/system/multi-user.target.wants")?;
        let wanted = format!("/etc/systemd/system/multi-user.target.wants/{UNIT}");
        tree.link(wanted, format!("/etc/systemd/system/{UNIT}"))?;
        let names: Vec<&str> = pairs.iter().map(|(name, _)| name.as_str()).collect();
        changes.push(format!("{} cannot go to another adapter when the system starts", names.join(", ")));
        Ok(())
    }
}
