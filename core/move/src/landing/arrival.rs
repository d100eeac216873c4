//! A landing whose disks become an image, and an instance, in a cloud: what the cloud would refuse is asked before a byte is sent, and
//! the import is followed to its end once all is in the store.

use std::{
    ffi::OsStr,
    io::{self, BufRead, BufReader, Read, Seek, SeekFrom, Write},
};

use reformis_disk::{error::WireError, source::Access};
use reformis_machine::{LandedDisk, MachineFile};
use reformis_wire::clouds::{Cloud, Object, Outcome, Refusal, Task, Then, Wish};
use serde::{Deserialize, Serialize};

use super::{facts, files, shipping::Shipping};
use crate::{
    error::{Error, Result},
    finding::Finding,
    observer::{Context, Step},
    plan::Plan,
    prepare::Prepared,
    receipt::CloudRecord,
    staging::Place,
};

/// What was asked for of a cloud, beside the disks, so that another run goes on with it.
pub(crate) const LEDGER: &str = "at-cloud.json";
/// The longest ledger, and the longest launch JSON, that is read, in bytes.
const MOST: u64 = 16 << 20;

/// How often an import that the cloud knows no more is begun again.
const FORGOTTEN: u32 = 3;

/// What was asked for so far.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
struct Asked {
    /// The cloud.
    cloud: String,
    /// By which the cloud knows the same request again.
    key: String,
    /// The import that was begun.
    import: Option<String>,
    /// The image that it came to.
    image: Option<String>,
}

impl Asked {
    /// What an earlier run noted: the last line that is whole.
    fn left(folder: &Place) -> Option<Self> {
        let file = folder.open_file(OsStr::new(LEDGER)).ok()?;
        let lines = BufReader::new(file.take(MOST)).split(b'\n').map_while(io::Result::ok);
        lines.filter_map(|line| serde_json::from_slice(&line).ok()).last()
    }

    /// Notes it, behind what was noted before: a run that is killed loses nothing of that.
    fn note(&self, folder: &Place) -> Result<()> {
        let mut file = folder.open_or_create(OsStr::new(LEDGER), Access::OWNER)?;
        let line = serde_json::to_string(self).unwrap_or_default();
        let written = file.seek(SeekFrom::End(0)).and_then(|_| file.write_all(format!("\n{line}\n").as_bytes()));
        written.and_then(|()| file.sync_data()).map_err(Error::io("writing", &folder.path_of(LEDGER)))
    }
}

/// Asks the cloud that the plan names what it would refuse, and adds that to the findings. With `tries`, an empty object is put into
/// the store meanwhile, by which the cloud sees whether its own role may read there. A run that goes on (`again`) finds its own machine
/// there.
pub(crate) fn ask(prepared: &mut Prepared, tries: bool, again: bool, context: &Context<'_>) -> Result<()> {
    let Some(plan) = &prepared.settled.plan else { return Ok(()) };
    let Some((name, then)) = &plan.cloud else { return Ok(()) };
    if plan.machine_file != MachineFile::LaunchJson {
        return Err(Error::NotIntoCloud {
            what: format!("a cloud is told of the machine by a launch JSON, and not by {}", plan.machine_file.name()),
        });
    }
    let cloud = context.wires.cloud(name)?;
    let Some(shipping) = Shipping::of(plan, context)? else {
        return Err(Error::NotIntoCloud { what: "its disks go into no store".into() });
    };
    let landed: Vec<LandedDisk> = plan.disks.iter().map(facts::empty).collect();
    let machine = files::with_files(plan);
    let made = files::machine_files(&machine, plan.machine_file, &landed, &prepared.settled.destination, None)?;
    let launch = made.files.first().map_or(&b""[..], |(_, bytes)| bytes);
    let objects = plan.disks.iter().map(|disk| Object { at: shipping.address(&disk.file), bytes: None }).collect();
    let mut wish = Wish {
        name: plan.machine.name.to_string(),
        then: *then,
        objects,
        launch: serde_json::from_slice(launch).unwrap_or_default(),
        trial: None,
        seed: None,
    };
    let refusals = match tries {
        true => shipping.while_trial(|trial| {
            wish.trial = Some(trial);
            Ok(cloud.check(&wish)?)
        })?,
        false => cloud.check(&wish)?,
    };
    for refusal in refusals.into_iter().filter(|refusal| !again || refusal.code != "taken") {
        let remedy = refusal.remedy.as_deref().unwrap_or_default();
        let remedy = reformis_disk::text::printable(&remedy.chars().take(400).collect::<String>());
        prepared.settled.findings.push(Finding::CloudRefuses { cloud: name.clone(), what: refusal.whole(), remedy });
    }
    Ok(())
}

/// The cloud that a landing goes to.
pub(crate) struct Arrival {
    cloud: Cloud,
    name: String,
    then: Then,
}

impl Arrival {
    /// The cloud that `plan` names.
    pub(crate) fn of(plan: &Plan, context: &Context<'_>) -> Result<Option<Self>> {
        let Some((name, then)) = &plan.cloud else { return Ok(None) };
        Ok(Some(Self { cloud: context.wires.cloud(name)?, name: name.clone(), then: *then }))
    }

