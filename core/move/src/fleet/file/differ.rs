//! What tells two rows of the same machine apart.

use reformis_disk::text::printable;
use reformis_wire::without_secrets;
use serde_json::Value;

use super::Spec;

/// Keys that say when a machine is moved, what else runs then and how it is asked, and nothing of what is made.
const AROUND: [&str; 5] = ["size", "group", "after", "hooks", "confirm"];

impl Spec {
    /// What `now` says otherwise than this one, as `key: was, now is`; at most so much as a person reads.
    pub(crate) fn differences(&self, now: &Self) -> Vec<String> {
        let mut found = Vec::new();
        compare("", &value(self), &value(now), &mut found);
        found
    }

    /// As [`Spec::differences`], of what would make another landing alone.
    pub(crate) fn other_landing(&self, now: &Self) -> Vec<String> {
        let made = |spec: &Self| {
            let mut value = value(spec);
            if let Some(row) = value.get_mut("row").and_then(Value::as_object_mut) {
                AROUND.iter().for_each(|key| drop(row.remove(*key)));
            }
            value
        };
        let mut found = Vec::new();
        compare("", &made(self), &made(now), &mut found);
        found
    }
}

fn value(spec: &Spec) -> Value {
    // What signs a link is another one every day.
    serde_json::to_value(spec.without_secrets()).unwrap_or_default()
}

/// The longest list of differences, and the longest value that is shown of one, in characters.
const MOST: usize = 5;
const LONGEST: usize = 60;

fn compare(key: &str, was: &Value, now: &Value, found: &mut Vec<String>) {
    if was == now || found.len() >= MOST {
        return;
    }
    if let (Some(one), Some(other)) = (was.as_object(), now.as_object()) {
        let mut keys: Vec<&String> = one.keys().chain(other.keys()).collect();
        keys.sort();
        keys.dedup();
        for name in keys {
            let null = Value::Null;
            // The row's keys are those that the person wrote.
            let whole = match key {
                "" if name == "row" => String::new(),
                "" => name.clone(),
                key => format!("{key}.{name}"),
            };
            let whole = if whole.is_empty() { "row" } else { whole.strip_prefix("row.").unwrap_or(&whole) };
            compare(whole, one.get(name).unwrap_or(&null), other.get(name).unwrap_or(&null), found);
        }
        return;
    }
    let shown = |value: &Value| match value {
        Value::Null => "nothing".to_string(),
        // A link may be signed.
        Value::String(text) if text.contains("://") => format!("{:?}", printable(&without_secrets(text))),
        value => printable(&value.to_string()).chars().take(LONGEST).collect(),
    };
    found.push(format!("{key}: {} before, {} now", shown(was), shown(now)));
}

#[cfg(test)]
mod tests {
    use std::path::Path;

    use crate::fleet::file::{Fleet, Spec};

    fn spec(more: &str) -> Spec {
        let text = format!(
            "[defaults]\ndestination = \"virtio-host\"\ninto = \"landing\"\n[[machine]]\nname = \"a\"\nsource = \"a.raw\"\n{more}"
        );
        Fleet::parse(&text, "night.toml", "night", Path::new("/work")).unwrap().machines.remove(0)
    }

    #[test]
    fn what_differs_is_named_as_it_is_written() {
        let plain = spec("");
        assert!(plain.differences(&plain).is_empty());
        assert_eq!(plain.differences(&spec("memory = \"1GiB\"")), ["memory: nothing before, \"1GiB\" now"]);
        let hooks = spec("hooks = { before = [\"./quiet\"] }\nconfirm = { tcp = \"h:22\" }\nsize = \"1MiB\"");
        let keys: Vec<_> =
            plain.differences(&hooks).iter().map(|line| line.split(':').next().unwrap().to_string()).collect();
        assert_eq!(keys, ["confirm", "hooks.before", "size"]);
        // What runs around a move makes no other landing.
        assert!(plain.other_landing(&hooks).is_empty());
        assert_eq!(plain.other_landing(&spec("shape = \"raw/thin\"")), ["shape: nothing before, \"raw/thin\" now"]);
        let link = |word: &str| spec(&format!("brief = \"https://h/d.raw?sig={word}\"").replace("brief", "store"));
        let told = link("sesame").differences(&link("open")).join("; ");
        assert!(!told.contains("sesame") && !told.contains("sig=open"), "{told}");
        let long = spec(&format!("accept = [\"{}\"]", "a".repeat(500)));
        assert!(plain.differences(&long)[0].len() < 200);
    }
}
