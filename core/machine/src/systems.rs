//! Kinds of system: the numbers of DMTF's CIM schema (`CIM_OperatingSystem.OSType`), what follows from them, and the
//! words that machine files have for them.

use std::{fmt, ops::RangeInclusive};

use serde::{Deserialize, Serialize};

/// The kind of system inside, as CIM's `OSType` numbers it (DMTF CIM schema, `CIM_OperatingSystem.OSType`).
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct System {
    /// The number.
    pub cim_os_type: u16,
    /// The source's own word for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub description: Option<String>,
}

impl System {
    /// Whether a system of this kind keeps the machine's clock in local time.
    pub fn keeps_local_time(&self) -> bool {
        keeps_local_time(self.cim_os_type)
    }

    /// Whether it is a Windows system that knows the hypervisor it runs on: from version 6.0 on.
    pub fn knows_hypervisors(&self) -> bool {
        self.keeps_local_time() && !self.predates_pcie()
    }

    /// Whether it is a system that asks for a trusted platform module of version 2.0: Windows 11, by the words that files have.
    pub fn asks_for_tpm(&self) -> bool {
        let word = self.description.as_deref().unwrap_or_default();
        ["windows11-64", "Windows11_64"].contains(&word) || word.starts_with("http://microsoft.com/win/11")
    }

    /// Whether a system of this kind is older than PCI Express.
    pub fn predates_pcie(&self) -> bool {
        predates_pcie(self.cim_os_type)
    }
}

impl fmt::Display for System {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.description {
            Some(description) => f.write_str(description),
            None => write!(f, "CIM OS type {}", self.cim_os_type),
        }
    }
}

/// Systems of the DOS and NT families.
const LOCAL_TIME: [RangeInclusive<u16>; 8] =
    [14..=19, 58..=58, 63..=63, 67..=67, 69..=77, 103..=103, 105..=105, 111..=120];

/// Systems of before 2006: DOS and its successors, NT up to its version 5.2, Linux up to 2.4.
const OLD: [RangeInclusive<u16>; 6] = [14..=19, 58..=58, 63..=63, 67..=67, 69..=72, 97..=98];

/// A system that the schema has no number for.
const OTHER: u16 = 1;
/// The same with 64 bits.
const OTHER_64: u16 = 102;
/// Linux of any kind with 64 bits.
pub(crate) const LINUX_64: u16 = 101;

pub(crate) fn keeps_local_time(os_type: u16) -> bool {
    LOCAL_TIME.iter().any(|range| range.contains(&os_type))
}

pub(crate) fn predates_pcie(os_type: u16) -> bool {
    OLD.iter().any(|range| range.contains(&os_type))
}

/// One number with its words; an empty word where a file has none. Several rows of a number: the first is written.
struct Row {
    cim: u16,
    /// `guestOS` of a `.vmx` file.
    vmx: &'static str,
    /// `OSType` of a `.vbox` file.
    vbox: &'static str,
    /// Start of the identifier in the libosinfo database, which domain XML carries.
    osinfo: &'static str,
}

const fn row(cim: u16, vmx: &'static str, vbox: &'static str, osinfo: &'static str) -> Row {
    Row { cim, vmx, vbox, osinfo }
}

