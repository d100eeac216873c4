//! The edits `disks`, `clock` and `remote-login`: settings that another host may need otherwise.

use super::Edits;
use crate::{formats::hive::Data, refit::work::Changes, system::nt::start::boot_sets};

/// All disks come online, whatever bus they are on (`SAN_POLICY`).
const ALL_ONLINE: u32 = 1;

impl Edits<'_, '_> {
    /// The edit `disks`: a server leaves disks on a bus that is new to it offline; those that come along are its own.
    pub(crate) fn disks(&mut self) -> Changes {
        let version = &self.system.facts.version;
        let is_server = version.installation.as_deref().is_some_and(|kind| kind.to_lowercase().starts_with("server"));
        if !is_server || self.work.hardware.unchanged || self.work.hardware.disks.iter().flatten().count() < 2 {
            return Ok(Vec::new());
        }
        self.change("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                let key = format!("{set}\\Services\\partmgr\\Parameters");
                hive.set(&key, "SanPolicy", &Data::Number(ALL_ONLINE))?;
            }
            Ok(())
        })
    }

    /// The edit `remote-login`: remote desktops are let in, by the system and by its own firewall.
    pub(crate) fn remote_login(&mut self) -> Changes {
        if !self.work.hardware.rules.remote_login || !self.work.is_first {
            return Ok(Vec::new());
        }
        self.change("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                let server = format!("{set}\\Control\\Terminal Server");
                if hive.number(&server, "fDenyTSConnections")?.is_some_and(|denied| denied != 0) {
                    hive.set(&server, "fDenyTSConnections", &Data::Number(0))?;
                }
                let rules = format!("{set}\\Services\\SharedAccess\\Parameters\\FirewallPolicy\\FirewallRules");
                let Some(key) = hive.find(&rules)? else { continue };
                for value in hive.values(key)?.into_iter().filter(|value| value.name.starts_with("RemoteDesktop-")) {
                    let Some(rule) = value.data().into_text() else { continue };
                    if rule.contains("|Active=FALSE|") {
                        let active = rule.replace("|Active=FALSE|", "|Active=TRUE|");
                        hive.set(&rules, &value.name, &Data::Text(active))?;
                    }
                }
            }
            Ok(())
        })
    }

    /// The edit `clock`: the system is told whether the machine's clock shows local or universal time.
    pub(crate) fn clock(&mut self) -> Changes {
        let is_universal = self.system.facts.settings.clock_is_universal;
        let Some(is_local) = self.work.hardware.has_local_clock.filter(|is_local| *is_local == is_universal) else {
            return Ok(Vec::new());
        };
        self.change("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                let key = format!("{set}\\Control\\TimeZoneInformation");
                if is_local {
                    hive.unset(&key, "RealTimeIsUniversal")?;
                } else {
                    hive.set(&key, "RealTimeIsUniversal", &Data::Number(1))?;
                }
            }
            Ok(())
        })
    }
}
