//! The nubrik program: the command line, one file a command, and all looks in `ui`.

mod arguments;
mod commands;
mod exit;
mod interrupt;
mod ui;
mod usage;

use std::process::ExitCode;

use clap::Parser;

/// Definitions become very many small values, on several threads.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

fn main() -> ExitCode {
    // A reader that has seen enough (`nubrik list | head`) ends this program quietly.
    interrupt::end_quietly_when_output_closes();
    match arguments::Arguments::try_parse() {
        Ok(arguments) => commands::dispatch(arguments).into(),
        Err(error) => usage::explain(&error).into(),
    }
}
