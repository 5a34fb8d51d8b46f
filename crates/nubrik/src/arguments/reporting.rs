//! What `nubrik report` takes.

use std::path::PathBuf;

use clap::Args;

/// The files that reports are written to; `-` is standard output.
#[derive(Args, Clone, Default)]
pub struct ReportFiles {
    /// Write one page of HTML, which needs nothing else
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Write Markdown, as CI systems show it
    #[arg(long, value_name = "FILE")]
    pub markdown: Option<PathBuf>,
    /// Write the cases of all tests that ran as JUnit XML
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Write what failed, with places in sources, as SARIF, which pages of code show
    #[arg(long, value_name = "FILE")]
    pub sarif: Option<PathBuf>,
    /// Write when the steps of the build ran, as trace events that timeline viewers open
    #[arg(long, value_name = "FILE")]
    pub trace: Option<PathBuf>,
    /// Write all pages of `nubrik explore` to this folder; they need no server
    #[arg(long, value_name = "FOLDER")]
    pub pages: Option<PathBuf>,
}
