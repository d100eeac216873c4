//! The edit `data-sources`: where cloud-init looks for what a host says at the first start (its documentation, "Datasources",
//! "Disable cloud-init"). At a host that says nothing it rests, when a cloud was what it listened to.

use super::Edits;
use crate::refit::work::Changes;

const FOLDER: &str = "/etc/cloud/cloud.cfg.d";
const OURS: &str = "/etc/cloud/cloud.cfg.d/95-reformis.cfg";
const RESTS: &str = "/etc/cloud/cloud-init.disabled";
/// What tells where it found something the last time.
const LAST: &str = "/var/lib/cloud/instance/datasource";
/// Sources that lie on a disk of the machine, or are none.
const LOCAL: [&str; 3] = ["NoCloud", "ConfigDrive", "None"];
/// The first line of whatever we write there.
const MARK: &str = "# Written by reformis";

impl Edits<'_, '_> {
    pub(crate) fn data_sources(&mut self) -> Changes {
        let rules = &self.work.hardware.rules;
        let tree = &mut self.system.tree;
        if !tree.exists("/etc/cloud/cloud.cfg") || self.work.hardware.unchanged {
            return Ok(Vec::new());
        }
        let is_ours = |text: Option<String>| text.is_some_and(|text| text.starts_with(MARK));
        let mut changes = Vec::new();
        if !rules.data_sources.is_empty() {
            let list = rules.data_sources.join(", ");
            // A machine that was moved is no new one: it keeps its name and its keys.
            let text = format!(
                "{MARK}: the sources that the host of this machine has.\ndatasource_list: [ {list} ]\npreserve_hostname: true\nssh_deletekeys: false\n"
            );
            if tree.text(OURS).as_deref() != Some(&text) {
                tree.make_folders(FOLDER)?;
                tree.write(OURS, text.as_bytes())?;
                changes.push(format!("cloud-init looks into {list}, and leaves name and keys as they are"));
            }
            if is_ours(tree.text(RESTS)) {
                tree.remove(RESTS)?;
                changes.push("cloud-init no longer rests".into());
            }
            return Ok(changes);
        }
        if rules.is_cloud {
            return Ok(changes);
        }
        if is_ours(tree.text(OURS)) {
            tree.remove(OURS)?;
            changes.push("cloud-init's list of sources is its own again".into());
        }
        let last = tree.text(LAST).unwrap_or_default();
        let source = last.split(':').next().unwrap_or_default().trim().trim_start_matches("DataSource").to_string();
        let is_far = !source.is_empty() && !LOCAL.iter().any(|local| source.starts_with(local));
        if is_far && !tree.exists(RESTS) {
            tree.write(RESTS, format!("{MARK}: the cloud of this machine stayed behind.\n").as_bytes())?;
            changes.push(format!("cloud-init rests: {source}, which it listened to, is not there any more"));
        }
        Ok(changes)
    }
}
