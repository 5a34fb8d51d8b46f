//! Exit codes, the same for all commands.

use std::process::ExitCode;

/// How a command ended.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Exit {
    /// Done.
    Done,
    /// A step failed.
    Failed,
    /// The command line is wrong.
    Usage,
    /// The definitions or settings are wrong.
    Definitions,
    /// The machine lacks something.
    Machine,
    /// The tool's own state or a store is at fault.
    Own,
    /// Interrupted.
    Interrupted,
    /// As a program that was run in the terminal ended.
    Other(u8),
}

impl Exit {
    /// The number for scripts.
    pub fn code(self) -> u8 {
        match self {
            Exit::Done => 0,
            Exit::Failed => 1,
            Exit::Usage => 2,
            Exit::Definitions => 3,
            Exit::Machine => 4,
            Exit::Own => 5,
            Exit::Interrupted => crate::interrupt::exit_code(),
            Exit::Other(code) => code,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> ExitCode {
        ExitCode::from(exit.code())
    }
}
