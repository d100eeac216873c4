//! The first start after the move: scripts that run once, by a service that needs no one logged on and removes itself. Also the edits
//! `first-boot` and `identity`, which are such scripts alone.

use super::{
    Edits,
    script::{Script, quoted},
};
use crate::{
    error::{Error, Result},
    formats::hive::Data,
    refit::work::Changes,
    system::nt::{FIRST_START_FOLDER as FOLDER, start::boot_sets},
};

/// The service. It runs after the devices and the network came up, and its child outlives the time in which a service has to answer.
const SERVICE: &str = "ReformisFirstStart";
/// Where the log lies, as a person finds it.
pub(super) const LOG: &str = "\\Windows\\Logs\\reformis-first-start.log";

/// What runs the scripts. It counts its starts, so that nothing it does can go on for ever; a script that ended is gone, so that a
/// start that was cut short goes on where it stopped.
const RUNNER: [&str; 37] = [
    "@echo off",
    "rem Finishes the move of this system: runs each script of its folder once, then removes itself and its service.",
    "setlocal DisableDelayedExpansion",
    "chcp 65001 >nul",
    "if not defined REFORMIS_FOLDER set \"REFORMIS_FOLDER=%SystemRoot%\\Reformis\"",
    "if not defined REFORMIS_LOG set \"REFORMIS_LOG=%SystemRoot%\\Logs\\reformis-first-start.log\"",
    "if not exist \"%SystemRoot%\\Logs\" md \"%SystemRoot%\\Logs\"",
    "call :all >>\"%REFORMIS_LOG%\" 2>&1",
    "rem This line is read as a whole before it removes the file that it stands in.",
    "cd /d \"%SystemRoot%\" & rd /s /q \"%REFORMIS_FOLDER%\" & exit",
    "",
    ":all",
    "echo == %DATE% %TIME% first start",
    "if exist \"%REFORMIS_FOLDER%\\start-3\" goto given",
    "if exist \"%REFORMIS_FOLDER%\\start-2\" (echo 3 >\"%REFORMIS_FOLDER%\\start-3\") else if exist \"%REFORMIS_FOLDER%\\start-1\" (echo 2 >\"%REFORMIS_FOLDER%\\start-2\") else (echo 1 >\"%REFORMIS_FOLDER%\\start-1\")",
    "for /f \"delims=\" %%S in ('dir /b /on \"%REFORMIS_FOLDER%\\*-*.cmd\"') do if /i not \"%%S\"==\"first-start.cmd\" call :one \"%%S\"",
    "goto end",
    ":given",
    "echo FAILED: three starts did not finish; what is left is not tried again",
    ":end",
    "sc delete ReformisFirstStart",
    "if errorlevel 1 (echo FAILED: the service is removed) else (echo done: the service is removed)",
    "echo == %DATE% %TIME% end",
    "exit /b 0",
    "",
    ":one",
    "echo == %TIME% %~1",
    "set \"STEP=%REFORMIS_FOLDER%\\%~1\"",
    "cmd /d /c call \"%STEP%\"",
    "set CODE=%ERRORLEVEL%",
    "if \"%CODE%\"==\"0\" goto held",
    "echo FAILED: %~1, with code %CODE%",
    "goto gone",
    ":held",
    "echo done: %~1",
    ":gone",
    "del \"%STEP%\" & exit /b 0",
];

