//! A cloud that speaks the cloud protocol (`docs/cloud-protocol.md`): checks, imports, images, instances.

use reformis_disk::{ByteSize, Result};
use serde::Deserialize;
use serde_json::json;

use super::{Instance, Kind, Outcome, Refusal, Task, Then, Wish};
use crate::{
    fault::Fault,
    service::{Service, name_in_path, parse},
    wires::{Wires, link},
};

/// The most refusals that are told.
const MANY: usize = 100;

/// What a cloud says of itself.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
struct About {
    region: Option<String>,
    role: Role,
    rules: Rules,
    quota: Option<Quota>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
struct Role {
    name: String,
    grants: Vec<String>,
    missing: Vec<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "kebab-case", default)]
struct Rules {
    shapes: Vec<String>,
    firmware: Vec<String>,
    size_multiple: Option<u64>,
    largest_disk: Option<u64>,
}

#[derive(Debug, Deserialize)]
struct Quota {
    bytes: u64,
    used: u64,
}

#[derive(Deserialize)]
struct Checked {
    refusals: Vec<Refusal>,
}

/// The state of an import.
#[derive(Deserialize)]
pub(super) struct Import {
    import: String,
    state: String,
    #[serde(default)]
    done: u64,
    #[serde(default)]
    of: u64,
    image: Option<String>,
    fault: Option<Refusal>,
}

impl Import {
    /// What it says, if that is sound.
    pub(super) fn task(self) -> Result<Task, Fault> {
        let outcome = match (self.state.as_str(), self.image) {
            ("waiting" | "running", _) => None,
            ("done", Some(image)) if !image.is_empty() => Some(Outcome::Image(image)),
            ("done", _) => return Err(Fault::protocol("an import is done, and names no image")),
            ("failed" | "ended", _) => {
                let ended = || Refusal { sentence: format!("the import is {}", self.state), ..Refusal::default() };
                Some(Outcome::Failed(self.fault.unwrap_or_else(ended)))
            }
            (other, _) => return Err(Fault::protocol(format!("an import is '{other}', which is no state"))),
        };
        if matches!(self.import.as_str(), "" | "." | "..") || self.import.len() > 200 {
            return Err(Fault::protocol("an import has no sound name"));
        }
        Ok(Task { id: self.import, done: self.done.min(self.of), of: self.of, outcome })
    }
}

/// `instance`, if its state is one that there is.
pub(super) fn sound(instance: Instance) -> Result<Instance, Fault> {
    match instance.state.as_str() {
        "stopped" | "starting" | "running" | "failed" => Ok(instance),
        other => Err(Fault::protocol(format!("an instance is '{other}', which is no state"))),
    }
}

/// A cloud at a link.
pub(super) struct Importer {
    service: Service,
}

impl Importer {
    pub(super) fn new(wires: &Wires, at: &str) -> Result<Self> {
        Ok(Self { service: Service::new(wires, &link(at)?) })
    }
}

impl Kind for Importer {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let about: About = self.service.ask("GET", "/v1/cloud", "")?;
        let mut lines = Vec::new();
        lines.extend(about.region.map(|region| format!("the region is {region}")));
        let Role { name, grants, missing } = about.role;
        lines.push(match missing.is_empty() {
            true => format!("our role is {name}: {}", grants.join(", ")),
            false => format!("our role is {name}, and it lacks {}", missing.join(", ")),
        });
        let Rules { shapes, firmware, size_multiple, largest_disk } = about.rules;
        lines.push(format!("it takes {} with {}", shapes.join(", "), firmware.join(", ")));
        lines.extend(size_multiple.map(|size| format!("a disk is a multiple of {}", ByteSize(size))));
        lines.extend(largest_disk.map(|size| format!("the largest disk has {}", ByteSize(size))));
        lines.extend(about.quota.map(|quota| {
            let left = quota.bytes.saturating_sub(quota.used);
            format!("{} of {} are free", ByteSize(left), ByteSize(quota.bytes))
        }));
        Ok(lines)
    }

    fn check(&self, wish: &Wish) -> Result<Vec<Refusal>, Fault> {
        let checked: Checked = self.service.ask("POST", "/v1/checks", &json!(wish).to_string())?;
        Ok(checked.refusals.into_iter().take(MANY).collect())
    }

    fn begin(&self, wish: &Wish, key: &str) -> Result<Task, Fault> {
        let body = json!(wish).to_string();
        let import: Import = self.service.ask_once("POST", "/v1/imports", &body, Some(key))?;
        import.task()
    }

    fn task(&self, id: &str) -> Result<Task, Fault> {
        let import: Import = self.service.ask("GET", &format!("/v1/imports/{}", name_in_path(id)), "")?;
        import.task()
    }

    fn make(&self, wish: &Wish, image: &str, key: &str) -> Result<Option<Instance>, Fault> {
        let machine = wish.launch.get("machine");
        let start = wish.then == Then::Started;
        let body = json!({ "name": wish.name, "image": image, "start": start, "machine": machine }).to_string();
        sound(self.service.ask_once("POST", "/v1/instances", &body, Some(key))?).map(Some)
    }

    fn instance(&self, instance: &Instance) -> Result<Option<Instance>, Fault> {
        sound(self.service.ask("GET", &format!("/v1/instances/{}", name_in_path(&instance.name)), "")?).map(Some)
    }
}

/// Reads `bytes` as each of the protocol's answers, as a fuzzer does.
pub fn read_cloud_answers(bytes: &[u8]) -> usize {
    let found = [
        parse::<About>(bytes).is_ok(),
        parse::<Checked>(bytes).is_ok_and(|checked| checked.refusals.iter().all(|refusal| !refusal.whole().is_empty())),
        parse::<Import>(bytes).is_ok_and(|import| import.task().is_ok()),
        parse::<Instance>(bytes).is_ok_and(|instance| sound(instance).is_ok()),
    ];
    found.into_iter().filter(|found| *found).count()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn states_are_those_of_the_protocol() {
        let task = |text: &str| parse::<Import>(text.as_bytes()).and_then(Import::task);
        let running = task(r#"{"import": "i-1", "state": "running", "done": 9, "of": 4}"#).unwrap();
        assert_eq!(running, Task { id: "i-1".into(), done: 4, of: 4, outcome: None });
        let done = task(r#"{"import": "i-1", "state": "done", "image": "m-1"}"#).unwrap();
        assert_eq!(done.outcome, Some(Outcome::Image("m-1".into())));
        let fault = r#"{"import": "i-1", "state": "failed", "fault": {"code": "grant", "grant": "images.make"}}"#;
        let Some(Outcome::Failed(refusal)) = task(fault).unwrap().outcome else { panic!("it failed") };
        assert_eq!(refusal.whole(), "grant (the grant 'images.make' is missing)");
        for wrong in [
            r#"{"import": "i-1", "state": "done"}"#,
            r#"{"import": "i-1", "state": "ready"}"#,
            r#"{"import": "", "state": "running"}"#,
            r#"{"import": "..", "state": "running"}"#,
            "[]",
        ] {
            assert!(matches!(task(wrong), Err(Fault::Fatal(..))), "{wrong}");
        }
    }
}
