//! The command line.

mod adopting;
mod amounts;
mod caching;
mod drawing;
mod pinning;
mod sharing;
mod testing;

use std::path::PathBuf;

use clap::builder::Styles;
use clap::builder::styling::AnsiColor;
use clap::{Args, Parser, Subcommand};

pub use adopting::{Adopting, Aligning};
use amounts::share;
pub use caching::CacheWork;
pub use drawing::GraphFormat;
pub use pinning::{Pinning, SbomFormat};
pub use sharing::{RootKey, ShareWork};
pub use testing::{Testing, WhichTests};

const STYLES: Styles = Styles::styled()
    .header(AnsiColor::Cyan.on_default().bold())
    .usage(AnsiColor::Cyan.on_default().bold())
    .literal(AnsiColor::Blue.on_default().bold())
    .placeholder(AnsiColor::Yellow.on_default());

/// Builds what definitions describe, runs only what must run, and says why.
#[derive(Parser)]
#[command(name = "nubrik", version, styles = STYLES, max_term_width = 100)]
#[command(
    help_template = crate::groups::GROUPS
)]
pub struct Arguments {
    #[command(subcommand)]
    pub command: UserCommand,
    #[command(flatten)]
    pub face: Face,
    #[command(flatten)]
    pub choice: Choice,
}

/// Which options are set.
#[derive(Args, Clone, Default)]
pub struct Choice {
    /// Set an option; may be repeated
    #[arg(long, global = true, value_name = "OPTION=VALUE")]
    pub set: Vec<String>,
    /// Set the options of a profile of nubrik.toml
    #[arg(long, global = true, value_name = "NAME")]
    pub profile: Option<String>,
    /// Work in this folder instead of the current one
    #[arg(short = 'C', long, global = true, value_name = "FOLDER")]
    pub directory: Option<PathBuf>,
}

/// When colours are used.
#[derive(clap::ValueEnum, Clone, Copy, PartialEq, Eq, Debug, Default)]
pub enum Color {
    /// In a terminal that can show them
    #[default]
    Auto,
    /// Also where the output goes to a file or another program
    Always,
    /// Never
    Never,
}

/// How a command shows its results.
#[derive(Args, Clone, Copy)]
pub struct Face {
    /// One fact per line, no live view, no colours
    #[arg(long, global = true)]
    pub plain: bool,
    /// One JSON value per line, for programs
    #[arg(long, global = true, conflicts_with = "plain")]
    pub json: bool,
    /// When to use colours: auto (the default), always or never
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        value_enum,
        default_value_t,
        hide_possible_values = true,
        hide_default_value = true
    )]
    pub color: Color,
}