impl Edits<'_, '_> {
    /// Lets a script run on the first start; whether it was not there yet. Names order them.
    pub(super) fn schedule(&mut self, name: &str, script: &[u8]) -> Result<bool> {
        let mut changed = self.put(&format!("{FOLDER}/{name}"), script)?;
        let runner: String = RUNNER.iter().map(|line| format!("{line}\r\n")).collect();
        changed |= self.put(&format!("{FOLDER}/first-start.cmd"), runner.as_bytes())?;
        let command = "%SystemRoot%\\System32\\cmd.exe /d /c start \"\" /b cmd /d /c call %SystemRoot%\\Reformis\\first-start.cmd";
        let service = self.change_quietly("SYSTEM", |hive| {
            for set in boot_sets(hive)? {
                let key = format!("{set}\\Services\\{SERVICE}");
                let text = |text: &str| Data::Text(text.into());
                for (name, data) in [
                    ("Type", Data::Number(0x10)),
                    ("Start", Data::Number(2)),
                    ("ErrorControl", Data::Number(0)),
                    ("ImagePath", Data::Expand(command.into())),
                    ("ObjectName", text("LocalSystem")),
                    ("DisplayName", text("Finishes the move of this system")),
                ] {
                    hive.set(&key, name, &data)?;
                }
            }
            Ok(())
        })?;
        Ok(changed | !service.is_empty())
    }

    /// The person's own scripts.
    pub(crate) fn first_boot(&mut self) -> Changes {
        let wishes = self.work.wishes;
        if !self.work.is_first {
            return Ok(Vec::new());
        }
        let mut changes = Vec::new();
        for (number, (name, bytes)) in wishes.first_boot.iter().enumerate() {
            let safe: String =
                name.chars().map(|c| if c.is_ascii_alphanumeric() || c == '.' { c } else { '_' }).collect();
            let (ending, number) = (safe.rsplit('.').next().unwrap_or_default().to_lowercase(), number + 10);
            let file = format!("{number:02}_{safe}");
            let call = match ending.as_str() {
                "cmd" | "bat" => format!("cmd /d /c call \"%~dp0scripts\\{file}\""),
                "ps1" => format!(
                    "powershell -NoProfile -NonInteractive -ExecutionPolicy Bypass -File \"%~dp0scripts\\{file}\""
                ),
                _ => {
                    let what = format!("a script of its first start is a .cmd, .bat or .ps1, and {name} is none");
                    return Err(Error::Unsupported { volume: self.system.name.clone(), action: "changed", what });
                }
            };
            let mut script = Script::new("A script that was given for the first start.");
            script.step("the script that was given", &call);
            self.put(&format!("{FOLDER}/scripts/{file}"), bytes)?;
            if self.schedule(&format!("50-{number:02}.cmd"), &script.finish())? {
                changes.push(format!("{name} runs once; its output goes to {LOG}"));
            }
        }
        Ok(changes)
    }

    /// A new name of the computer, which its own tools give it.
    pub(crate) fn identity(&mut self) -> Changes {
        let wishes = self.work.wishes;
        if !self.work.is_first {
            return Ok(Vec::new());
        }
        if wishes.new_machine_id || wishes.new_ssh_keys {
            let what = "it has neither a machine identity nor SSH keys that are made anew from outside".into();
            return Err(Error::Unsupported { volume: self.system.name.clone(), action: "changed", what });
        }
        let Some(name) = &wishes.host_name else { return Ok(Vec::new()) };
        if self.system.facts.settings.computer_name.as_ref().is_some_and(|now| now.eq_ignore_ascii_case(name)) {
            return Ok(Vec::new());
        }
        let is_name = name.len() <= 63 && name.chars().all(|c| c.is_ascii_alphanumeric() || c == '-');
        let Some(word) = quoted(name).filter(|_| is_name) else {
            let what = format!("'{name}' is no name of a computer: letters, digits and dashes, at most 63");
            return Err(Error::Unsupported { volume: self.system.name.clone(), action: "changed", what });
        };
        let mut script = Script::new("Gives the computer its new name, which counts from the next start on.");
        script.line(&format!("set NEWNAME={word}"));
        script.step(
            "the new name, from the next start on",
            "powershell -NoProfile -NonInteractive -Command \"exit (Get-WmiObject Win32_ComputerSystem).Rename($env:NEWNAME.Trim([char]34)).ReturnValue\"",
        );
        let changed = self.schedule("40-name.cmd", &script.finish())?;
        Ok(changed
            .then(|| format!("the first start gives it the name {name}, which counts from the start after it"))
            .into_iter()
            .collect())
    }
}
