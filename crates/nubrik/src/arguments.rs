//! The command line.

mod adopting;
mod amounts;
mod caching;
mod drawing;
mod pinning;
mod reporting;
mod sharing;
mod testing;

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::OnceLock;

use clap::builder::Styles;
use clap::builder::styling::AnsiColor;
use clap::{Args, Parser, Subcommand};
use nubrik_graph::shown_word;

pub use adopting::Adopting;
use amounts::share;
pub use caching::{CacheUpkeep, CacheWork};
pub use drawing::GraphFormat;
pub use pinning::{ImageWork, PinRequest, PinsWork, SbomFormat};
pub use reporting::ReportFiles;
pub use sharing::{RootKey, SharedWork};
pub use testing::{TestChoice, Testing, WhichTests};

const STYLES: Styles = Styles::styled()
    .header(AnsiColor::Cyan.on_default().bold())
    .usage(AnsiColor::Cyan.on_default().bold())
    .literal(AnsiColor::Blue.on_default().bold())
    .placeholder(AnsiColor::Yellow.on_default());

/// Nubrik, a build tool: builds targets, runs only what changed, and says why.
#[derive(Parser)]
#[command(name = "nubrik", version = env!("NUBRIK_VERSION"), styles = STYLES, max_term_width = 100)]
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

/// How the command line chose options, for lines that propose another command.
static CHOSEN: OnceLock<String> = OnceLock::new();

impl Choice {
    /// Keeps how options are chosen for all commands that are proposed from now on.
    pub fn keep(&self) {
        let profile = self
            .profile
            .iter()
            .map(|name| format!(" --profile {}", shown_word(name)));
        let set = self
            .set
            .iter()
            .map(|set| format!(" --set {}", shown_word(set)));
        // Only the first command line counts.
        let _ = CHOSEN.set(profile.chain(set).collect());
    }
}

/// The options that choose the same as this command line does, each after a blank; empty where it
/// chooses nothing.
pub fn chosen() -> &'static str {
    CHOSEN.get().map_or("", String::as_str)
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
    /// --check and --update compare the sources with definitions that exist: a new file that no
    /// definition takes, an import that is not among the needs, a need that nothing uses.
    Adopt(Adopting),
    /// Unpack the demo workspace, build it, run it, and say what to try
    Demo {
        /// Folder to unpack into; it must be new or empty
        #[arg(default_value = "skerrin-almanac")]
        dir: PathBuf,
    },
    /// Build targets
    Build {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        #[command(flatten)]
        how: How,
        /// Rerun the steps of these targets, and report the files that they really read and write
        #[arg(long, conflicts_with = "dry_run")]
        observe: bool,
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV", conflicts_with = "observe")]
        since: Option<String>,
        /// Rebuild results that came from the shared cache, or a share of them, and compare every
        /// byte
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
    #[command(after_help = "Example:  nubrik run tide/tidecast -- ardle")]
    Run(RunArguments),
    /// Build, test or run again whenever a file changes
    #[command(
        after_help = "Examples:  nubrik watch   nubrik watch test tide   nubrik watch run board/boardd"
    )]
    Watch {
        #[command(subcommand)]
        work: Option<WatchCommand>,
    },
    /// Open a shell in a step's folder, environment and sandbox
    #[command(after_help = "Example:  nubrik inside tide/tidecast 'compile main.c'")]
    Inside {
        /// The target that has the step
        #[arg(value_name = "TARGET")]
        target: String,
        /// Part of the step's description, if the target has several
        step: Option<String>,
    },
    /// Say what a build would run, and why, without building
    #[command(after_help = "run    the step would run its commands\n\
