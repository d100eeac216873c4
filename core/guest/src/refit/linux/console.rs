//! The edit `console`: the kernel writes to the serial port that the new host shows, and offers a login there.

use super::Edits;
use crate::{error::Error, refit::work::Changes, system::linux::loader};

/// What keeps the screen, where nothing was said before.
const SCREEN: &str = "console=tty0";

impl Edits<'_, '_> {
    pub(crate) fn console(&mut self) -> Changes {
        let Some(port) = self.work.hardware.rules.serial_console.clone() else { return Ok(Vec::new()) };
        let wanted = format!("console={port}");
        let has = |parameters: &str| {
            let device = |word: &str| word.split(',').next().unwrap_or_default().to_string();
            parameters.split_whitespace().any(|word| device(word) == device(&wanted))
        };
        let entries = &self.system.entries;
        if entries.iter().all(|entry| has(&entry.parameters)) {
            return Ok(Vec::new());
        }
        let mut files: Vec<String> = Vec::new();
        for entry in entries.iter().filter(|entry| !entry.is_unified && !has(&entry.parameters)) {
            if !files.contains(&entry.file) {
                files.push(entry.file.clone());
            }
        }
        if files.is_empty() {
            let what = "its kernels and their parameters are sealed in one file each".into();
            return Err(Error::Unsupported { volume: self.system.release.name.clone(), action: "changed", what });
        }
        files.extend(loader::defaults(&self.system.tree));
        let mut changes = Vec::new();
        for path in files {
            let Some(text) = self.system.tree.text(&path) else { continue };
            let new = with_console(&path, &text, &wanted);
            if new != text {
                self.system.tree.set_text(&path, &new)?;
                changes.push(format!("{path}: the kernel writes to {port} too"));
            }
        }
        Ok(changes)
    }
}

/// `text` of the file at `path`, in which every list of a kernel's parameters has `wanted`.
#[expect(clippy::string_slice, reason = "cut before ASCII that was seen there")]
pub(crate) fn with_console(path: &str, text: &str, wanted: &str) -> String {
    let device = wanted.split(',').next().unwrap_or(wanted);
    let lines = text.split_inclusive('\n').map(|line| {
        let (body, end) = match line.trim_end_matches(['\n', '\r']) {
            body if body.len() < line.len() => (body, &line[body.len()..]),
            body => (body, ""),
        };
        let trimmed = body.trim_start();
        let word = trimmed.split(char::is_whitespace).next().unwrap_or_default();
        let is_list = match path {
            "/etc/kernel/cmdline" => !trimmed.is_empty() && !trimmed.starts_with('#'),
            _ => matches!(word.to_ascii_lowercase().as_str(), "linux" | "linux16" | "linuxefi" | "options" | "append"),
        };
        // The line of an entry file that names the kernel has no parameters.
        let is_kernel = path.contains("/loader/entries/") && word == "linux";
        let is_default = ["GRUB_CMDLINE_LINUX=", "EXTLINUX_PARAMETERS="].iter().any(|key| trimmed.starts_with(key));
        let has = body.split(|c: char| c.is_whitespace() || ['"', '\''].contains(&c)).any(|parameter| {
            parameter == device || parameter.strip_prefix(device).is_some_and(|rest| rest.starts_with(','))
        });
        if has || is_kernel || !(is_list || is_default) {
            return line.to_string();
        }
        let wanted = if body.contains("console=") { wanted.to_string() } else { format!("{SCREEN} {wanted}") };
        match body.trim_end().strip_suffix(['"', '\'']).filter(|_| is_default) {
            Some(inner) => {
                let gap = if inner.ends_with(['"', '\'', '=', ' ']) { "" } else { " " };
                format!("{inner}{gap}{wanted}{}{end}", &body.trim_end()[inner.len()..])
            }
            // A default without quotes is one word.
            None if is_default => {
                let (key, value) = body.split_once('=').unwrap_or((body, ""));
                let gap = if value.is_empty() { "" } else { " " };
                format!("{key}=\"{value}{gap}{wanted}\"{end}")
            }
            None => format!("{} {wanted}{end}", body.trim_end()),
        }
    });
    lines.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_list_of_parameters_has_it_once() {
        let wanted = "console=ttyS0,115200";
        let both = format!("console=tty0 {wanted}");
        for (path, before, after) in [
            (
                "/boot/grub/grub.cfg",
                "menuentry 'a' {\n\tlinux /vmlinuz root=UUID=1 ro quiet\n\tinitrd /i\n}\n\tlinux /v console=hvc0",
                format!(
                    "menuentry 'a' {{\n\tlinux /vmlinuz root=UUID=1 ro quiet {both}\n\tinitrd /i\n}}\n\tlinux /v console=hvc0 {wanted}"
                ),
            ),
            ("/boot/grub/grub.cfg", "linux /v console=ttyS0,9600n8 ro\n", "linux /v console=ttyS0,9600n8 ro\n".into()),
            ("/boot/grub/grub.cfg", "linux /v console=ttyS01 ro\n", format!("linux /v console=ttyS01 ro {wanted}\n")),
            (
                "/boot/loader/entries/a.conf",
                "title a\nlinux /v\noptions root=/dev/a $kernelopts\n",
                format!("title a\nlinux /v\noptions root=/dev/a $kernelopts {both}\n"),
            ),
            (
                "/etc/default/grub",
                "GRUB_CMDLINE_LINUX_DEFAULT=\"quiet\"\nGRUB_CMDLINE_LINUX=\"\"\n",
                format!("GRUB_CMDLINE_LINUX_DEFAULT=\"quiet\"\nGRUB_CMDLINE_LINUX=\"{both}\"\n"),
            ),
            ("/etc/default/grub", "GRUB_CMDLINE_LINUX='ro'\n", format!("GRUB_CMDLINE_LINUX='ro {both}'\n")),
            ("/etc/default/grub", "GRUB_CMDLINE_LINUX=ro\n", format!("GRUB_CMDLINE_LINUX=\"ro {both}\"\n")),
            ("/etc/kernel/cmdline", "root=UUID=1 ro\n", format!("root=UUID=1 ro {both}\n")),
            ("/boot/extlinux/extlinux.conf", "LABEL a\n  APPEND ro\n", format!("LABEL a\n  APPEND ro {both}\n")),
        ] {
            assert_eq!(with_console(path, before, wanted), after, "{path}");
            assert_eq!(with_console(path, &after, wanted), after, "{path}: once");
        }
    }
}
