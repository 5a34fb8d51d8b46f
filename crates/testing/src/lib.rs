//! Tests that need more than Rust and a C compiler are left out where that is not there, visibly.
//! Where it must be there, they fail.
//!
//! ```no_run
//! use nubrik_testing::{Need, skip};
//!
//! if !std::path::Path::new("/nowhere/nvim").exists() {
//!     skip(Need::Editor, "there is no nvim");
//! }
//! ```

use std::fmt;

pub mod layouts;

/// The variable with the words of what must be there, with blanks between.
pub const MUST: &str = "NUBRIK_TESTS_NEED";

macro_rules! needs {
    ($($(#[$doc:meta])* $need:ident $word:literal,)*) => {
        /// What a test needs.
        #[derive(Clone, Copy, PartialEq, Eq, Debug)]
        pub enum Need {
            $($(#[$doc])* $need,)*
        }

        impl Need {
            /// All of them.
            pub const ALL: &[Need] = &[$(Need::$need),*];

            /// Its word in [`MUST`].
            pub fn word(self) -> &'static str {
                match self {
                    $(Need::$need => $word,)*
                }
            }
        }
    };
}

needs! {
    /// All that the kernel confines and records by, sandboxes among it.
    Confinement "confinement",
    /// The rights of the superuser: to mount, to put files where the system has its own.
    Superuser "superuser",
    /// A checkout that is not among temporary files.
    Place "place",
    /// A browser that is driven.
    Browser "browser",
    /// A server for jobs.
    Jobs "jobs",
    /// A server that speaks the distribution protocol of images, and programs that make images and
    /// hand them to it.
    Images "images",
    /// Programs with another clock.
    Clocks "clocks",
    /// An editor that speaks the language server protocol.
    Editor "editor",
    /// What compilers and interpreters count lines by.
    Counters "counters",
    /// Shells that complete.
    Shells "shells",
    /// Compilers and interpreters of kits.
    Kits "kits",
    /// A Go with a compiled standard library.
    GoLibrary "go-library",
    /// What belongs to the compiler and reads which lines ran.
    LlvmTools "llvm-tools",
    /// git, with submodules.
    Git "git",
    /// An interpreter of Python 3.
    Python "python",
    /// An interpreter of Perl.
    Perl "perl",
    /// A program that makes certificates.
    Certificates "certificates",
    /// A file system of which the kernel says all changes.
    Watching "watching",
    /// A program that begins a session of processes.
    Sessions "sessions",
}

/// Says that a test, or a part of one, is left out, and why.
///
/// # Panics
/// Where [`MUST`] says that it may not be.
#[allow(clippy::print_stdout)] // What tests say.
pub fn skip(need: Need, why: impl fmt::Display) {
    let must = std::env::var(MUST).unwrap_or_default();
    let words: Vec<&str> = must.split_whitespace().collect();
    let unknown = words
        .iter()
        .find(|word| Need::ALL.iter().all(|need| need.word() != **word));
    assert!(
        unknown.is_none(),
        "{MUST} names {unknown:?}, which no test needs"
    );
    assert!(
        !words.contains(&need.word()),
        "{MUST} names {}: {why}",
        need.word()
    );
    println!("skipped: {why}");
}

/// How many cases a random test tries: what `NUBRIK_TEST_CASES` says, or else this number.
pub fn cases(usual: u32) -> u32 {
    std::env::var("NUBRIK_TEST_CASES")
        .ok()
        .and_then(|n| n.parse().ok())
        .unwrap_or(usual)
}
