//! Who works on a fleet: a process of a machine, which others can see the end of.

/// A worker: its name, which no other one has, and what tells whether it still lives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Worker {
    /// Its name.
    pub name: String,
    /// The machine that it runs on: as that calls itself (uname(2)), and the beginning of its machine-id(5).
    pub(super) host: String,
    /// The process, for those who share its machine: boot, process namespace, number and beginning.
    process: String,
}

impl Worker {
    /// This process.
    pub fn here() -> Self {
        let node = rustix::system::uname().nodename().to_string_lossy().into_owned();
        // Two machines may call themselves the same.
        let machine = std::fs::read_to_string("/etc/machine-id").unwrap_or_default();
        let host = format!("{node}/{}", machine.get(..8).unwrap_or_default());
        let id = uuid::Uuid::new_v4().simple().to_string();
        let number = std::process::id();
        let name = format!("{node}-{number}-{}", id.get(..6).unwrap_or_default());
        Self { process: process(number).unwrap_or_default(), name, host }
    }

    /// The process `number` of this machine as a worker.
    #[cfg(test)]
    pub(super) fn of(number: u32) -> Self {
        Self { process: process(number).unwrap(), ..Self::here() }
    }

    /// It, by another name, which nobody else may have.
    #[must_use]
    pub fn called(self, name: &str) -> Self {
        Self { name: name.into(), ..self }
    }

    /// Its process, for [`Worker::has_ended`].
    pub(super) fn process(&self) -> &str {
        &self.process
    }

    /// Whether the process that another worker called `process` has ended for sure. Of another machine, another boot or another namespace
    /// nothing is sure.
    pub(super) fn has_ended(&self, process_of_other: &str) -> bool {
        let parts = |text: &str| text.rsplitn(3, '/').map(str::to_string).collect::<Vec<_>>();
        let (own, other) = (parts(&self.process), parts(process_of_other));
        let ([_, _, here], [_, number, there]) = (&own[..], &other[..]) else { return false };
        let Ok(number) = number.parse() else { return false };
        here == there && process(number).as_deref() != Some(process_of_other)
    }
}

/// What tells the process `number` from any other; none where there is none. A process that has ended and that nobody asked for yet (state
/// Z, proc(5)) is none.
fn process(number: u32) -> Option<String> {
    let boot = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").ok()?;
    let space = std::fs::read_link("/proc/self/ns/pid").ok()?;
    let stat = std::fs::read_to_string(format!("/proc/{number}/stat")).ok()?;
    // The name, in brackets, may hold anything.
    let mut fields = stat.rsplit_once(") ")?.1.split(' ');
    let state = fields.next()?;
    // The 22nd of all, of which the first two are gone, and the third.
    let begun = fields.nth(18)?;
    (!matches!(state, "Z" | "X")).then(|| format!("{} {}/{number}/{begun}", boot.trim(), space.to_string_lossy()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_end_of_a_process_is_seen_where_it_can_be() {
        let mut child = std::process::Command::new("sleep").arg("20").spawn().unwrap();
        let own = Worker::here();
        let other = process(child.id()).unwrap();
        assert!(!own.has_ended(&other) && !own.has_ended(own.process()));
        // Another process with the same number, later.
        assert!(own.has_ended(&(other.clone() + "1")));
        child.kill().unwrap();
        while !own.has_ended(&other) {
            std::thread::yield_now();
        }
        child.wait().unwrap();
        assert!(own.has_ended(&other));
        for strange in ["", "/", "elsewhere/1/1", "a/b", &other.replacen('-', "+", 1), "x/99999999999/1"] {
            assert!(!own.has_ended(strange), "{strange}");
        }
    }
}
