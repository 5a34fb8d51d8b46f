//! The nubrik program: the command line, one file a command, and all looks in `ui`.

mod arguments;
mod commands;
mod completing;
mod exit;
mod faults;
mod groups;
mod help;
mod interrupt;
mod ui;
mod usage;

use std::process::ExitCode;

use clap::Parser;

/// Definitions become very many small values, on several threads.
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// So much room for calls this program needs, in bytes. Mostly the first thread has it.
const STACK: u64 = 4 << 20;

fn main() -> ExitCode {
    // Most calls find little to do; what evaluates definitions allows them again.
    nubrik_confine::allow_huge_pages(false);
    faults::say_what_to_do_about_them();
    let limit = rustix::process::getrlimit(rustix::process::Resource::Stack).current;
    if limit.is_none_or(|limit| limit >= STACK) {
        return run();
    }
    match std::thread::Builder::new()
        .stack_size(STACK as usize)
        .spawn(run)
        .map(std::thread::JoinHandle::join)
    {
        Ok(Ok(exit)) => exit,
        Ok(Err(panic)) => std::panic::resume_unwind(panic),
        Err(e) => std::panic::panic_any(nubrik_session::MachineLacks(format!(
            "a thread cannot be started: {e}"
        ))),
    }
}

/// Does what the command line says.
fn run() -> ExitCode {
    // A shell asks what to propose, and nothing else is done.
    clap_complete::CompleteEnv::with_factory(completing::command)
        .var(completing::VARIABLE)
        .complete();
    let exit = match arguments::Arguments::try_parse() {
        Ok(arguments) => commands::dispatch(arguments),
        Err(error) => usage::explain(&error),
    };
    // What could not be printed was not done for a caller that waits for it.
    ui::console::exit_code().map_or_else(|| exit.into(), ExitCode::from)
}
