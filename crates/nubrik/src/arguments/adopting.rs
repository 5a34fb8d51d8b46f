//! What `nubrik adopt` takes.

use std::path::PathBuf;
use std::time::Duration;

use clap::Args;

/// How a folder of sources gets definitions.
#[derive(Args, Clone, Default)]
pub struct Adopting {
    /// The folder to look at; this one by default, with --check and --update the whole workspace
    #[arg(value_name = "FOLDER")]
    pub dir: Option<PathBuf>,
    /// Report where existing definitions and sources differ, write nothing, and fail if they do
    #[arg(long, conflicts_with_all = ["update", "yes", "answer", "no_try", "offline"])]
    pub check: bool,
    /// Change existing definitions where sources differ from them
    #[arg(long, conflicts_with_all = ["answer", "no_try", "offline"])]
    pub update: bool,
    /// Write what is proposed without asking, with the first answer to each question
    #[arg(long, short)]
    pub yes: bool,
    /// Answer a question beforehand; may be repeated
    #[arg(long, value_name = "QUESTION=ANSWER")]
    pub answer: Vec<String>,
    /// Build a copy of the folder by this command, watch which programs run, and write definitions
    /// that do the same
    #[arg(long, value_name = "COMMAND", conflicts_with_all = ["check", "update"])]
    pub watch: Option<String>,
    /// Take flags, and folders that are searched for headers, from a JSON compilation database
    #[arg(long, value_name = "FILE", conflicts_with_all = ["check", "update", "watch"])]
    pub compilations: Option<PathBuf>,
    /// Write, and do not build what was written
    #[arg(long)]
    pub no_try: bool,
    /// Try what was written for at most so long, such as 10min; what is not tried by then is
    /// written, too
    #[arg(long, value_name = "TIME", value_parser = time, conflicts_with_all = ["check", "update", "no_try"])]
    pub try_for: Option<Duration>,
    /// Use no network: packages that are not pinned already are left out
    #[arg(long)]
    pub offline: bool,
}

impl Adopting {
    /// The same command without a question.
    pub fn without_question(&self) -> String {
        match (&self.watch, &self.compilations) {
            (Some(command), _) => format!("nubrik adopt --yes --watch '{command}'"),
            (None, Some(file)) => format!("nubrik adopt --yes --compilations {}", file.display()),
            (None, None) => "nubrik adopt --yes".to_owned(),
        }
    }
}

/// A time as definitions write it.
fn time(text: &str) -> Result<Duration, String> {
    let millis = nubrik_syntax::duration(text).filter(|millis| *millis > 0);
    millis
        .map(Duration::from_millis)
        .ok_or_else(|| "a time is a number and a unit: 30s, 5min or 2h".to_owned())
}
