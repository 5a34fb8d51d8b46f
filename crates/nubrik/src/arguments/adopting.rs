//! What `nubrik adopt` and `nubrik align` take.

use std::path::PathBuf;

use clap::Args;

/// How a folder is brought in.
#[derive(Args, Clone, Default)]
pub struct Adopting {
    /// The folder to look at; this one by default
    #[arg(value_name = "FOLDER")]
    pub dir: Option<PathBuf>,
    /// Write what is proposed, with the first answer to each question
    #[arg(long, short)]
    pub yes: bool,
    /// Answer a question of it beforehand; may be repeated
    #[arg(long, value_name = "QUESTION=ANSWER")]
    pub answer: Vec<String>,
    /// Write, and do not build what was written
    #[arg(long)]
    pub no_try: bool,
    /// Let nothing use the network: packages that are not pinned already are left out
    #[arg(long)]
    pub offline: bool,
}

/// How definitions are held against sources.
#[derive(Args, Clone, Default)]
pub struct Aligning {
    /// The folder to look at; the whole workspace by default
    #[arg(value_name = "FOLDER")]
    pub dir: Option<PathBuf>,
    /// Change nothing; fail if definitions and sources differ
    #[arg(long, conflicts_with = "yes")]
    pub check: bool,
    /// Write all changes without asking
    #[arg(long, short)]
    pub yes: bool,
}
