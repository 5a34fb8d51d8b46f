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

/// Ends of commands, and what they mean to who called one.
pub const MEANINGS: [(Exit, &str); 6] = [
    (
        Exit::Done,
        "Done: all that was asked for is there, all tests passed.",
    ),
    (
        Exit::Failed,
        "A step or test failed, or a check found something.",
    ),
    (
        Exit::Usage,
        "The command line is wrong, or names what there is not.",
    ),
    (
        Exit::Definitions,
        "The definitions or the settings are wrong: nothing ran.",
    ),
    (
        Exit::Machine,
        "The machine lacks something: a tool, space, a server.",
    ),
    (
        Exit::Own,
        "Nubrik's own files, the cache or the shared cache cannot be used.",
    ),
];

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
