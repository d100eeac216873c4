//! The edit `first-boot`: scripts that run once when the guest starts, leave a log, and are gone afterwards.

use super::Edits;
use crate::{error::Error, fs::tree::Tree, refit::work::Changes, system::linux::Linux};

const FOLDER: &str = "/usr/local/lib/reformis/first-boot";
const RUNNER: &str = "/usr/local/lib/reformis/run-first-boot";
const UNIT: &str = "reformis-first-boot.service";
const LOG: &str = "/var/log/reformis-first-boot.log";

impl Edits<'_, '_> {
    pub(crate) fn first_boot(&mut self) -> Changes {
        // Of several systems, the first is the one that is meant.
        if self.work.wishes.first_boot.is_empty() || !self.work.is_first {
            return Ok(Vec::new());
        }
        let mut changes = Vec::new();
        for (number, (name, bytes)) in self.work.wishes.first_boot.iter().enumerate() {
            let safe: String =
                name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '-' }).collect();
            schedule(self.system, &format!("{:02}-{safe}", number + 10), bytes)?;
            changes.push(format!("{name} runs once; its output goes to {LOG}"));
        }
        Ok(changes)
    }
}

/// Puts a script where it runs once, and makes what runs it.
pub(super) fn schedule(system: &mut Linux, name: &str, script: &[u8]) -> crate::Result<()> {
    if !system.has_systemd() {
        let what = "scripts of the first start need systemd".into();
        return Err(Error::Unsupported { volume: system.release.name.clone(), action: "changed", what });
    }
    let tree = &mut system.tree;
    tree.make_folders(FOLDER)?;
    tree.write_as(format!("{FOLDER}/{name}"), script, 0o755)?;
    if !tree.exists(RUNNER) {
        runner(tree)?;
    }
    Ok(())
}

fn runner(tree: &mut Tree) -> crate::Result<()> {
    let script = format!(
        "#!/bin/sh\n\
         # Runs each script of the first start after the move, then removes them, the service, and itself.\n\
         exec >>{LOG} 2>&1\n\
         for script in {FOLDER}/*; do\n\
         \x20   echo \"== $(date -u +%FT%TZ) $script\"\n\
         \x20   \"$script\"\n\
         \x20   echo \"== exit $?\"\n\
         \x20   rm -f \"$script\"\n\
         \x20   sync\n\
         done\n\
         rm -f /etc/systemd/system/multi-user.target.wants/{UNIT} /etc/systemd/system/{UNIT} {RUNNER}\n\
         rmdir {FOLDER} /usr/local/lib/reformis 2>/dev/null\n\
         exit 0\n"
    );
    tree.write_as(RUNNER, script.as_bytes(), 0o755)?;
    let unit = format!(
        "[Unit]\nDescription=Scripts of the first start after the move\nConditionPathExists={RUNNER}\n\
         After=local-fs.target\nBefore=ssh.service sshd.service\n\n\
         [Service]\nType=oneshot\nExecStart={RUNNER}\n\n[Install]\nWantedBy=multi-user.target\n"
    );
    tree.write(format!("/etc/systemd/system/{UNIT}"), unit.as_bytes())?;
    tree.make_folders("/etc/systemd/system/multi-user.target.wants")?;
    tree.link(format!("/etc/systemd/system/multi-user.target.wants/{UNIT}"), format!("/etc/systemd/system/{UNIT}"))
}