    /// Has the cloud make of what is in the store what the plan says; `launch` is the name of the launch JSON in `folder`.
    pub(crate) fn arrive(
        &self,
        plan: &Plan,
        shipping: &Shipping,
        launch: &str,
        folder: &Place,
        context: &Context<'_>,
    ) -> Result<CloudRecord> {
        let mut bytes = Vec::new();
        let read = folder.open_file(OsStr::new(launch))?.take(MOST).read_to_end(&mut bytes);
        read.map_err(Error::io("reading", &folder.path_of(launch)))?;
        let object = |file: &String| -> Result<Object> {
            Ok(Object { at: shipping.address(file), bytes: shipping.len_of(file)? })
        };
        let wish = Wish {
            name: plan.machine.name.to_string(),
            then: self.then,
            objects: plan.disks.iter().map(|disk| object(&disk.file)).collect::<Result<_>>()?,
            launch: serde_json::from_slice(&bytes).unwrap_or_default(),
            trial: None,
            seed: plan.seed.as_ref().map(|seed| shipping.address(&seed.file)),
        };
        let mut asked = Asked::left(folder).filter(|asked| asked.cloud == self.name).unwrap_or_default();
        asked.cloud.clone_from(&self.name);
        let image = match asked.image.clone() {
            Some(image) => image,
            None => self.image(&wish, &mut asked, plan, folder, context)?,
        };
        let instance = match self.then {
            Then::Image => None,
            Then::Stopped | Then::Started => self.cloud.make(&wish, &image, &format!("{}-instance", asked.key))?,
        };
        if let Some(fault) = instance.as_ref().filter(|instance| instance.state == "failed") {
            let what = fault.fault.as_ref().map_or_else(|| "it does not say why".into(), Refusal::whole);
            return Err(Error::CloudFailed { cloud: self.name.clone(), doing: "starting the instance", what });
        }
        let shown = |text: &String| reformis_disk::text::printable(text);
        Ok(CloudRecord {
            cloud: self.name.clone(),
            import: asked.import.unwrap_or_default(),
            image,
            instance: instance.as_ref().map(|instance| shown(&instance.name)),
            state: instance.as_ref().map(|instance| instance.state.clone()),
            address: instance.and_then(|instance| instance.address).map(|address| shown(&address)),
        })
    }

    /// Begins an import, and notes it.
    fn begin(&self, wish: &Wish, asked: &mut Asked, folder: &Place) -> Result<Task> {
        if asked.key.is_empty() {
            asked.key = uuid::Uuid::new_v4().to_string();
            asked.note(folder)?;
        }
        let task = self.cloud.begin(wish, &asked.key)?;
        asked.import = Some(task.id.clone());
        asked.note(folder)?;
        Ok(task)
    }

    /// Begins the import, or goes on with the one that was begun, and follows it to its image.
    fn image(
        &self,
        wish: &Wish,
        asked: &mut Asked,
        plan: &Plan,
        folder: &Place,
        context: &Context<'_>,
    ) -> Result<String> {
        let total: u64 = plan.disks.iter().map(|disk| disk.size).sum();
        let step = Step { action: "importing", what: wish.name.clone(), number: 1, of: 1 };
        context.step(&step, total, |watch| {
            let mut told = 0;
            let mut progress = |done: u64, of: u64| {
                let now = u128::from(total) * u128::from(done.min(of)) / u128::from(of.max(1));
                let now = u64::try_from(now).unwrap_or(total);
                (watch.progress)(now.saturating_sub(told));
                told = told.max(now);
            };
            let mut forgotten = 0;
            let outcome = loop {
                let import = match asked.import.clone() {
                    Some(import) => import,
                    None => {
                        let task = self.begin(wish, asked, folder)?;
                        if let Some(outcome) = task.outcome {
                            break outcome;
                        }
                        task.id
                    }
                };
                match self.cloud.follow(&import, &mut progress) {
                    // The cloud was started anew, and knows it no more: the same key does not make it twice.
                    Err(reformis_disk::Error::Wire(error)) if is_absent(&error) && forgotten < FORGOTTEN => {
                        forgotten += 1;
                        asked.import = None;
                    }
                    other => break other?,
                }
            };
            match outcome {
                Outcome::Image(image) => {
                    asked.image = Some(image.clone());
                    asked.note(folder)?;
                    Ok(image)
                }
                Outcome::Failed(refusal) => {
                    // Another run asks anew: this key stands for what failed.
                    folder.remove(OsStr::new(LEDGER))?;
                    let remedy = refusal.remedy.as_ref().map_or(String::new(), |remedy| format!("; {remedy}"));
                    let what = format!("{}{}", refusal.whole(), reformis_disk::text::printable(&remedy));
                    Err(Error::CloudFailed { cloud: self.name.clone(), doing: "importing the disks", what })
                }
            }
        })
    }
}

fn is_absent(error: &WireError) -> bool {
    error.kind == reformis_disk::error::WireKind::Absent
}
