//! What git tells of a checkout.

use std::collections::BTreeSet;
use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

use nubrik_confine::{Ended, StageSpec};
use nubrik_machine::{Environment, LookingScope, Machine, Question, on_persons_path};

/// How long git may take for an answer, and how much of it is read, in bytes.
const PATIENCE: Duration = Duration::from_secs(600);
const ANSWER_LIMIT: usize = 512 << 20;

/// What something is compared with.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ComparedWith {
    /// The commit's name, whole.
    pub commit: String,
    /// Whether it is not what was named, but the last one that this work and the named branch have
    /// in common.
    pub is_merge_base: bool,
}

/// Why git cannot tell what changed since a revision.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum SinceProblem {
    /// The workspace is in no repository.
    NoRepository,
    /// There is no such commit here, and the checkout holds the newest ones only.
    Shallow,
    /// This machine has no git.
    NoGit,
    /// It could not be started: which program, and why.
    NotStarted(String),
    /// It took too long, or named too many files.
    TooMuch(&'static str),
    /// The user stopped it.
    Stopped,
    /// No revision has such a name.
    NoName,
    /// What git says, for people.
    Said(String),
}

impl fmt::Display for SinceProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            SinceProblem::NoRepository => f.write_str("this workspace is in no git repository"),
            SinceProblem::Shallow => f.write_str("this checkout holds the newest commits only"),
            SinceProblem::NoGit => f.write_str("there is no git on this machine"),
            SinceProblem::NotStarted(why) => write!(f, "cannot start {why}"),
            SinceProblem::TooMuch(how) => f.write_str(how),
            SinceProblem::Stopped => f.write_str("it was stopped"),
            SinceProblem::NoName => f.write_str("no revision begins with `-`"),
            SinceProblem::Said(said) => f.write_str(said),
        }
    }
}

impl std::error::Error for SinceProblem {}

/// Git, which only looks: whatever a checkout makes it start can change nothing and reach no
/// network.
pub(crate) struct Git<'m> {
    machine: &'m Machine,
    program: PathBuf,
    environment: Environment,
}

/// Settings by which git starts other commands, and what they are while it is asked: a checkout
/// brings them along.
const NO_COMMANDS: [(&str, &str); 4] = [
    ("core.fsmonitor", "false"),
    ("core.hooksPath", "/dev/null"),
    ("diff.external", ""),
    ("core.sshCommand", "false"),
];

