//! What `nubrik test` takes.

use std::path::PathBuf;

use clap::Args;
use nubrik_reports::parts::TestPart;

use super::How;

/// Tests, and how they are run.
#[derive(Args, Clone)]
pub struct Testing {
    /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this
    /// folder and below
    #[arg(value_name = "TARGET")]
    pub what: Vec<String>,
    #[command(flatten)]
    pub how: How,
    #[command(flatten)]
    pub which: WhichTests,
}

/// Tests that are chosen by what they are, and how they ended.
#[derive(Args, Clone, Default)]
pub struct TestChoice {
    /// Only tests that did not pass the last time
    #[arg(long)]
    pub failed: bool,
    /// Only tests with this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    /// Only tests whose path has this text; may be repeated
    #[arg(long, value_name = "TEXT")]
    pub filter: Vec<String>,
}

impl TestChoice {
    /// Whether some tests are chosen.
    pub fn is_any(&self) -> bool {
        self.failed || self.tag.is_some() || !self.filter.is_empty()
    }
}

/// Which tests are run.
#[derive(Args, Clone, Default)]
pub struct WhichTests {
    #[command(flatten)]
    pub chosen: TestChoice,
    /// Only tests that a change since this revision of git can affect; uncommitted changes count
    #[arg(long, value_name = "REV")]
    pub since: Option<String>,
    /// Run each of them N times, to find flaky ones
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub repeat: Option<u32>,
    /// Run tests that failed again, up to N times; who passes then is flaky, and has not failed
    #[arg(long, value_name = "N", conflicts_with = "repeat", value_parser = clap::value_parser!(u32).range(1..=100))]
    pub retries: Option<u32>,
    /// Run a part of the tests, such as 2/5 for the second of five; each test is in one part, on
    /// all machines
    #[arg(long, value_name = "K/N", conflicts_with = "failed")]
    pub part: Option<TestPart>,
    /// With --part, make parts that take equally long, by the times in a JUnit report of before,
    /// the same on all machines
    #[arg(long, value_name = "FILE", requires = "part")]
    pub times: Option<PathBuf>,
    /// Write a report of all cases as JUnit XML
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
    /// Report line coverage; what is tested is built in a variant that counts its lines
    #[arg(long)]
    pub coverage: bool,
    /// With --coverage, also write the lines to a file: as Cobertura XML if it ends in .xml, else
    /// as LCOV; may be repeated
    #[arg(long, value_name = "FILE", requires = "coverage")]
    pub coverage_file: Vec<PathBuf>,
}
