//! Services: what runs while steps, checks and effects need it. Nothing in them is a number of a
//! graph, so that one service is the same in every graph.

use std::fmt;
use std::sync::Arc;

use crate::Sorted;
use nubrik_source::WsPath;

use crate::{ArgumentFile, ImageFiles, ImageSource, Place, PlainFile, Program, SECRET, Stage};

/// A process of a service's command: its words hold marks (see [`Mark`]).
pub type ServiceStage = Stage<Arc<str>, WsPath>;

/// What a service's command starts.
pub type ServiceProgram = Program<Arc<str>, WsPath>;

/// Processes, each one's output the next one's input.
pub type ServiceCommand = Vec<ServiceStage>;

/// Where a service runs.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum Serving {
    /// Here, started for who needs it.
    Here {
        /// Before it is started.
        prepare: Vec<ServiceCommand>,
        /// The service: goes on until it is stopped.
        run: ServiceCommand,
        /// When it is ready, before the first use.
        fill: Vec<ServiceCommand>,
        /// How it is stopped, where a signal is not enough.
        stop: Option<ServiceCommand>,
        /// Whether all who need it use the same one.
        shared: bool,
    },
    /// Somewhere else, where it runs already.
    Elsewhere {
        /// The host, with marks.
        address: Arc<str>,
        /// The port, with marks.
        port: Arc<str>,
    },
}

/// Something that runs while others need it.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Service {
    /// The address of the value that it is: `tide/database`.
    pub address: Arc<str>,
    /// What tells it from every other one: the folder that a step in its place would have.
    pub folder: WsPath,
    /// Where and how it runs.
    pub serving: Serving,
    /// Says by ending well that it is ready; without one it is when it accepts a connection.
    pub ready: Option<ServiceCommand>,
    /// How long it may take until it is ready, in milliseconds.
    pub patience: u64,
    /// Variables that its commands see, sorted by name, with marks.
    pub env: Vec<(Arc<str>, Arc<str>)>,
    /// Files and made folders that its commands may read.
    pub inputs: Sorted<WsPath>,
    /// Names of the tools that its commands start, sorted.
    pub tools: Vec<Arc<str>>,
    /// Folders that its commands find below the instance's, besides `.scratch` itself.
    pub folders: Vec<Arc<str>>,
    /// Files with lists of paths, written before the commands run.
    pub lists: Vec<ArgumentFile>,
    /// The folder in which its commands run, from the workspace's root.
    pub work: WsPath,
    /// The image that its commands see in place of this machine's system.
    pub root: Option<ServiceImage>,
    /// Services that it needs itself.
    pub needs: Vec<Arc<Service>>,
    /// Where it was written.
    pub place: Place,
}

/// The image that a service runs in.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ServiceImage {
    /// Its statement, which is among the inputs.
    pub statement: WsPath,
    /// The files that it is in.
    pub files: ImageFiles<PlainFile>,
    /// What its layout calls it; `None` where it holds only one.
    pub name: Option<Arc<str>>,
    /// The system and the processor that it must be for.
    pub platform: (Arc<str>, Arc<str>),
}

impl ServiceImage {
    /// Where the image is.
    pub fn source(&self) -> ImageSource<PlainFile> {
        let ServiceImage {
            statement: _,
            files,
            name,
            platform,
        } = self;
        ImageSource {
            files: files.clone(),
            name: name.clone(),
            platform: platform.clone(),
        }
    }
}

/// How long a service may take until it is ready, where nothing is said, in milliseconds.
pub const SERVICE_PATIENCE: u64 = 30_000;

/// The folder of a service's instance as its words name it: a mark represents the instance.
pub fn instance_folder() -> WsPath {
    WsPath::from_normal(&format!(".nubrik/serve/{}", Mark::Place))
}

impl Service {
    /// Whether what it answers is decided somewhere else, so that nothing that used it can be kept.
    pub fn is_elsewhere(&self) -> bool {
        matches!(self.serving, Serving::Elsewhere { .. })
            || self.needs.iter().any(|s| s.is_elsewhere())
    }

