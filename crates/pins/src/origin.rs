//! An address of a registry, and what says where it is.

use std::path::PathBuf;

use globset::GlobBuilder;
use nubrik_web::{Address, Agreement, Credential};

use crate::PinProblem;

/// An address of a registry, and who asks there.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Origin {
    /// Where it is.
    pub address: Address,
    /// Who asks.
    pub credential: Option<Credential>,
    /// What said so: a file, or a variable.
    pub said_by: String,
    /// What it is called where one registry has several: the name that it was given, or else its
    /// address without scheme. A pin is bound to it.
    pub name: String,
    /// Whether a person gave it its name.
    pub is_named: bool,
    /// Which packages it is for: patterns of names. These are asked for nowhere else, and it is
    /// asked for nothing else; without any it is for all.
    pub packages: Vec<String>,
    /// The scope of names that it is for, such as `@isles`; `None` for all that have no origin of
    /// their own.
    pub scope: Option<String>,
}

impl Origin {
    /// An address that is asked for everything.
    pub fn new(address: Address, credential: Option<Credential>, said_by: &str) -> Origin {
        let text = address.to_string();
        let name = text
            .split_once("://")
            .map_or(&*text, |(_, rest)| rest)
            .trim_end_matches('/')
            .to_owned();
        let said_by = said_by.to_owned();
        Origin {
            address,
            credential,
            said_by,
            name,
            is_named: false,
            packages: Vec::new(),
            scope: None,
        }
    }

    /// Whether it is a folder below another one.
    pub(crate) fn is_in(&self, folder: &std::path::Path) -> bool {
        self.address
            .file()
            .is_some_and(|own| own.starts_with(folder))
    }

    /// Whether one of its patterns is that of a package.
    pub(crate) fn claims(&self, package: &str) -> bool {
        let fits = |pattern: &String| {
            let glob = GlobBuilder::new(pattern).literal_separator(false).build();
            glob.is_ok_and(|glob| glob.compile_matcher().is_match(package))
        };
        self.packages.iter().any(fits)
    }
}

/// A question to an ordinary client of a registry: where it would go, as it is installed. It is
/// asked in a folder that holds nothing, and must reach no network to answer.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct ClientQuestion {
    /// The program, by its name on the path.
    pub program: &'static str,
    /// Its words; `{folder}` is a folder of its own.
    pub words: &'static [&'static str],
    /// Files in that folder: paths and texts.
    pub files: &'static [(&'static str, &'static str)],
    /// Variables, besides those of the person; `{folder}` as above.
    pub variables: &'static [(&'static str, &'static str)],
}

impl ClientQuestion {
    /// The program and the words that a person would type.
    pub fn command(&self) -> String {
        let words = self
            .words
            .iter()
            .filter(|word| !word.contains("{folder}") && **word != "--manifest-path");
        [self.program]
            .iter()
            .chain(words)
            .copied()
            .collect::<Vec<_>>()
            .join(" ")
    }
}

/// What settings are read from, besides `nubrik.toml`.
pub trait ClientSettings: Send + Sync {
    /// A variable of the environment; `None` if it is not set, or empty.
    fn variable(&self, name: &str) -> Option<String>;
    /// The text of a file; `None` if there is none.
    fn text(&self, path: &std::path::Path) -> Option<String>;
    /// Where a program is that is on the path, behind all links.
    fn program(&self, name: &str) -> Option<PathBuf>;
    /// The variable that forbids to ask clients, if it does.
    fn asks_no_client(&self) -> Option<&'static str>;
    /// What a client prints on both streams; `None` where there is no such program, or where it
    /// says nothing.
    fn answer(&self, question: &ClientQuestion) -> Option<String>;
    /// The workspace's root.
    fn root(&self) -> PathBuf;
    /// Whether the person agreed to something that the workspace asks for.
    fn agrees(&self, asked: &Agreement) -> bool;
}

/// That a person was not asked yet.
pub(crate) fn not_agreed(asked: &Agreement, said_by: &str) -> PinProblem {
    PinProblem::new(format!(
        "{said_by} would {asked}, and you did not agree to that"
    ))
    .mend("nubrik agree   says all that this workspace asks for")
}
