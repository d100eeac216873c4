//! Text for the system's command interpreter (`.cmd`), where a stranger's words may stand: each is typed or quoted here.

use std::{fmt::Write, net::Ipv4Addr};

/// A script while it is written.
pub(super) struct Script {
    text: String,
}

/// `text` between quotes, as one word that stands for itself; `None` for what no quotes can hold.
pub(super) fn quoted(text: &str) -> Option<String> {
    // Between quotes only the sign of variables still means something.
    let is_plain = !text.contains('"') && !text.chars().any(char::is_control) && text.chars().count() <= 256;
    is_plain.then(|| format!("\"{}\"", text.replace('%', "%%")))
}

/// A hardware address as the system's own tools write it.
pub(super) fn mac(address: &str) -> Option<String> {
    let digits: String = address.chars().filter(char::is_ascii_hexdigit).collect();
    let is_mac = digits.len() == 12 && address.chars().all(|c| c.is_ascii_hexdigit() || c == ':' || c == '-');
    let pairs = digits.as_bytes().chunks(2).filter_map(|pair| std::str::from_utf8(pair).ok());
    is_mac.then(|| pairs.collect::<Vec<_>>().join("-").to_uppercase())
}

/// The mask of so many bits.
pub(super) fn mask(bits: u32) -> Ipv4Addr {
    Ipv4Addr::from(u32::MAX.checked_shl(32 - bits.min(32)).unwrap_or(0))
}

impl Script {
    /// A script that begins by saying what it does; what it says may hold any letters.
    pub(super) fn new(about: &str) -> Self {
        let mut script = Self { text: String::new() };
        script.line("@echo off").line(&format!("rem {about}")).line("setlocal DisableDelayedExpansion");
        script.line("chcp 65001 >nul").line("set FAILED=0");
        script
    }

    /// A line, as it is.
    pub(super) fn line(&mut self, line: &str) -> &mut Self {
        write!(self.text, "{line}\r\n").ok();
        self
    }

    /// A command, and whether it did what it should, in the log; `what` is plain text.
    pub(super) fn step(&mut self, what: &str, command: &str) -> &mut Self {
        self.line(command);
        self.line(&format!("if errorlevel 1 (echo FAILED: {what}& set FAILED=1) else (echo done: {what})"))
    }

    /// A command of an installer, whose code says more than yes and no: 259 that nothing newer came, 3010 and 1641 that it counts
    /// from the next start on.
    pub(super) fn install(&mut self, what: &str, command: &str) -> &mut Self {
        self.line(command).line("set CODE=%ERRORLEVEL%").line("set GOOD=0");
        self.line("for %%C in (0 259 1641 3010) do if \"%CODE%\"==\"%%C\" set GOOD=1");
        self.line(&format!(
            "if \"%GOOD%\"==\"1\" (echo done: {what}, with code %CODE%) else (echo FAILED: {what}, with code %CODE%& set FAILED=1)"
        ))
    }

    /// The script's bytes.
    pub(super) fn finish(mut self) -> Vec<u8> {
        self.line("exit /b %FAILED%");
        self.text.into_bytes()
    }

    /// The script's bytes, with parts that it calls behind its end.
    pub(super) fn finish_with(mut self, parts: &[&str]) -> Vec<u8> {
        self.line("exit /b %FAILED%");
        for line in parts {
            self.line(line);
        }
        self.text.into_bytes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_strangers_words_stay_words() {
        assert_eq!(quoted("Ethernet & del *|%PATH%").as_deref(), Some("\"Ethernet & del *|%%PATH%%\""));
        for bad in ["a\"b", "a\r\nb", "a\u{1b}[2J"] {
            assert_eq!(quoted(bad), None);
        }
        assert_eq!(mac("52:54:00:aa:bb:01").as_deref(), Some("52-54-00-AA-BB-01"));
        assert_eq!((mac("52:54:00:aa:bb"), mac("52:54:00:aa:bb:01;x")), (None, None));
        assert_eq!(
            [mask(24), mask(0), mask(32)].map(|mask| mask.to_string()),
            ["255.255.255.0", "0.0.0.0", "255.255.255.255"]
        );
    }
}