maybe  it depends on a step that would run: it runs too, unless that makes the same bytes as before\n\
reuse  its result is kept from an earlier build, here or in another workspace, and would be put back")]
    Plan {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// What `nubrik test` would run instead
        #[arg(long)]
        tests: bool,
        #[command(flatten)]
        chosen: TestChoice,
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
        /// Explain why results did not come from the shared cache: the nearest result there, and
        /// the difference
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
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// Count them by kind
        #[arg(long)]
        count: bool,
        /// List tests with the cases that they last reported
        #[arg(long, conflicts_with = "count")]
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
        /// The target to show; of a folder, a list of its targets
        #[arg(value_name = "TARGET")]
        target: String,
        /// Of a folder, show each target
        #[arg(long)]
        all: bool,
        /// Show what its steps printed when they last ran
        #[arg(long)]
        printed: bool,
    },
    /// Show what a target depends on
    Tree {
        /// The target to begin with
        #[arg(value_name = "TARGET")]
        target: String,
        /// How many levels to show; 100 by default
        #[arg(long, value_name = "N")]
        depth: Option<usize>,
        /// Show what depends on the target instead
        #[arg(long)]
        users: bool,
    },
    /// Draw what depends on what
    Graph {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// How to draw it: text (the default), svg, dot, mermaid or json
        #[arg(long, value_enum, hide_possible_values = true)]
        format: Option<GraphFormat>,
        /// The file to write; its ending says the format if --format does not
        #[arg(long, short, value_name = "FILE")]
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
        /// Only what a change since this revision of git can affect; uncommitted changes count
        #[arg(long, value_name = "REV")]
        since: Option<String>,
    },
    /// Answer an editor over the language server protocol, on standard input and output
    Lsp,
    /// Browse targets, graphs, builds and tests in a web browser
    Explore {
        /// The port to listen on; by default any free port
        #[arg(long, value_name = "N", default_value_t = 0, hide_default_value = true)]
        port: u16,
        /// Open the first page in the browser of this desktop
        #[arg(long)]
        open: bool,
    },
    /// Write a report of a build or of all tests: a page, Markdown, JUnit XML, a trace, or pages
    /// about everything
    Report {
        /// The number of a build, or `tests` for the latest result of every test; by default the
        /// last build
        #[arg(value_name = "BUILD")]
        what: Option<String>,
        #[command(flatten)]
        files: ReportFiles,
        /// Join reports of tests in JUnit XML, such as those of all parts of `nubrik test --part`;
        /// with --junit or --markdown
        #[arg(long, value_name = "FILE", num_args = 1.., conflicts_with_all = ["what", "html", "sarif", "trace", "pages"])]
        merge: Vec<PathBuf>,
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
    /// List third-party packages with their exact versions, and change them
    Pins {
        #[command(subcommand)]
        work: Option<PinsWork>,
    },
    /// Write a bill of materials (SBOM) of a target: the third-party packages in it
    Sbom {
        /// The target
        #[arg(value_name = "TARGET")]
        target: String,
        /// The format: cyclonedx (1.5, the default) or spdx (2.3), as JSON
        #[arg(
            long,
            value_enum,
            default_value_t,
            hide_possible_values = true,
            hide_default_value = true
        )]
        format: SbomFormat,
        /// The file to write; standard output by default
        #[arg(long, short, value_name = "FILE")]
        output: Option<PathBuf>,
    },
    /// Push an image to a registry
    Image {
        #[command(subcommand)]
        work: ImageWork,
    },
    /// Format definition files
    Fmt {
        /// Definition files or folders; `-` for standard input
        files: Vec<PathBuf>,
        /// Change nothing; say which files are not in the usual form
        #[arg(long)]
        check: bool,
    },
    /// Print shell completions, or write manual pages
    Setup {
        #[command(subcommand)]
        work: SetupWork,
    },
    /// Say what this workspace asks to use and to send where, and agree to it
    Agree {
        /// Agree to all of it, on this machine and for your user
        #[arg(long)]
        yes: bool,
    },
    /// Show, trust and manage the team's shared cache
    Shared {
        #[command(subcommand)]
        work: Option<SharedWork>,
    },
    /// List the workers of this workspace, or make this machine one
    Workers {
        #[command(subcommand)]
        work: Option<WorkersCommand>,
    },
    /// Show the size of this machine's cache, verify or prune it
    Cache {
        #[command(subcommand)]
        work: Option<CacheWork>,
    },
    /// Remove results; never needed for a correct build
    Clean {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        /// Also remove the cache, which all workspaces share
        #[arg(long)]
        cache: bool,
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
    /// The program, job or service to run; may be left out if there is only one in this folder and
    /// below
    #[arg(value_name = "TARGET")]
    pub target: Option<String>,
    /// Arguments for it
    #[arg(last = true)]
    pub args: Vec<String>,
    #[command(flatten)]
    pub how: How,
}

