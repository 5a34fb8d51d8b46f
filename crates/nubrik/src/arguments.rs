//! The command line.

use std::path::PathBuf;

use clap::builder::Styles;
use clap::builder::styling::AnsiColor;
use clap::{Args, Parser, Subcommand};

const STYLES: Styles = Styles::styled()
    .header(AnsiColor::Cyan.on_default().bold())
    .usage(AnsiColor::Cyan.on_default().bold())
    .literal(AnsiColor::Blue.on_default().bold())
    .placeholder(AnsiColor::Yellow.on_default());

/// Builds what definitions describe, runs only what must run, and says why.
#[derive(Parser)]
#[command(name = "nubrik", version, styles = STYLES, max_term_width = 100)]
#[command(
    after_help = "WHAT is a target's address (tide/tidecast), a glob of addresses (tide/**), or a file.\n\
Without it, everything at and below this folder is meant."
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
}

/// How a command shows its results.
#[derive(Args, Clone, Copy)]
pub struct Face {
    /// One line a fact, no live view, no colours
    #[arg(long, global = true)]
    pub plain: bool,
    /// One JSON value a line, for programs
    #[arg(long, global = true, conflicts_with = "plain")]
    pub json: bool,
}

#[derive(Subcommand)]
pub enum UserCommand {
    /// Write a first `nubrik.toml` and `targets.nub` in this folder, whichever is not there
    Init,
    /// Unpack the demo workspace, build it, run it, and say what to try
    Demo {
        /// Folder to unpack into; it must be new or empty
        #[arg(default_value = "skerrin-almanac")]
        dir: PathBuf,
    },
    /// Build targets
    Build {
        what: Vec<String>,
        #[command(flatten)]
        how: How,
        /// Then run the steps of these targets once more, recorded: say what they read and write beside
        /// what they declare
        #[arg(long)]
        audit: bool,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV", conflicts_with = "audit")]
        since: Option<String>,
    },
    /// Run tests whose verdicts do not stand, after building what they need
    Test(Testing),
    /// Build a program or job and run it in this terminal
    Run(RunArguments),
    /// Build, test or run again whenever a file changes
    Watch {
        #[command(subcommand)]
        work: WatchCommand,
    },
    /// Open a shell where a step's commands run: same folder, environment and box
    Inside {
        /// The target that has the step
        address: String,
        /// Words of what the step says it does, where the target has several
        step: Option<String>,
    },
    /// Say what a build would run, and why, without building
    Plan {
        what: Vec<String>,
        /// As if this source had another content; may be repeated
        #[arg(long, value_name = "FILE")]
        if_changed: Vec<PathBuf>,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV")]
        since: Option<String>,
    },
    /// Say why a target would run now, or ran the last time
    Why { address: String },
    /// List the last builds, or the steps of one of them
    History {
        /// The number of a build
        build: Option<u64>,
    },
    /// Write when the steps of a build ran, as trace events that timeline viewers open
    Trace {
        /// The number of a build; the last one by default
        build: Option<u64>,
        /// The file to write; standard output by default
        #[arg(long, value_name = "FILE")]
        to: Option<PathBuf>,
    },
    /// List targets, tests and jobs by package
    List {
        what: Vec<String>,
        /// Count them by what they are
        #[arg(long)]
        kinds: bool,
        /// List tests with the cases that they told of the last time
        #[arg(long, conflicts_with = "kinds")]
        cases: bool,
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
        address: String,
        /// Show what its steps printed when they last ran
        #[arg(long)]
        printed: bool,
    },
    /// Show what a target depends on
    Tree {
        address: String,
        /// How many levels to show
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
        /// Show what depends on the target instead
        #[arg(long)]
        users: bool,
    },
    /// Say how one target comes to depend on another
    How {
        /// The target that depends
        from: String,
        /// The target that it depends on
        to: String,
    },
    /// Draw what depends on what
    Graph {
        what: Vec<String>,
        /// How to draw it
        #[arg(long, value_enum, default_value_t = GraphFormat::Dot)]
        format: GraphFormat,
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
    /// List the options that can be set, and who reads them
    Options {
        /// Only those whose name or documentation has this word
        word: Option<String>,
    },
    /// Say which tools and libraries are there, and what to install
    Doctor,
    /// Explain a form, a kind, an error, a setting, a state; without a topic, list them
    Explain {
        topic: Option<String>,
        /// Everything, as Markdown
        #[arg(long, conflicts_with = "topic")]
        all: bool,
    },
    /// Write definitions in the usual form
    Fmt {
        /// Definition files or folders; `-` for standard input
        files: Vec<PathBuf>,
        /// Change nothing; say which files are not in the usual form
        #[arg(long)]
        check: bool,
    },
    /// Print completions of the command line for a shell
    Completions { shell: clap_complete::Shell },
    /// Say what the kept results of all workspaces take, check them, make room
    Cache {
        #[command(subcommand)]
        work: Option<CacheWork>,
    },
    /// Remove results; never needed for a right build
    Clean {
        what: Vec<String>,
        /// Remove the results kept for all workspaces, too
        #[arg(long)]
        store: bool,
    },
    /// Check all definitions, without building
    Lint,
}

/// Tests, and how they are run.
#[derive(Args, Clone)]
pub struct Testing {
    pub what: Vec<String>,
    #[command(flatten)]
    pub how: How,
    #[command(flatten)]
    pub which: WhichTests,
}

/// Something to run.
#[derive(Args, Clone)]
pub struct RunArguments {
    /// The target that makes the program, or the job
    pub address: String,
    /// Arguments for it
    #[arg(last = true)]
    pub args: Vec<String>,
    #[command(flatten)]
    pub how: How,
}

/// What is done after each change.
#[derive(clap::Subcommand, Clone)]
pub enum WatchCommand {
    /// Build targets
    Build {
        what: Vec<String>,
        #[command(flatten)]
        how: How,
    },
    /// Run tests whose verdicts do not stand
    Test(Testing),
    /// Keep a program or job running; start it anew when what it uses changed
    Run(RunArguments),
}

/// What is done with the results kept for all workspaces.
#[derive(clap::Subcommand, Clone, Copy)]
pub enum CacheWork {
    /// Say how much there is
    Size,
    /// Read all of it again; remove what is damaged
    Verify,
    /// Make room: what was not used for longest goes first
    Prune {
        /// Keep no more than this, such as 10GiB
        #[arg(long, value_name = "SIZE", value_parser = size, required_unless_present = "unused")]
        to: Option<u64>,
        /// Remove what was not used for so many days
        #[arg(long, value_name = "DAYS")]
        unused: Option<u32>,
    },
}

/// A size in bytes: a number with KiB, MiB or GiB behind it.
fn size(text: &str) -> Result<u64, String> {
    let units = [("KiB", 10), ("MiB", 20), ("GiB", 30), ("TiB", 40)];
    let parse = |(unit, shift): (&str, u32)| {
        let number: u64 = text.strip_suffix(unit)?.trim().parse().ok()?;
        number.checked_mul(1 << shift)
    };
    units.into_iter().find_map(parse).ok_or_else(|| "sizes are written 500MiB or 10GiB".to_owned())
}

/// How a build goes.
#[derive(Args, Clone, Copy, Default)]
pub struct How {
    /// How many steps run at once
    #[arg(long, short, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=4096))]
    pub jobs: Option<u16>,
    /// After a failure, go on with what does not depend on it
    #[arg(long, short)]
    pub keep_going: bool,
    /// Say of every step what became of it and why, of those with nothing to do, too
    #[arg(long)]
    pub explain: bool,
}

/// Which tests are run.
#[derive(Args, Clone, Default)]
pub struct WhichTests {
    /// Only those that did not pass the last time
    #[arg(long)]
    pub failed: bool,
    /// Only those that a change since this revision of git can affect; uncommitted changes count
    #[arg(long, value_name = "REV")]
    pub since: Option<String>,
    /// Only those with this tag
    #[arg(long, value_name = "TAG")]
    pub tag: Option<String>,
    /// Run them so many times, to find unsteady ones
    #[arg(long, value_name = "N", value_parser = clap::value_parser!(u32).range(1..=10_000))]
    pub repeat: Option<u32>,
    /// Write a report of all cases as JUnit XML
    #[arg(long, value_name = "FILE")]
    pub junit: Option<PathBuf>,
}

/// How a graph is drawn.
#[derive(clap::ValueEnum, Clone, Copy, PartialEq, Eq, Debug)]
pub enum GraphFormat {
    /// Graphviz's language
    Dot,
    /// Mermaid's language
    Mermaid,
    /// One JSON value a node
    Json,
    /// A picture
    Svg,
}
