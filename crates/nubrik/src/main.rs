//! The nubrik program: the command line, one file a command, and all looks in `ui`.

mod arguments;
mod commands;
mod exit;
mod interrupt;
mod ui;

use std::process::ExitCode;

use clap::Parser;

fn main() -> ExitCode {
    // A reader that has seen enough (`nubrik list | head`) ends this program quietly.
    interrupt::end_quietly_when_output_closes();
    let arguments = arguments::Arguments::parse();
    commands::dispatch(arguments).into()
}