#[derive(Subcommand)]
pub enum UserCommand {
    /// Write a first `nubrik.toml` and `targets.nub` in this folder, whichever is not there
    Init,
    /// Look at a folder of sources, propose definitions for it, and try them
    ///
    /// Nothing is written before you agree. What it writes is yours: it is never written over.
    Adopt(Adopting),
    /// Say where definitions and sources differ, and change the definitions
    ///
    /// A new file that no definition takes, something imported that is not among the needs, a need that nothing uses.
    Align(Aligning),
    /// Unpack the demo workspace, build it, run it, and say what to try
    Demo {
        /// Folder to unpack into; it must be new or empty
        #[arg(default_value = "skerrin-almanac")]
        dir: PathBuf,
    },
    /// Build targets
    Build {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        #[command(flatten)]
        how: How,
        /// Then run the steps of these targets once more, recorded, and compare what they read and write with
        /// what they declare
        #[arg(long, conflicts_with = "dry_run")]
        observe: bool,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV", conflicts_with = "observe")]
        since: Option<String>,
        /// Run again what was taken from the team's store, or a share of it, and compare every byte
        #[arg(long, value_name = "SHARE", num_args = 0..=1, require_equals = true, value_parser = share, conflicts_with_all = ["observe", "dry_run"])]
        verify: Option<Option<u32>>,
        #[command(flatten)]
        once: Once,
    },
    /// Run tests whose results are out of date, after building what they need
    Test {
        #[command(flatten)]
        tests: Testing,
        #[command(flatten)]
        once: Once,
    },
    /// Build a program, job or service and run it in this terminal
    Run(RunArguments),
    /// Build, test or run again whenever a file changes
    Watch {
        #[command(subcommand)]
        work: Option<WatchCommand>,
    },
    /// Open a shell in a step's folder, environment and sandbox
    Inside {
        /// The target that has the step
        #[arg(value_name = "TARGET")]
        target: String,
        /// Words of what the step says it does, if the target has several
        step: Option<String>,
    },
    /// Say what a build would run, and why, without building
    #[command(after_help = "run    the step would run its commands\n\
maybe  it depends on a step that would run: it runs too, unless that makes the same bytes as before\n\
reuse  its result is kept from an earlier build, here or in another workspace, and would be put back")]
    Plan {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// What `nubrik test` would run instead
        #[arg(long)]
        tests: bool,
        /// Pretend that this source changed; may be repeated
        #[arg(long, value_name = "FILE")]
        if_changed: Vec<PathBuf>,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV")]
        since: Option<String>,
        /// How many steps run at once, for the forecast
        #[arg(long, short, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4096))]
        jobs: Option<u16>,
    },
    /// Say why a target would run now or why it last ran, or how one depends on another
    Why {
        /// The target to explain
        #[arg(value_name = "TARGET")]
        target: String,
        /// Show the dependency path from it to this target instead
        #[arg(value_name = "NEED")]
        need: Option<String>,
        /// Say what keeps its steps from being taken from the team's store: the nearest result of another machine, and what differs
        #[arg(long, conflicts_with = "need")]
        shared: bool,
    },
    /// List the last builds, or the steps of one of them
    History {
        /// The number of a build
        build: Option<u64>,
    },
    /// List targets, tests and jobs by package
    List {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// Count them by kind
        #[arg(long)]
        count: bool,
        /// List tests with the cases that they last reported
        #[arg(long, conflicts_with = "count")]
        cases: bool,
        /// List what is pinned instead: other people's code, why it is there, and whether it is used
        #[arg(long, conflicts_with_all = ["count", "cases", "what", "kind", "tag", "since"])]
        external: bool,
        /// Only those of this kind
        #[arg(long, value_name = "KIND")]
        kind: Option<String>,
        /// Only those with this tag
        #[arg(long, value_name = "TAG")]
        tag: Option<String>,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV")]
        since: Option<String>,
    },
    /// Show all about one target
    Show {
        /// The target to show
        #[arg(value_name = "TARGET")]
        target: String,
        /// Show what its steps printed when they last ran
        #[arg(long)]
        printed: bool,
    },
    /// Show what a target depends on
    Tree {
        /// The target to begin with
        #[arg(value_name = "TARGET")]
        target: String,
        /// How many levels to show
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
        /// Show what depends on the target instead
        #[arg(long)]
        users: bool,
    },
    /// Draw what depends on what
    Graph {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// How to draw it: text (the default), svg, dot, mermaid or json
        #[arg(long, value_enum, hide_possible_values = true)]
        format: Option<GraphFormat>,
        /// The file to write; its ending says the format if --format does not
        #[arg(long, value_name = "FILE")]
        output: Option<PathBuf>,
        /// How many levels below what was asked for to draw
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
        /// Draw what depends on it instead
        #[arg(long)]
        users: bool,
        /// Draw packages instead of targets
        #[arg(long)]
        packages: bool,
    },
    /// Answer an editor over the language server protocol, on standard input and output
    Lsp,
    /// Serve pages about everything here: targets, graphs, builds, tests, words
    Explore {
        /// The port of this machine; a free one without it
        #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
        port: u16,
    },
    /// Write a report of a build or of all tests: a page, Markdown, JUnit XML, a trace, or pages about everything
    Report {
        /// The number of a build, or `tests` for all tests as they stand; the last build without it
        #[arg(value_name = "BUILD")]
        what: Option<String>,
        /// Write one page of HTML, which needs nothing else
        #[arg(long, value_name = "FILE")]
        html: Option<PathBuf>,
        /// Write Markdown, as pages of CI systems show it; what is printed without any of the three
        #[arg(long, value_name = "FILE")]
        markdown: Option<PathBuf>,
        /// Write the cases of all tests that ran as JUnit XML
        #[arg(long, value_name = "FILE")]
        junit: Option<PathBuf>,
        /// Write when the steps of the build ran, as trace events that timeline viewers open
        #[arg(long, value_name = "FILE")]
        trace: Option<PathBuf>,
        /// Write all pages of `nubrik explore` to this folder; they need no server
        #[arg(long, value_name = "FOLDER")]
        pages: Option<PathBuf>,
    },
    /// List the options that can be set, and who reads them
    Options {
        /// Only those whose name or documentation has this word
        word: Option<String>,
    },
    /// Say which tools and libraries are installed, and what to install
    Doctor,
    /// Explain a form, a kind, an error, a setting, a command, a word; without a topic, list them
    Explain {
        /// What to explain: a form, a kind, the code of an error, a state
        #[arg(value_name = "TOPIC")]
        topic: Vec<String>,
        /// Everything, as Markdown
        #[arg(long, conflicts_with = "topic")]
        all: bool,
    },
    /// Choose exact versions of other people's code, and write them to `pins.toml`
    Pin(Pinning),
    /// Take a package out of `pins.toml`, and what nothing else needs
    Unpin {
        /// The registry: python, java, js, rust, go or archive
        #[arg(value_name = "REGISTRY")]
        registry: String,
        /// The package
        #[arg(value_name = "NAME")]
        name: String,
    },
    /// Write which other people's code is in a target: a bill of materials
    Sbom {
        /// The target
        #[arg(value_name = "TARGET")]
        target: String,
        /// The format: cyclonedx (1.5, the default) or spdx (2.3), as JSON
        #[arg(long, value_enum, default_value_t, hide_possible_values = true, hide_default_value = true)]
        format: SbomFormat,
        /// The file to write; standard output by default
        #[arg(long, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Format definition files
    Fmt {
        /// Definition files or folders; `-` for standard input
        files: Vec<PathBuf>,
        /// Change nothing; say which files are not in the usual form
        #[arg(long)]
        check: bool,
    },
    /// Print what a shell reads to propose targets, options and their values
    Completions {
        /// The shell that completes
        shell: clap_complete::Shell,
    },
    /// Write manual pages of all commands to a folder
    Manual {
        /// The folder, such as `~/.local/share/man/man1`
        #[arg(value_name = "FOLDER")]
        to: PathBuf,
    },
    /// Say what this workspace asks to use and to send where, and agree to it
    Agree {
        /// Agree to all of it, on this machine and for your user
        #[arg(long)]
        yes: bool,
    },
    /// Say how this workspace stands to a team's store, agree to it, and say who may write there
    Share {
        #[command(subcommand)]
        work: Option<ShareWork>,
    },
    /// Say which machines run steps for this workspace, or run steps for others
    Workers {
        #[command(subcommand)]
        work: Option<WorkersCommand>,
    },
    /// Say how much space kept results take, check them, make room
    Cache {
        #[command(subcommand)]
        work: Option<CacheWork>,
    },
    /// Remove results; never needed for a correct build
    Clean {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// Remove the results kept for all workspaces, too
        #[arg(long)]
        store: bool,
    },
    /// Check all definitions, without building
    Lint {
        /// Fail on warnings, too
        #[arg(long)]
        strict: bool,
    },
}

/// Something to run.
#[derive(Args, Clone)]
pub struct RunArguments {
    /// The program, job or service to run; may be left out if there is only one in this folder and below
    #[arg(value_name = "TARGET")]
    pub target: Option<String>,
    /// Arguments for it
    #[arg(last = true)]
    pub args: Vec<String>,
    #[command(flatten)]
    pub how: How,
}

/// What is done with workers.
#[derive(clap::Subcommand, Clone)]
pub enum WorkersCommand {
    /// Run steps for other machines, as nubrik.toml says in [workers], until it is stopped
    Serve {
        /// How many steps run at once; as many as there are processors without it
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
        slots: Option<u16>,
        /// What others call this machine
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
        /// What steps may say of this machine in `machine = […]`, besides its system and its processor; again for more
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// How long its steps go on when it is to end; then they are given back
        #[arg(long, value_name = "SECONDS", default_value_t = 10)]
        grace: u32,
    },
}

/// What is done after each change; everything in this folder and below is built where nothing is said.
#[derive(clap::Subcommand, Clone)]
pub enum WatchCommand {
    /// Build targets
    Build {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        #[command(flatten)]
        how: How,
    },
    /// Run tests whose results are out of date
    Test(Testing),
    /// Keep a program or job running; restart it when what it uses changes
    Run(RunArguments),
}

/// How a build goes.
#[derive(Args, Clone, Copy, Default)]
pub struct How {
    /// How many steps run at once
    #[arg(long, short, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4096))]
    pub jobs: Option<u16>,
    /// After a failure, or an error in definitions, go on with what does not depend on it
    #[arg(long, short)]
    pub keep_going: bool,
    /// Report every step and its reason, including steps with nothing to do
    #[arg(long)]
    pub reasons: bool,
    /// Only say what fails or needs attention
    #[arg(long, short, conflicts_with_all = ["reasons", "verbose"])]
    pub quiet: bool,
    /// Show the commands of steps that run
    #[arg(long, short)]
    pub verbose: bool,
    /// Use no network: a step that needs it fails, unless its result is kept; no team's store but a folder, no other machines
    #[arg(long)]
    pub offline: bool,
    /// Take no result that is kept for all workspaces, and keep none
    #[arg(long)]
    pub no_cache: bool,
    /// Neither take results from the team's store nor give any
    #[arg(long)]
    pub no_shared: bool,
    /// Fail where the team's store cannot be asked, or takes nothing
    #[arg(long, conflicts_with_all = ["no_shared", "no_cache"])]
    pub require_shared: bool,
}

/// What is done once, and would mean something else after each change.
#[derive(Args, Clone, Copy, Default)]
pub struct Once {
    /// Only say what would run, as `nubrik plan` does
    #[arg(long, short = 'n', conflicts_with = "rerun")]
    pub dry_run: bool,
    /// Run the steps of these targets again, though nothing changed
    #[arg(long, conflicts_with = "since")]
    pub rerun: bool,
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    use super::*;

    #[test]
    fn each_argument_is_explained() {
        fn check(command: &clap::Command) {
            for argument in command.get_arguments() {
                let name = format!("{} {}", command.get_name(), argument.get_id());
                assert!(argument.get_help().is_some(), "{name} says nothing of itself");
            }
            command.get_subcommands().for_each(check);
        }
        check(&Arguments::command());
    }
}
