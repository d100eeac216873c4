//! A Windows system as one of any family.

use super::Nt;
use crate::{
    evidence::{Evidence, hardware::Hardware, nt::walk},
    fs::tree::Tree,
    refit::{
        edit::Step,
        work::{Changes, Work},
    },
    system::{
        Guest,
        family::{Summary, System},
    },
    volume::found::Found,
};

impl System for Nt {
    fn name(&self) -> &str {
        &self.name
    }

    fn tree(&self) -> &Tree {
        &self.tree
    }

    fn tree_mut(&mut self) -> &mut Tree {
        &mut self.tree
    }

    fn into_tree(self: Box<Self>) -> Tree {
        self.tree
    }

    fn summary(&self, volumes: &[Found]) -> Summary {
        let name = |index: usize| volumes.get(index).map_or(String::new(), |volume| volume.name.clone());
        Summary {
            name: self.name.clone(),
            root: name(self.root),
            mounts: self.facts.letters.iter().map(|(letter, volume)| (volume.clone(), letter.clone())).collect(),
            kernels: Vec::new(),
            network: Vec::new(),
            time_zone: self.facts.settings.time_zone.clone(),
            helpers: Vec::new(),
            windows: Some(self.facts.clone()),
        }
    }

    fn sleeps_on(&self, volumes: &[Found]) -> Option<String> {
        let (_, is_asleep) = self.facts.hibernation_file?;
        let root = volumes.get(self.root).map_or(String::new(), |volume| volume.name.clone());
        is_asleep.then_some(root)
    }

    fn reread(&mut self) {}

    fn evidence(&mut self, guest: &Guest, hardware: &Hardware) -> Vec<Evidence> {
        walk(guest, self, hardware)
    }

    fn edits(&self) -> &'static [Step] {
        &[]
    }

    fn make(&mut self, _: &str, _: &mut Work<'_>) -> Changes {
        Ok(Vec::new())
    }
}
