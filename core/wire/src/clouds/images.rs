//! An image service as a cloud: what lies there already gets its name and its properties.

use serde_json::{Value, json};

use super::{Instance, Kind, Outcome, Refusal, Task, Then, Wish};
use crate::{fault::Fault, images::Images};

/// An image service.
pub(super) struct ImageService {
    pub(super) images: Images,
    /// Its link, which those of objects begin with.
    pub(super) at: String,
}

/// The text at `pointer` of `value`.
fn text<'v>(value: &'v Value, pointer: &str) -> &'v str {
    value.pointer(pointer).and_then(Value::as_str).unwrap_or_default()
}

/// The properties of the image of the disk of number `index`, by which the service's machines are made.
fn properties(wish: &Wish, index: usize) -> Vec<(&'static str, Value)> {
    let machine = wish.launch.get("machine").unwrap_or(&Value::Null);
    let size = wish.launch.pointer(&format!("/images/{index}/size")).and_then(Value::as_u64).unwrap_or(0);
    let memory = machine.get("memory").and_then(Value::as_u64).unwrap_or(0);
    let name = if index == 0 { wish.name.clone() } else { format!("{}-{index}", wish.name) };
    let mut values = vec![("name", json!(name)), ("min_disk", json!(size.div_ceil(1 << 30)))];
    if index > 0 {
        return values;
    }
    values.push(("min_ram", json!(memory.div_ceil(1 << 20))));
    values.push(("hw_firmware_type", json!(text(machine, "/firmware/kind"))));
    if machine.pointer("/firmware/secure_boot") == Some(&Value::Bool(true)) {
        values.push(("os_secure_boot", json!("required")));
    }
    match text(machine, "/disks/0/controller") {
        "virtio-scsi" => {
            values.push(("hw_disk_bus", json!("scsi")));
            values.push(("hw_scsi_model", json!("virtio-scsi")));
        }
        "virtio-blk" => values.push(("hw_disk_bus", json!("virtio"))),
        "ahci" => values.push(("hw_disk_bus", json!("sata"))),
        "ide" => values.push(("hw_disk_bus", json!("ide"))),
        _ => {}
    }
    match text(machine, "/adapters/0/model") {
        "virtio-net" => values.push(("hw_vif_model", json!("virtio"))),
        known @ ("e1000" | "e1000e" | "vmxnet3") => values.push(("hw_vif_model", json!(known))),
        _ => {}
    }
    values
}

impl Kind for ImageService {
    fn about(&self) -> Result<Vec<String>, Fault> {
        let ours = self.images.ours()?;
        Ok(vec![
            "it takes each disk in one stream, in its own format, and makes images of them, not instances".into(),
            format!("{} of its images are ours", ours.len()),
        ])
    }

    fn check(&self, wish: &Wish) -> Result<Vec<Refusal>, Fault> {
        let mut refusals = Vec::new();
        let mut refuse = |code: &str, sentence: String, remedy: &str| {
            refusals.push(Refusal { code: code.into(), sentence, remedy: Some(remedy.into()), grant: None });
        };
        if wish.then != Then::Image {
            refuse("no-instances", "it makes images, and no instances".into(), "say then = \"image\" (--then image)");
        }
        let images = wish.launch.get("images").and_then(Value::as_array).map_or(&[][..], Vec::as_slice);
        if let Some(packed) = images.iter().map(|image| text(image, "/compression")).find(|packed| !packed.is_empty()) {
            let sentence = format!("it does not unpack {packed}");
            refuse("shape", sentence, "leave compress away, or take qcow2/thin (--shape qcow2/thin)");
        }
        if self.images.has_name(&wish.name)? {
            refuse("taken", format!("there is an image '{}'", wish.name), "choose another name, or remove it there");
        }
        Ok(refusals)
    }

    fn begin(&self, wish: &Wish, _: &str) -> Result<Task, Fault> {
        let mut first = None;
        for (index, object) in wish.objects.iter().enumerate() {
            let file = object.at.strip_prefix(self.at.trim_end_matches('/')).unwrap_or_default();
            let file = file.trim_start_matches('/');
            let image = self.images.of_file(file)?.into_iter().find(|image| image.status == "active");
            let image = image.ok_or_else(|| Fault::protocol("the image that was sent is not there"))?;
            self.images.set(&image.id, &properties(wish, index))?;
            first.get_or_insert(image.id);
        }
        let id = first.ok_or_else(|| Fault::protocol("there are no disks"))?;
        Ok(Task { id: id.clone(), done: 1, of: 1, outcome: Some(Outcome::Image(id)) })
    }

    fn task(&self, id: &str) -> Result<Task, Fault> {
        let image = self.images.get(id)?;
        Ok(Task { id: id.into(), done: 1, of: 1, outcome: Some(Outcome::Image(image.id)) })
    }

    fn make(&self, _: &Wish, _: &str, _: &str) -> Result<Option<Instance>, Fault> {
        Ok(None)
    }

    fn instance(&self, _: &Instance) -> Result<Option<Instance>, Fault> {
        Ok(None)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn properties_say_what_the_machine_is() {
        let launch = json!({
            "machine": {
                "memory": 512 << 20, "firmware": { "kind": "uefi", "secure_boot": true },
                "disks": [{ "controller": "virtio-scsi" }], "adapters": [{ "model": "virtio-net" }],
            },
            "images": [{ "size": (3u64 << 30) + 1 }, { "size": 1 << 30 }],
        });
        let wish =
            Wish { name: "ledger".into(), then: Then::Image, objects: Vec::new(), launch, trial: None, seed: None };
        let found = json!(properties(&wish, 0).into_iter().collect::<std::collections::BTreeMap<_, _>>());
        let expected = json!({
            "name": "ledger", "min_disk": 4, "min_ram": 512, "hw_firmware_type": "uefi", "os_secure_boot": "required",
            "hw_disk_bus": "scsi", "hw_scsi_model": "virtio-scsi", "hw_vif_model": "virtio",
        });
        assert_eq!(found, expected);
        assert_eq!(properties(&wish, 1), [("name", json!("ledger-1")), ("min_disk", json!(1))]);
    }
}
