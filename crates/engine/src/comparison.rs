//! A step compared with an earlier one: what differs, in words.

use std::sync::Arc;

/// A difference between what a step is made of now and what it was made of.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Difference {
    /// What differs.
    pub part: Part,
    /// What it was; `None` where it is new.
    pub before: Option<Arc<str>>,
    /// What it is; `None` where it is gone. The same as before where only the content differs.
    pub now: Option<Arc<str>>,
}

/// What a step is made of.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Debug)]
pub enum Part {
    /// A file that it reads.
    Input,
    /// A word of a command.
    Word,
    /// A file that a command reads from or writes to instead of its standard streams.
    Redirect,
    /// A variable of its environment.
    Variable,
    /// What it makes.
    Output,
    /// The text that the tool writes for it, or the places of what it puts together.
    Text,
    /// The folder in which it runs.
    Folder,
    /// The image in which it runs.
    Image,
    /// Whether it may use the network.
    Network,
    /// A tool of the machine.
    Tool,
    /// What a service that runs at the same time is.
    Service,
}

impl Part {
    /// The word for it, the same everywhere.
    pub fn word(self) -> &'static str {
        match self {
            Part::Input => "input",
            Part::Word => "word",
            Part::Redirect => "redirect",
            Part::Variable => "variable",
            Part::Output => "output",
            Part::Text => "text",
            Part::Folder => "folder",
            Part::Image => "image",
            Part::Network => "network",
            Part::Tool => "tool",
            Part::Service => "service",
        }
    }

    pub(crate) fn sign(self) -> char {
        match self {
            Part::Input => 'i',
            Part::Word => 'w',
            Part::Redirect => 'r',
            Part::Variable => 'e',
            Part::Output => 'o',
            Part::Text => 't',
            Part::Folder => 'd',
            Part::Image => 'm',
            Part::Network => 'n',
            Part::Tool => 'v',
            Part::Service => 's',
        }
    }

    pub(crate) fn of_sign(sign: char) -> Option<Part> {
        const ALL: [Part; 11] = [
            Part::Input,
            Part::Word,
            Part::Redirect,
            Part::Variable,
            Part::Output,
            Part::Text,
            Part::Folder,
            Part::Image,
            Part::Network,
            Part::Tool,
            Part::Service,
        ];
        ALL.into_iter().find(|part| part.sign() == sign)
    }
}

/// A step compared with the earlier one that is most like it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Comparison {
    /// The options that tell the earlier one from this one; empty where it is this one.
    pub variant: Arc<str>,
    /// The number of the build in which the earlier one last ran or was reused.
    pub build: u64,
    /// What differs, inputs first.
    pub differences: Vec<Difference>,
}