impl<'m> Git<'m> {
    pub(crate) fn of(machine: &'m Machine) -> Result<Git<'m>, SinceProblem> {
        let program = on_persons_path("git").ok_or(SinceProblem::NoGit)?;
        let environment = Environment::handed_on(&["PATH", "HOME", "XDG_CONFIG_HOME", "USER"]);
        let mut git = Git {
            machine,
            program,
            environment,
        };
        let mut settings: Vec<(String, String)> = NO_COMMANDS
            .iter()
            .map(|(name, value)| ((*name).to_owned(), (*value).to_owned()))
            .collect();
        git.set(&settings);
        // A file that a filter rewrites counts as changed unless git knows by its times that it is
        // not.
        let filters = git.ask(&["config", "-z", "--name-only", "--get-regexp", "^filter[.]"]);
        let names = filters.unwrap_or_default();
        let names: BTreeSet<&str> = names
            .iter()
            .filter_map(|key| Some(key.rsplit_once('.')?.0))
            .collect();
        for name in names {
            for (key, value) in [
                ("clean", ""),
                ("smudge", ""),
                ("process", ""),
                ("required", "false"),
            ] {
                settings.push((format!("{name}.{key}"), value.to_owned()));
            }
        }
        git.set(&settings);
        Ok(git)
    }

    /// Sets settings for all that is asked.
    fn set(&mut self, settings: &[(String, String)]) {
        // There are never fewer than before: each number is set again.
        self.environment
            .set("GIT_CONFIG_COUNT", settings.len().to_string());
        for (number, (name, value)) in settings.iter().enumerate() {
            self.environment
                .set(&format!("GIT_CONFIG_KEY_{number}"), name);
            self.environment
                .set(&format!("GIT_CONFIG_VALUE_{number}"), value);
        }
    }

    /// The commit that a revision means for those who ask what changed since: of a branch that is
    /// where this work left it, since what others did there meanwhile is no change of this tree.
    ///
    /// # Errors
    /// What git says, such as that there is no such revision.
    pub(crate) fn base_of(&self, revision: &str) -> Result<ComparedWith, SinceProblem> {
        if revision.starts_with('-') {
            return Err(SinceProblem::NoName);
        }
        // Outside of a repository `git diff` compares any two files, and says something else.
        self.ask(&["rev-parse", "--git-dir"])
            .map_err(|problem| match problem {
                SinceProblem::Said(said) if said.contains("not a git repository") => {
                    SinceProblem::NoRepository
                }
                other => other,
            })?;
        let one = |words: &[&str]| Ok::<_, SinceProblem>(self.text(words)?.trim().to_owned());
        let commit = one(&[
            "rev-parse",
            "--verify",
            "--end-of-options",
            &format!("{revision}^{{commit}}"),
        ]);
        let is_shallow =
            || one(&["rev-parse", "--is-shallow-repository"]).is_ok_and(|said| said == "true");
        let commit = commit.map_err(|problem| {
            if is_shallow() {
                SinceProblem::Shallow
            } else {
                problem
            }
        })?;
        let named = one(&[
            "rev-parse",
            "--symbolic-full-name",
            "--end-of-options",
            revision,
        ])
        .unwrap_or_default();
        // Some versions of git repeat the word before the revision.
        let name = named.lines().last().unwrap_or_default();
        let is_branch = ["refs/heads/", "refs/remotes/"]
            .iter()
            .any(|start| name.starts_with(start));
        // Without a commit in common the branch itself is compared.
        let left = if is_branch {
            one(&["merge-base", &commit, "HEAD"]).ok()
        } else {
            None
        };
        Ok(match left.filter(|left| *left != commit) {
            Some(left) => ComparedWith {
                commit: left,
                is_merge_base: true,
            },
            None => ComparedWith {
                commit,
                is_merge_base: false,
            },
        })
    }

    /// Names that git answers with, each ended by a zero.
    pub(crate) fn ask(&self, words: &[&str]) -> Result<BTreeSet<String>, SinceProblem> {
        let text = self.text(words)?;
        Ok(text
            .split('\0')
            .filter(|name| !name.is_empty())
            .map(str::to_owned)
            .collect())
    }

    /// What git answers.
    pub(crate) fn text(&self, words: &[&str]) -> Result<String, SinceProblem> {
        let all = ["git", "--no-optional-locks"]
            .into_iter()
            .chain(words.iter().copied());
        let words = all.map(str::to_owned).collect();
        let stage = StageSpec {
            program: self.program.clone(),
            words,
            stdin: None,
            stdout: None,
            stderr: None,
        };
        let question = Question {
            stages: vec![stage],
            environment: &self.environment,
            reads: LookingScope::Everything,
            patience: PATIENCE,
            limit: ANSWER_LIMIT,
            as_one: false,
            noted_by: None,
        };
        let looked = self
            .machine
            .look(question)
            .map_err(|e| SinceProblem::NotStarted(format!("git: {e}")))?;
        match looked.ended {
            Ended::Well if !looked.is_cut => {}
            Ended::Well => return Err(SinceProblem::TooMuch("it tells of too many files")),
            Ended::NotStarted(program, e) => {
                return Err(SinceProblem::NotStarted(format!(
                    "{}: {e}",
                    program.display()
                )));
            }
            Ended::TimedOut => return Err(SinceProblem::TooMuch("it took too long")),
            Ended::Cancelled => return Err(SinceProblem::Stopped),
            Ended::Code(_) | Ended::Signal(_) => {
                let said = String::from_utf8_lossy(&looked.errors);
                let line = said
                    .lines()
                    .find(|line| line.starts_with("fatal: "))
                    .or(said.lines().next());
                let line = line.unwrap_or("git failed").trim_start_matches("fatal: ");
                return Err(SinceProblem::Said(line.to_owned()));
            }
        }
        Ok(String::from_utf8_lossy(&looked.output).into_owned())
    }
}
