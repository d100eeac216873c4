//! For which systems a part of a driver is: what stands behind a section's name, as in `[Tide.NTamd64.10.0...16299]` ("INF Models
//! Section" of the driver kit's documentation).

/// The system that drivers are chosen for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Target {
    /// Its processor, as drivers call it.
    pub(crate) machine: &'static str,
    /// Version, as 10 and 0.
    pub(crate) version: (u32, u32),
    /// Its build.
    pub(crate) build: u32,
    /// 1 for a client, 2 for a domain controller, 3 for a server.
    pub(crate) product: u32,
}

/// The systems that a section is for, by what stands behind its name: `NTamd64.10.0...16299`.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) struct Decoration {
    version: Option<(u32, u32)>,
    build: Option<u32>,
    product: Option<u32>,
    pub(super) machine: Option<String>,
    /// Whether it is for systems of this family at all; older ones have no such name.
    pub(super) is_nt: bool,
}

/// A number in decimal digits, or with `0x`.
pub(crate) fn number(text: &str) -> Option<u32> {
    let text = text.trim();
    match text.strip_prefix("0x").or_else(|| text.strip_prefix("0X")) {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => text.parse().ok(),
    }
}

impl Decoration {
    /// Reads what follows the name and a dot; `None` for what is no such thing.
    pub(crate) fn parse(text: &str) -> Option<Self> {
        let text = text.trim().to_lowercase();
        let mut fields = text.strip_prefix("nt")?.split('.');
        let machine = fields.next().filter(|machine| !machine.is_empty()).map(str::to_string);
        let mut number = || fields.next().map(str::trim).filter(|field| !field.is_empty());
        let major = number();
        let minor = number();
        let product = number();
        let _suite = number();
        let build = number();
        let parsed = |field: Option<&str>| field.map(self::number).map_or(Some(None), |number| number.map(Some));
        let version = parsed(major)?.map(|major| Some((major, parsed(minor)?.unwrap_or(0))));
        let version = match version {
            Some(version) => Some(version?),
            None => None,
        };
        Some(Self { version, build: parsed(build)?, product: parsed(product)?, machine, is_nt: true })
    }

    /// Why it is not for `target`; `None` when it is.
    pub(super) fn misfit(&self, target: &Target) -> Option<String> {
        if self.machine.as_ref().is_some_and(|machine| machine != target.machine) {
            return Some(format!("it is for {}", self.machine.as_deref().unwrap_or_default()));
        }
        // What names no processor is for the oldest.
        if self.machine.is_none() && target.machine != "x86" {
            return Some("it is for x86".into());
        }
        if let Some((major, minor)) = self.version.filter(|version| *version > target.version) {
            return Some(format!("it is for version {major}.{minor} and later"));
        }
        if let Some(build) = self.build.filter(|build| self.version == Some(target.version) && *build > target.build) {
            return Some(format!("it is for build {build} and later"));
        }
        if self.product.is_some_and(|product| product != target.product) {
            return Some("it is for another product: client, server, or domain controller".into());
        }
        None
    }

    /// Whether a section that installs is for `target`: there, one that names no processor is for all.
    pub(super) fn fits_install(&self, target: &Target) -> bool {
        let machine = self.machine.clone().or_else(|| Some(target.machine.into()));
        Self { machine, ..self.clone() }.misfit(target).is_none()
    }

    /// In words: `amd64 from 10.0 build 16299`.
    pub(super) fn words(&self) -> String {
        let machine = self.machine.as_deref().unwrap_or("x86");
        let version = self.version.map_or(String::new(), |(major, minor)| format!(" from {major}.{minor}"));
        let build = self.build.map_or(String::new(), |build| format!(" build {build}"));
        format!("{machine}{version}{build}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const SERVER: Target = Target { machine: "amd64", version: (6, 3), build: 9600, product: 3 };

    #[test]
    fn what_stands_behind_a_name_tells_systems_apart() {
        let parse = |text: &str| Decoration::parse(text).unwrap();
        let why = |text: &str| parse(text).misfit(&SERVER);
        for fits in ["NTamd64", "ntamd64.6.1", "NTamd64.6.3", "NTamd64.6.3.3", "NTamd64.6...9999", "NTamd64.6.3...9600"]
        {
            assert_eq!(why(fits), None, "{fits}");
        }
        for (text, what) in [
            ("NTx86.6.1", "x86"),
            ("NT", "x86"),
            ("NTamd64.10.0", "10.0 and later"),
            ("NTamd64.6.3...9700", "build 9700"),
            ("NTamd64.6.1.1", "another product"),
        ] {
            assert!(why(text).unwrap().contains(what), "{text}");
        }
        assert_eq!(parse("NTamd64.10.0...16299").words(), "amd64 from 10.0 build 16299");
        for none in ["", "inst", "NTamd64.x", "amd64"] {
            assert_eq!(Decoration::parse(none), None, "{none}");
        }
        let mut order = [parse("NTamd64.10.0...16299"), parse("NTamd64.6.1"), parse("NTamd64.10.0"), parse("NTamd64")];
        order.sort();
        assert_eq!(
            order.map(|one| one.words()),
            ["amd64", "amd64 from 6.1", "amd64 from 10.0", "amd64 from 10.0 build 16299"]
        );
    }
}
