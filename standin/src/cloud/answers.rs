//! What each request of a cloud comes to: checks, imports, instances, exports.

use std::{collections::BTreeMap, fs, path::PathBuf, sync::Arc, time::Duration};

use serde_json::{Value, json};

use super::{
    fixed,
    imports::{self, Import},
    rules::{self, lacks, list, refusal, text},
    serve::State,
};
use crate::{
    host::answer::Answer,
    listen::{lock, takes},
    store,
};

fn no(status: u16, error: &Value) -> Answer {
    Answer::new(status, json!({ "error": error }))
}

impl State {
    fn used(&self) -> u64 {
        lock(&self.images).values().map(|image| image.bytes).sum()
    }

    pub(super) fn about(&self) -> Value {
        let all = ["objects.read", "images.make", "instances.make", "instances.start", "snapshots.make"];
        let (missing, grants): (Vec<&str>, Vec<&str>) = all.into_iter().partition(|grant| self.is_denied(grant));
        json!({
            "region": self.options.store.region,
            "role": { "name": "importer", "grants": grants, "missing": missing },
            "rules": self.options.rules.value(),
            "quota": { "bytes": self.options.rules.quota, "used": self.used() },
        })
    }

    /// The key in our store of the object at `link`.
    fn key_of(&self, link: &str) -> Option<String> {
        let key = link.strip_prefix(&format!("{}/", self.store.link()))?;
        Some(store::decoded(key))
    }

    /// What of `wish` is refused, of all that can be known before there are disks.
    pub(super) fn check(&self, wish: &Value) -> Vec<Value> {
        let mut refusals = self.options.rules.check(wish, &lock(&self.denied), self.used());
        let name = text(wish, "/name");
        if text(wish, "/then") != "image" && lock(&self.instances).get(name).is_some() {
            let remedy = "choose another name, or remove it there";
            refusals.push(refusal("taken", format!("there is an instance '{name}'"), remedy));
        }
        let objects = list(wish, "/objects").iter().map(|object| text(object, "/at"));
        if objects.into_iter().any(|at| self.key_of(at).is_none()) {
            let place = self.store.link();
            refusals.push(refusal(
                "other-store",
                "an object lies in a store that it does not import from",
                &format!("use its own, which is at {place}"),
            ));
        }
        // Its own role reads the trial; whether it is empty is nothing that it has to say.
        let trial = text(wish, "/trial");
        let has = |key: &str| self.store.objects().iter().any(|(known, _)| known == key);
        if !trial.is_empty() && !self.key_of(trial).is_some_and(|key| has(&key)) {
            refusals.push(refusal("no-trial", "it cannot read the trial object", "look where the store is"));
        }
        refusals
    }

    pub(super) fn import(self: &Arc<Self>, wish: &Value, key: &str) -> Answer {
        if key.is_empty() {
            return Answer::error(400, "no-key", "an import needs an Idempotency-Key");
        }
        let mut all = lock(&self.imports);
        if let Some((id, known)) = all.iter().find(|(_, import)| import.key == key) {
            return match known.wish == *wish {
                true => Answer::new(200, known.value(id)),
                false => Answer::error(409, "key-used", "the key was used for another import"),
            };
        }
        let id = format!("i-{}-{}", all.len() + 1, std::process::id());
        let done = lock(&self.images).iter().find(|(_, image)| image.key == key).map(|(image, _)| image.clone());
        if let Some(image) = done {
            // An earlier life of this cloud made it.
            let (key, wish, image) = (key.into(), wish.clone(), Some(image));
            let import = Import { key, wish, state: "done", image, ..Import::default() };
            let value = import.value(&id);
            all.insert(id, import);
            return Answer::new(200, value);
        }
        let refusals = self.check(wish);
        if let Some(first) = refusals.first() {
            return no(if text(first, "/code") == "grant" { 403 } else { 409 }, first);
        }
        let sizes = list(wish, "/launch/images").iter().map(|image| image["size"].as_u64().unwrap_or(0));
        let (key, of) = (key.to_string(), sizes.sum());
        let import = Import { key: key.clone(), wish: wish.clone(), state: "running", of, ..Import::default() };
        let value = import.value(&id);
        all.insert(id.clone(), import);
        let (state, wish) = (self.clone(), wish.clone());
        std::thread::spawn(move || state.work(&id, &wish, &key));
        Answer::new(202, value)
    }

