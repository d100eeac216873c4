//! What a cloud takes, and why it refuses.

use std::collections::BTreeSet;

use serde_json::{Value, json};

/// What a cloud takes.
#[derive(Debug, Clone)]
pub struct Rules {
    /// Shapes of disks, with what they are compressed in behind a plus.
    pub shapes: Vec<&'static str>,
    /// `bios`, `uefi`.
    pub firmware: Vec<&'static str>,
    /// Controllers that its machines have.
    pub controllers: Vec<&'static str>,
    /// Adapters that its machines have.
    pub adapters: Vec<&'static str>,
    /// Its networks.
    pub networks: Vec<&'static str>,
    /// A disk's size is a multiple of so many bytes.
    pub size_multiple: u64,
    /// The largest disk, in bytes.
    pub largest_disk: u64,
    /// All disks together may have so many bytes.
    pub quota: u64,
    /// Snapshots are given as fixed VHDs, and not as bare bytes.
    pub fixed_snapshots: bool,
}

impl Default for Rules {
    fn default() -> Self {
        Self {
            shapes: vec!["raw/thin", "raw/thin+gzip", "raw/full", "vhd/full", "vmdk/stream", "qcow2/thin"],
            firmware: vec!["bios", "uefi"],
            controllers: vec!["virtio-scsi", "virtio-blk", "nvme", "vmbus-scsi"],
            adapters: vec!["virtio-net", "ena", "vmbus-net"],
            networks: vec!["default"],
            size_multiple: 1 << 20,
            largest_disk: 2040 << 30,
            quota: 1 << 40,
            fixed_snapshots: false,
        }
    }
}

/// A refusal, as it is sent.
pub(super) fn refusal(code: &str, sentence: impl Into<String>, remedy: &str) -> Value {
    json!({ "code": code, "sentence": sentence.into(), "remedy": remedy })
}

/// A grant that is missing.
pub(super) fn lacks(grant: &str) -> Value {
    json!({
        "code": "grant", "grant": grant, "sentence": format!("the role may not {grant}"),
        "remedy": format!("have whoever keeps the cloud grant {grant} to the role importer"),
    })
}

/// The text at `pointer` of `value`.
pub(super) fn text<'v>(value: &'v Value, pointer: &str) -> &'v str {
    value.pointer(pointer).and_then(Value::as_str).unwrap_or_default()
}

/// The list at `pointer` of `value`.
pub(super) fn list<'v>(value: &'v Value, pointer: &str) -> &'v [Value] {
    value.pointer(pointer).and_then(Value::as_array).map_or(&[], Vec::as_slice)
}

/// The shape of an image of a launch JSON.
pub(super) fn shape(image: &Value) -> String {
    let plain = format!("{}/{}", text(image, "/format"), text(image, "/layout"));
    match text(image, "/compression") {
        "" => plain,
        packed => format!("{plain}+{packed}"),
    }
}

/// Whether `name` is one that an instance may have: it becomes a folder's.
pub(super) fn is_name(name: &str) -> bool {
    let plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '.' | '_');
    !name.is_empty() && name.len() <= 63 && !name.starts_with(['-', '.']) && name.chars().all(plain)
}

/// The grants that `wish` takes.
pub(super) fn grants(wish: &Value) -> Vec<&'static str> {
    let mut grants = vec!["objects.read", "images.make"];
    match text(wish, "/then") {
        "stopped" => grants.push("instances.make"),
        "started" => grants.extend(["instances.make", "instances.start"]),
        _ => {}
    }
    grants
}

impl Rules {
    /// What of `wish` is refused whatever else there is here: `used` bytes are taken, and `denied` lists what the role may not do.
    pub(super) fn check(&self, wish: &Value, denied: &BTreeSet<String>, used: u64) -> Vec<Value> {
        let mut refusals: Vec<Value> =
            grants(wish).into_iter().filter(|grant| denied.contains(*grant)).map(lacks).collect();
        let mut refuse = |code: &str, sentence: String, remedy: &str| refusals.push(refusal(code, sentence, remedy));
        let name = text(wish, "/name");
        if !is_name(name) {
            refuse("name", format!("'{name}' is no name here"), "take up to 63 letters, digits, dots and dashes");
        }
        let (images, objects) = (list(wish, "/launch/images"), list(wish, "/objects"));
        if images.is_empty() || images.len() != objects.len() {
            refuse("wish", "images and objects are not as many".into(), "send the disks with their launch JSON");
        }
        let mut sum = 0u64;
        for image in images {
            let shape = shape(image);
            if !self.shapes.contains(&shape.as_str()) {
                refuse("shape", format!("{shape} is not taken"), &format!("take one of {}", self.shapes.join(", ")));
            }
            let size = image.get("size").and_then(Value::as_u64).unwrap_or(0);
            sum = sum.saturating_add(size);
            if size == 0 || !size.is_multiple_of(self.size_multiple) {
                let wanted = format!("have the disk rounded up to a multiple of {} bytes", self.size_multiple);
                refuse("size", format!("a disk has {size} bytes"), &wanted);
            }
            if size > self.largest_disk {
                let most = format!("the largest has {}", self.largest_disk);
                refuse("too-large", format!("a disk has {size} bytes"), &most);
            }
        }
        if used.saturating_add(sum) > self.quota {
            let left = self.quota.saturating_sub(used);
            refuse("quota", format!("the disks take {sum} bytes, and {left} are free"), "ask for a larger quota");
        }
        let machine = wish.pointer("/launch/machine").unwrap_or(&Value::Null);
        let mut known = |what: &str, found: &str, known: &[&str]| {
            if !known.contains(&found) {
                refuse(what, format!("there is no {what} '{found}'"), &format!("take one of {}", known.join(", ")));
            }
        };
        known("firmware", text(machine, "/firmware/kind"), &self.firmware);
        for disk in list(machine, "/disks") {
            known("controller", text(disk, "/controller"), &self.controllers);
        }
        for adapter in list(machine, "/adapters") {
            known("adapter", text(adapter, "/model"), &self.adapters);
            match text(adapter, "/network") {
                "" => {}
                network => known("network", network, &self.networks),
            }
        }
        refusals
    }

    /// As they are sent.
    pub(super) fn value(&self) -> Value {
        json!({
            "shapes": self.shapes, "firmware": self.firmware, "controllers": self.controllers,
            "adapters": self.adapters, "networks": self.networks,
            "size-multiple": self.size_multiple, "largest-disk": self.largest_disk,
        })
    }
}
