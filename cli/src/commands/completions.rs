//! `reformis completions`

use anyhow::Result;
use clap::CommandFactory;

use crate::{
    args::{Cli, CompletionsArgs},
    exit::Exit,
    output::emit,
};

pub(crate) fn run(args: &CompletionsArgs) -> Result<Exit> {
    let mut script = Vec::new();
    clap_complete::generate(args.shell, &mut Cli::command(), "reformis", &mut script);
    emit(&String::from_utf8_lossy(&script))?;
    Ok(Exit::Done)
}