const ROWS: &[Row] = &[
    row(96, "debian11-64", "Debian_64", "http://debian.org/debian/11"),
    row(96, "debian12-64", "Debian12_64", "http://debian.org/debian/12"),
    row(96, "debian10-64", "Debian10_64", "http://debian.org/debian/10"),
    row(96, "debian9-64", "Debian9_64", "http://debian.org/debian/9"),
    row(96, "debian8-64", "Debian8_64", "http://debian.org/debian/8"),
    row(95, "debian11", "Debian", "http://debian.org/debian/7"),
    row(95, "debian10", "Debian10", ""),
    row(94, "ubuntu-64", "Ubuntu_64", "http://ubuntu.com/ubuntu/22.04"),
    row(94, "", "Ubuntu22_LTS_64", "http://ubuntu.com/ubuntu/"),
    row(93, "ubuntu", "Ubuntu", ""),
    row(80, "rhel8-64", "RedHat_64", "http://redhat.com/rhel/8"),
    row(80, "rhel9-64", "RedHat9_64", "http://redhat.com/rhel/9"),
    row(80, "rhel7-64", "RedHat7_64", "http://redhat.com/rhel/7"),
    row(80, "rhel6-64", "", "http://redhat.com/rhel/6"),
    row(79, "rhel6", "RedHat", "http://redhat.com/rhel/5"),
    row(107, "centos8-64", "", "http://centos.org/centos/8"),
    row(107, "centos7-64", "", "http://centos.org/centos/7"),
    row(107, "centos-64", "", "http://centos.org/centos-stream/"),
    row(106, "centos", "", ""),
    row(85, "sles15-64", "SUSE_LE_64", "http://suse.com/sles/15"),
    row(85, "sles12-64", "", "http://suse.com/sles/12"),
    row(84, "sles11", "", "http://suse.com/sles/11"),
    row(83, "opensuse-64", "OpenSUSE_64", "http://opensuse.org/opensuse/"),
    row(82, "opensuse", "OpenSUSE", ""),
    row(109, "oraclelinux8-64", "Oracle_64", "http://oracle.com/ol/8"),
    row(108, "oraclelinux", "Oracle", ""),
    row(LINUX_64, "otherlinux-64", "Linux_64", "http://libosinfo.org/linux/2022"),
    row(LINUX_64, "other6xlinux-64", "Fedora_64", "http://fedoraproject.org/fedora/"),
    row(LINUX_64, "other5xlinux-64", "ArchLinux_64", "http://archlinux.org/archlinux/"),
    row(LINUX_64, "other4xlinux-64", "Gentoo_64", "http://alpinelinux.org/alpinelinux/"),
    row(100, "other26xlinux-64", "Linux26_64", "http://libosinfo.org/linux/2018"),
    row(100, "other3xlinux-64", "", ""),
    row(99, "other26xlinux", "Linux26", ""),
    row(98, "other24xlinux-64", "Linux24_64", ""),
    row(97, "other24xlinux", "Linux24", ""),
    row(36, "otherlinux", "Linux", ""),
    row(78, "freebsd13-64", "FreeBSD_64", "http://freebsd.org/freebsd/13"),
    row(78, "freebsd-64", "FreeBSD_64", "http://freebsd.org/freebsd/"),
    row(42, "freebsd", "FreeBSD", ""),
    row(81, "solaris11-64", "Solaris11_64", "http://oracle.com/solaris/11"),
    row(116, "windows9srv-64", "Windows2016_64", "http://microsoft.com/win/2k16"),
    row(116, "windows2019srv-64", "Windows2019_64", "http://microsoft.com/win/2k19"),
    row(116, "windows2019srvnext-64", "Windows2022_64", "http://microsoft.com/win/2k22"),
    row(115, "windows8srv-64", "Windows2012_64", "http://microsoft.com/win/2k12r2"),
    row(112, "windows8srv-64", "Windows2012_64", "http://microsoft.com/win/2k12"),
    row(103, "windows7srv-64", "Windows2008_64", "http://microsoft.com/win/2k8r2"),
    row(120, "windows9-64", "Windows10_64", "http://microsoft.com/win/10"),
    row(120, "windows11-64", "Windows11_64", "http://microsoft.com/win/11"),
    row(119, "windows9", "Windows10", ""),
    row(118, "windows8-64", "Windows81_64", "http://microsoft.com/win/8.1"),
    row(114, "windows8-64", "Windows8_64", "http://microsoft.com/win/8"),
    row(105, "windows7-64", "Windows7_64", "http://microsoft.com/win/7"),
    row(77, "longhorn-64", "Windows2008_64", "http://microsoft.com/win/2k8"),
    row(76, "longhorn", "Windows2008", ""),
    row(74, "winvista-64", "WindowsVista_64", "http://microsoft.com/win/vista"),
    row(73, "winvista", "WindowsVista", ""),
    row(70, "winnetenterprise-64", "Windows2003_64", ""),
    row(69, "winnetstandard", "Windows2003", "http://microsoft.com/win/2k3"),
    row(71, "winxppro-64", "WindowsXP_64", ""),
    row(67, "winxppro", "WindowsXP", "http://microsoft.com/win/xp"),
    row(58, "win2000pro", "Windows2000", "http://microsoft.com/win/2k"),
    row(OTHER_64, "other-64", "Other_64", ""),
    row(OTHER, "other", "Other", ""),
];

