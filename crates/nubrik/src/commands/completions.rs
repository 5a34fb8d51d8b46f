//! `nubrik completions`

use clap::CommandFactory;

use super::CommandResult;
use crate::arguments::Arguments;
use crate::exit::Exit;

pub fn completions(shell: clap_complete::Shell) -> CommandResult<Exit> {
    let mut command = Arguments::command();
    clap_complete::generate(shell, &mut command, "nubrik", &mut std::io::stdout());
    Ok(Exit::Done)
}