/// What is set up on a person's machine.
#[derive(clap::Subcommand, Clone)]
pub enum SetupWork {
    /// Print the script that a shell needs to complete targets, options and their values
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
    /// Write manual pages of all commands to a folder
    Manual {
        /// The folder, such as `~/.local/share/man/man1`
        #[arg(value_name = "FOLDER")]
        to: PathBuf,
    },
}

/// What is done with workers.
#[derive(clap::Subcommand, Clone)]
pub enum WorkersCommand {
    /// Run steps for clients, as [workers] of nubrik.toml says, until it is stopped
    Serve {
        /// How many steps run at once; by default one per processor
        #[arg(long, value_name = "N", value_parser = clap::value_parser!(u16).range(1..=1024))]
        slots: Option<u16>,
        /// The name of this worker
        #[arg(long, value_name = "NAME")]
        name: Option<String>,
        /// A label that steps can request with `machine`; may be repeated
        #[arg(long = "label", value_name = "LABEL")]
        labels: Vec<String>,
        /// How long running steps may go on when it is stopped; then they are handed back
        #[arg(long, value_name = "SECONDS", default_value_t = 10)]
        grace: u32,
        /// Answer monitoring systems at this port: /metrics (OpenMetrics) and /health; with an
        /// address before it, also other machines
        #[arg(long, value_name = "[ADDRESS:]PORT", value_parser = metrics_place)]
        metrics: Option<SocketAddr>,
    },
}

/// Where monitoring systems ask: a port of this machine, or of an address of it.
fn metrics_place(text: &str) -> Result<SocketAddr, String> {
    if let Ok(port) = text.parse::<u16>() {
        return Ok(SocketAddr::from(([127, 0, 0, 1], port)));
    }
    text.parse().map_err(|_| {
        "give a port (9464), or an IP address and a port (0.0.0.0:9464, [::]:9464)".to_owned()
    })
}

/// What is done after each change; everything in this folder and below is built where nothing is
/// said.
#[derive(clap::Subcommand, Clone)]
pub enum WatchCommand {
    /// Build targets
    Build {
        /// Targets (tide/tidecast), globs of them (tide/**), or files; without any, everything in
        /// this folder and below
        #[arg(value_name = "TARGET")]
        what: Vec<String>,
        #[command(flatten)]
        how: How,
    },
    /// Run tests whose results are out of date
    Test(Testing),
    /// Keep a program or job running; restart it when what it uses changes
    Run(RunArguments),
    /// Be the workspace's watcher: note which files change, for commands that ask
    #[command(hide = true)]
    Files {
        /// When it ends
        #[arg(long, default_value = "unasked")]
        until: WatcherUntil,
        /// What a request looked at, which it begins with
        #[arg(long, value_name = "SEAL")]
        seal: Option<String>,
    },
}

/// When a watcher ends.
#[derive(clap::ValueEnum, Clone, Copy, PartialEq, Eq)]
pub enum WatcherUntil {
    /// When nobody has asked it for long
    Unasked,
    /// When nothing is open that wants it
    Alone,
}

impl WatcherUntil {
    /// How it is written.
    pub fn word(self) -> &'static str {
        match self {
            WatcherUntil::Unasked => "unasked",
            WatcherUntil::Alone => "alone",
        }
    }
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
    /// Use no network: a step that needs it fails unless its result is cached; no shared cache
    /// except in a folder, no workers
    #[arg(long)]
    pub offline: bool,
    /// Use neither the cache of this machine nor the shared cache
    #[arg(long)]
    pub no_cache: bool,
    /// Do not use the shared cache
    #[arg(long)]
    pub no_shared_cache: bool,
    /// Note what results rest on of this machine, so that `nubrik cache save` can hand them to
    /// others
    #[arg(long, conflicts_with = "no_cache")]
    pub portable: bool,
    /// Fail if the shared cache cannot be reached, or accepts nothing
    #[arg(long, conflicts_with_all = ["no_shared_cache", "no_cache"])]
    pub require_shared_cache: bool,
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
                assert!(
                    argument.get_help().is_some(),
                    "{name} says nothing of itself"
                );
            }
            command.get_subcommands().for_each(check);
        }
        check(&Arguments::command());
    }
}