/// A file that has words of its own for systems.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Vocabulary {
    Vmx,
    Vbox,
    Osinfo,
}

impl Vocabulary {
    fn word(self, row: &Row) -> &'static str {
        match self {
            Self::Vmx => row.vmx,
            Self::Vbox => row.vbox,
            Self::Osinfo => row.osinfo,
        }
    }

    /// The system that `word` stands for; a word that is not known is kept as the system's description.
    pub(crate) fn read(self, word: &str) -> System {
        let found = |row: &&Row| {
            let known = self.word(row);
            match self {
                // Identifiers go on with a version.
                Self::Osinfo => !known.is_empty() && word.starts_with(known),
                _ => known.eq_ignore_ascii_case(word),
            }
        };
        // The longest start that fits is the closest system.
        let best = ROWS.iter().filter(found).max_by_key(|row| self.word(row).len());
        let unknown = if word.ends_with("64") { OTHER_64 } else { OTHER };
        System { cim_os_type: best.map_or(unknown, |row| row.cim), description: Some(word.into()) }
    }

    /// The word for `system`: its own, where it came from a file of this kind.
    pub(crate) fn write(self, system: &System) -> Option<&str> {
        let own = system.description.as_deref().filter(|word| {
            self != Self::Osinfo && ROWS.iter().any(|row| self.word(row) == *word && row.cim == system.cim_os_type)
                || self == Self::Osinfo && word.starts_with("http://")
        });
        // A word of another file is that of its row here.
        let same_row = system.description.as_deref().and_then(|word| {
            let all = [Self::Vmx, Self::Vbox, Self::Osinfo];
            let has = |row: &&Row| row.cim == system.cim_os_type && all.iter().any(|other| other.word(row) == word);
            ROWS.iter().find(has).map(|row| self.word(row)).filter(|word| !word.is_empty())
        });
        let of_number = || ROWS.iter().find(|row| row.cim == system.cim_os_type && !self.word(row).is_empty());
        own.or(same_row).or_else(|| of_number().map(|row| self.word(row)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_become_numbers_and_the_same_words_again() {
        for (vocabulary, word, cim) in [
            (Vocabulary::Vmx, "debian12-64", 96),
            (Vocabulary::Vbox, "Ubuntu_64", 94),
            (Vocabulary::Osinfo, "http://debian.org/debian/12", 96),
            (Vocabulary::Vmx, "plan9-64", OTHER_64),
        ] {
            let system = vocabulary.read(word);
            assert_eq!(system.cim_os_type, cim, "{word}");
            if cim != OTHER_64 {
                assert_eq!(vocabulary.write(&system), Some(word));
            }
        }
        let server = Vocabulary::Vmx.read("windows2019srvnext-64");
        assert_eq!(Vocabulary::Osinfo.write(&server), Some("http://microsoft.com/win/2k22"));
        assert_eq!(Vocabulary::Vbox.write(&server), Some("Windows2022_64"));
        assert!(Vocabulary::Vmx.read("windows11-64").asks_for_tpm() && !server.asks_for_tpm());
        assert!(server.knows_hypervisors() && !Vocabulary::Vmx.read("debian12-64").knows_hypervisors());
        let system = Vocabulary::Vmx.read("WINXPPRO");
        assert!(!system.knows_hypervisors());
        assert!(system.keeps_local_time() && system.predates_pcie());
        let rows = |cim| ROWS.iter().filter(move |row| row.cim == cim);
        assert!(ROWS.iter().all(|row| rows(row.cim).any(|r| !r.vmx.is_empty() || !r.vbox.is_empty())));
    }
}
