//! Writes the man pages from the definition of the command line: `cargo run -p reformis --example make-man -- FOLDER`.

#[path = "../src/args/mod.rs"]
#[allow(dead_code, unused_imports, reason = "what was typed is not read here")]
mod args;

use std::path::PathBuf;

use clap::CommandFactory;

fn main() -> std::io::Result<()> {
    let folder = PathBuf::from(std::env::args_os().nth(1).unwrap_or_else(|| "docs/man".into()));
    std::fs::create_dir_all(&folder)?;
    // Without a date: the pages change when the command line does.
    clap_mangen::generate_to(args::Cli::command().disable_help_flag(false), folder)
}