    /// Whether all who need it use the same one.
    pub fn is_shared(&self) -> bool {
        matches!(
            self.serving,
            Serving::Here { shared: true, .. } | Serving::Elsewhere { .. }
        )
    }

    /// Adds itself and all that it needs to a list, each once, needs first.
    pub fn add_to(self: &Arc<Service>, list: &mut Vec<Arc<Service>>) {
        if list.iter().any(|s| s.folder == self.folder) {
            return;
        }
        self.needs.iter().for_each(|need| need.add_to(list));
        list.push(self.clone());
    }
}

/// A placeholder in words and variables for something that is known only when they are used. It is
/// written between [`SECRET`] characters, which no word can hold otherwise, and stays so in keys.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum Mark<'a> {
    /// A secret, by its name.
    Secret(&'a str),
    /// The port of a service, by the service's folder.
    Port(&'a str),
    /// The address of a service, by the service's folder.
    Address(&'a str),
    /// The name of a service's instance among all.
    Place,
}

impl fmt::Display for Mark<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        // A variable's name never holds a colon that another thing could be taken for: `=` and NUL
        // are refused, and these begin with one.
        match self {
            Mark::Secret(name) => write!(f, "{SECRET}{name}{SECRET}"),
            Mark::Port(folder) => write!(f, "{SECRET}:port:{folder}{SECRET}"),
            Mark::Address(folder) => write!(f, "{SECRET}:address:{folder}{SECRET}"),
            Mark::Place => write!(f, "{SECRET}:place{SECRET}"),
        }
    }
}

/// A text with other texts in place of its marks.
///
/// # Errors
/// The first one that a mark's text could not be had for.
pub fn unmarked<E>(
    text: &str,
    mut say: impl FnMut(Mark<'_>) -> Result<String, E>,
) -> Result<String, E> {
    let mut out = String::new();
    for (i, part) in text.split(SECRET).enumerate() {
        if i % 2 == 0 {
            out.push_str(part);
            continue;
        }
        let mark = match part
            .strip_prefix(':')
            .map(|m| m.split_once(':').unwrap_or((m, "")))
        {
            Some(("port", folder)) => Mark::Port(folder),
            Some(("address", folder)) => Mark::Address(folder),
            Some(("place", _)) => Mark::Place,
            _ => Mark::Secret(part),
        };
        out.push_str(&say(mark)?);
    }
    Ok(out)
}

/// A text for people: marks as the definitions would say them.
pub fn shown_marks(text: &str, services: &[Arc<Service>]) -> String {
    if !text.contains(SECRET) {
        return text.to_owned();
    }
    let mut all = Vec::new();
    services.iter().for_each(|s| s.add_to(&mut all));
    let name = |folder: &str| {
        let known = all.iter().find(|s| s.folder.as_str() == folder);
        known.map_or_else(|| "self".to_owned(), |s| s.address.to_string())
    };
    let shown = unmarked(text, |mark| {
        Ok::<_, std::convert::Infallible>(match mark {
            Mark::Secret(name) => format!("{{secret {name}}}"),
            Mark::Port(folder) => format!("{{{}.port}}", name(folder)),
            Mark::Address(folder) => format!("{{{}.address}}", name(folder)),
            Mark::Place => "self".to_owned(),
        })
    });
    shown.unwrap_or_else(|never| match never {})
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn marks_are_found_again() {
        let text = format!(
            "-p{} -h {}:{}",
            Mark::Port("a/b"),
            Mark::Address("a/b"),
            Mark::Secret("KEY")
        );
        let shown = unmarked(&text, |mark| match mark {
            Mark::Port("a/b") => Ok("1".to_owned()),
            Mark::Address("a/b") => Ok("2".to_owned()),
            Mark::Secret("KEY") => Ok("3".to_owned()),
            other => Err(format!("{other:?}")),
        });
        assert_eq!(shown.as_deref(), Ok("-p1 -h 2:3"));
        assert_eq!(
            shown_marks(&text, &[]),
            "-p{self.port} -h {self.address}:{secret KEY}"
        );
        assert_eq!(shown_marks("plain", &[]), "plain");
    }
}