    /// Does an import.
    fn work(&self, id: &str, wish: &Value, key: &str) {
        let folder = self.options.data.join("images").join(id.replacen('i', "m", 1));
        let outcome = self.objects(wish).and_then(|objects| {
            let fails = takes(&mut lock(&self.faults).fail);
            let slow = lock(&self.faults).slow;
            let mut told = 0;
            let seed = self.key_of(text(wish, "/seed")).map(|key| self.store.file(&key)).filter(|file| file.exists());
            imports::make(wish, key, &objects, seed.as_deref(), &folder, &mut |done| {
                std::thread::sleep(Duration::from_millis(slow * ((done - told) >> 20)));
                told = done;
                if let Some(import) = lock(&self.imports).get_mut(id) {
                    import.done = done;
                }
            })?;
            match fails {
                true => {
                    fs::remove_dir_all(&folder).ok();
                    Err(refusal("internal", "the cloud has trouble of its own", "go on with --resume"))
                }
                false => Ok(()),
            }
        });
        let image = folder.file_name().unwrap_or_default().to_string_lossy().into_owned();
        if outcome.is_ok() {
            *lock(&self.images) = imports::images(&self.options.data.join("images"));
        }
        if let Some(import) = lock(&self.imports).get_mut(id) {
            match outcome {
                Ok(()) => (import.state, import.image, import.done) = ("done", Some(image), import.of),
                Err(fault) => (import.state, import.fault) = ("failed", Some(fault)),
            }
        }
    }

    /// The files of the objects of `wish`, as the import's own role reads them.
    fn objects(&self, wish: &Value) -> Result<Vec<PathBuf>, Value> {
        if self.is_denied("objects.read") {
            return Err(lacks("objects.read"));
        }
        let there: BTreeMap<String, u64> = self.store.objects().into_iter().collect();
        let found = list(wish, "/objects").iter().map(|object| {
            let key = self.key_of(text(object, "/at")).unwrap_or_default();
            let bytes = there.get(&key).ok_or_else(|| {
                refusal("no-object", format!("there is no object '{key}'"), "look whether the upload was finished")
            })?;
            match object.get("bytes").and_then(Value::as_u64) {
                Some(said) if said == *bytes => Ok(self.store.file(&key)),
                _ => Err(refusal("bytes", format!("the object '{key}' has {bytes} bytes"), "send it again")),
            }
        });
        found.collect()
    }

    pub(super) fn make(&self, body: &Value, key: &str) -> Answer {
        let (name, start) = (text(body, "/name"), body["start"] == true);
        if key.is_empty() {
            return Answer::error(400, "no-key", "an instance needs an Idempotency-Key");
        }
        if !rules::is_name(name) {
            return Answer::error(400, "name", "it is no name here");
        }
        let mut instances = lock(&self.instances);
        if let Some(state) = instances.asked_with(key).and_then(|name| instances.state(&name)) {
            return Answer::new(200, state);
        }
        let wish = json!({ "then": if start { "started" } else { "stopped" } });
        let lacking = rules::grants(&wish).into_iter().skip(2).find(|grant| self.is_denied(grant));
        if let Some(grant) = lacking {
            return no(403, &lacks(grant));
        }
        let Some(image) = lock(&self.images).get(text(body, "/image")).cloned() else {
            return Answer::error(404, "no-image", "there is no such image");
        };
        if instances.get(name).is_some() {
            return Answer::error(409, "taken", "there is an instance of this name");
        }
        let result = instances.make(name, &image, &body["machine"], key).and_then(|()| match start {
            true => instances.start(name),
            false => Ok(()),
        });
        match (result, instances.state(name)) {
            (Ok(()), Some(state)) => Answer::new(201, state),
            (Err(error), _) => {
                no(409, &refusal("no-start", format!("it cannot be made: {error:#}"), "look at its machine"))
            }
            (Ok(()), None) => Answer::error(500, "lost", "the instance is gone"),
        }
    }

    pub(super) fn snapshot_folder(&self, export: &str) -> PathBuf {
        self.options.data.join("snapshots").join(export)
    }

    pub(super) fn export(&self, name: &str, body: &Value) -> Option<Answer> {
        if self.is_denied("snapshots.make") {
            return Some(no(403, &lacks("snapshots.make")));
        }
        let instances = lock(&self.instances);
        let machine = instances.get(name)?;
        let is_running = machine.power == "running";
        if is_running && body["while-running"] != true {
            return Some(Answer::error(409, "running", "the machine runs"));
        }
        let export = lock(&self.exports).begin(&machine, if is_running { "snapshot" } else { "off" });
        let is_fixed = self.options.rules.fixed_snapshots;
        if is_running || is_fixed {
            let made = instances.snapshot(name, &self.snapshot_folder(&export)).and_then(|mut machine| {
                if is_fixed {
                    fixed::make(&mut machine)?;
                }
                Ok(machine)
            });
            match made {
                Ok(machine) => lock(&self.exports).put_files(&export, machine.files),
                Err(error) => return Some(Answer::error(500, "no-snapshot", &format!("{error:#}"))),
            }
        }
        self.export_state(&export, 202)
    }

    pub(super) fn export_state(&self, name: &str, status: u16) -> Option<Answer> {
        let (expires, seconds) = (self.now() + self.options.seconds, self.options.seconds);
        let state = lock(&self.exports).state(name, &self.base, expires, seconds)?;
        Some(Answer::new(status, state))
    }
}
