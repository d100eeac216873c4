//! The options that do what a remedy says: the core knows no options, and a person here types them.

/// Codes of errors and findings, and the options for them.
const OPTIONS: [(&str, &str); 21] = [
    ("programs-not-allowed", "--allow-programs"),
    ("part-kept", "--resume"),
    ("not-an-image", "--from raw"),
    ("unsafe-name", "--trust-links"),
    ("guessed-name", "--from raw"),
    ("footer-at-end", "--from FORMAT"),
    ("exists", "--force"),
    ("no-such-shape", "--as SHAPE"),
    ("several-machines", "--machine NAME"),
    ("no-system", "--volume NAME"),
    ("volume-not-read", "--volume NAME"),
    ("not-in-place", "--out FILE"),
    ("not-a-landing", "--into FOLDER"),
    ("read-forwards", "--unpack"),
    ("leftovers-dropped", "--keep-unknown"),
    ("locked", "--accept locked"),
    ("tpm-bound", "--accept tpm-bound"),
    ("network-unmapped", "--network NAME"),
    ("adapter-unconnected", "--network NAME"),
    ("adapter-unknown", "--mac ADDRESS"),
    ("no-driver", "--drivers MEDIUM"),
];

/// `remedy`, with the option that does it.
pub(crate) fn with_option(code: &str, remedy: &str) -> String {
    match OPTIONS.iter().find(|(known, _)| *known == code) {
        Some((_, option)) => format!("{} ({option}).", remedy.trim_end_matches('.')),
        None => remedy.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory as _;

    use super::*;

    #[test]
    fn every_option_is_one_and_every_code_is_in_use() {
        let program = crate::args::Cli::command();
        let commands = program.get_subcommands();
        let commands = commands.flat_map(|command| std::iter::once(command).chain(command.get_subcommands()));
        let known: Vec<&str> =
            commands.flat_map(|command| command.get_arguments().filter_map(clap::Arg::get_long)).collect();
        let words = [
            include_str!("../../core/disk/src/error.rs"),
            include_str!("../../core/move/src/error.rs"),
            include_str!("../../core/move/src/fleet/error.rs"),
            include_str!("../../core/move/src/finding/words.rs"),
        ];
        for (code, option) in OPTIONS {
            let name = option.split(' ').next().unwrap().trim_start_matches("--");
            assert!(known.contains(&name), "{option}");
            assert!(words.iter().any(|text| text.contains(&format!("\"{code}\""))), "{code}");
        }
    }

    #[test]
    fn the_option_stands_behind_what_it_does() {
        assert_eq!(with_option("exists", "Choose another name."), "Choose another name (--force).");
        assert_eq!(with_option("damaged", "Fetch it again."), "Fetch it again.");
    }
}
