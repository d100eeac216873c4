//! The edit `helpers`: services, filters and tray programs of the old host stay quiet; the new host's agent is installed on the first
//! start where a medium has it.

use super::{
    Edits,
    first_start::LOG,
    script::{Script, quoted},
};
use crate::{
    error::Result,
    formats::hive::{Data, Hive},
    refit::work::Changes,
    system::nt::{
        FIRST_START_FOLDER as FOLDER,
        filters::{CLASSES, VALUES},
        start::{at, boot_sets},
        tray_program,
    },
};

/// Where programs that start with a session are named.
const RUN: [&str; 2] =
    ["Microsoft\\Windows\\CurrentVersion\\Run", "Wow6432Node\\Microsoft\\Windows\\CurrentVersion\\Run"];

impl Edits<'_, '_> {
    pub(crate) fn helpers(&mut self) -> Changes {
        if self.work.hardware.unchanged {
            return Ok(Vec::new());
        }
        // A host without helpers of its own wants none of another's.
        let host = self.work.hardware.host.clone().unwrap_or_default();
        let all = self.system.facts.settings.helpers.iter();
        let helpers = all.filter(|helper| helper.host != host && !helper.is_in_box);
        let old: Vec<String> = helpers.map(|helper| helper.service.clone()).collect();
        let mut changes = self.change("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                // Out of the filters first: a device whose filter does not start does not start either.
                without_filters(hive, &set, &old)?;
                for service in &old {
                    let key = format!("{set}\\Services\\{service}");
                    if hive.number(&key, "Start")?.is_some_and(|start| start != at::DISABLED) {
                        hive.set(&key, "Start", &Data::Number(at::DISABLED))?;
                    }
                }
            }
            Ok(())
        })?;
        if self.system.tree.exists(crate::system::nt::hives::path("SOFTWARE")) {
            changes.extend(self.change("SOFTWARE", |hive| {
                for path in RUN {
                    let Some(key) = hive.find(path)? else { continue };
                    let is_old =
                        |data: Data| data.into_text().and_then(|text| tray_program(&text)).is_some_and(|of| of != host);
                    let values = hive.values(key)?.into_iter();
                    let named: Vec<String> =
                        values.filter(|value| is_old(value.data())).map(|value| value.name).collect();
                    for name in named {
                        hive.unset(path, &name)?;
                    }
                }
                Ok(())
            })?);
        }
        changes.extend(self.agent()?);
        Ok(changes)
    }

    /// The new host's agent, where a medium has its installer for this processor.
    fn agent(&mut self) -> Changes {
        let (wishes, hardware) = (self.work.wishes, self.work.hardware);
        let Some(library) = &wishes.drivers else { return Ok(Vec::new()) };
        let machine = self.target()?.machine;
        let fits = |name: &&String| {
            let name = name.to_lowercase();
            let is_64 = ["x86_64", "amd64", "x64"].iter().any(|word| name.contains(word));
            let is_32 = !is_64 && ["i386", "x86", "x32"].iter().any(|word| name.contains(word));
            if machine == "amd64" { !is_32 } else { machine == "x86" && !is_64 }
        };
        let found = hardware.agents.iter().filter(fits).find_map(|name| Some((name, library.named(name)?)));
        let Some((name, (path, bytes))) = found else { return Ok(Vec::new()) };
        let Some(word) = quoted(name).filter(|_| crate::system::nt::drivers::is_plain(name)) else {
            return Ok(Vec::new());
        };
        self.put(&format!("{FOLDER}/agent/{name}"), &bytes?)?;
        let mut script = Script::new("Installs the agent of the new host.");
        let file = word.trim_matches('"');
        script.install("the agent", &format!("msiexec /i \"%~dp0agent\\{file}\" /qn /norestart"));
        let changed = self.schedule("30-agent.cmd", &script.finish())?;
        Ok(changed.then(|| format!("{path} is installed on the first start; see {LOG}")).into_iter().collect())
    }
}

/// Takes services out of the filters of all classes of a control set.
fn without_filters(hive: &mut Hive, set: &str, services: &[String]) -> Result<()> {
    let class = format!("{set}\\Control\\Class");
    let Some(key) = hive.find(&class)? else { return Ok(()) };
    let classes: Vec<String> = hive.keys(key)?.into_iter().map(|(name, _)| name).take(CLASSES).collect();
    for name in classes {
        for value in VALUES {
            let path = format!("{class}\\{name}");
            let Some(Data::Texts(filters)) = hive.data(&path, value)? else { continue };
            let is_old = |filter: &String| services.iter().any(|service| service.eq_ignore_ascii_case(filter));
            let kept: Vec<String> = filters.iter().filter(|filter| !is_old(filter)).cloned().collect();
            if kept.is_empty() && !filters.is_empty() {
                hive.unset(&path, value)?;
            } else if kept.len() < filters.len() {
                hive.set(&path, value, &Data::Texts(kept))?;
            }
        }
    }
    Ok(())
}
