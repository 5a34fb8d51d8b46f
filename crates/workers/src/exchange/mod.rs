//! Jobs for other machines, over NATS with JetStream: who has work puts jobs into a pool, who works
//! takes them one by one under a lease, and answers. What a job or an answer says is bytes here;
//! who reads them checks who signed them.
//!
//! Everything is done by a few threads of its own; callers wait for nothing but the network.

mod boss;
mod hand;
mod line;

use std::fmt;
use std::path::PathBuf;
use std::time::Duration;

pub use boss::{Boss, MachineKind};
pub use hand::{AskedQuestion, Hand, TakenJob};

/// Why an exchange is of no use. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ExchangeTrouble {
    /// It cannot be reached.
    Unreachable(String),
    /// It is another version than those that jobs are safe with: which one it is.
    Version(String),
    /// It refuses something: what.
    Refused(String),
}

impl fmt::Display for ExchangeTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ExchangeTrouble::Unreachable(why) => write!(f, "it cannot be reached: {why}"),
            ExchangeTrouble::Version(found) => write!(
                f,
                "its server is NATS {found}; versions before 2.10 lose jobs after a purge, so 2.10 or later is needed"
            ),
            ExchangeTrouble::Refused(what) => write!(f, "it refuses {what}"),
        }
    }
}

impl std::error::Error for ExchangeTrouble {}

/// Where an exchange is, and who asks.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ExchangePlace {
    /// The address of the server: `nats://HOST:PORT` or `tls://HOST:PORT`.
    pub at: String,
    /// A user and a password.
    pub user: Option<(String, String)>,
    /// A file in PEM with the certificate by which this machine says who it is, and its key.
    pub client: Option<PathBuf>,
    /// The pool of jobs: those in one can run all of them.
    pub pool: String,
}

/// Whether a text can name a pool.
pub fn is_pool(name: &str) -> bool {
    !name.is_empty()
        && name
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
}

/// What someone who works says of themselves.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Alive {
    /// Their name.
    pub name: String,
    /// How many jobs they do at once.
    pub slots: usize,
    /// How many of them they are doing.
    pub busy: usize,
    /// What the machine is: its system, its processor, its kernel.
    pub machine: String,
    /// What jobs may say of a machine that is true of this one: letters, digits, `-` and `_`,
    /// sorted.
    pub labels: Vec<String>,
    /// Why they take no jobs for a while, if they do not.
    pub away: Option<String>,
}

impl Alive {
    /// Under what jobs wait for machines like this one: all its labels. A job waits under one such
    /// name, so that no two of them overlap, which servers refuse.
    pub fn kind(&self) -> String {
        kind_of(&self.labels)
    }

    /// Whether all of some labels are true of it.
    pub fn has_labels(&self, labels: &[impl AsRef<str>]) -> bool {
        are_among(labels, &self.labels)
    }

    /// How many jobs they take at once now.
    pub fn open_slots(&self) -> usize {
        if self.away.is_some() { 0 } else { self.slots }
    }
}

/// What who has work hears.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum BossNews {
    /// An answer, signed by who says what became of a job.
    Answer(Vec<u8>),
    /// Somebody began a job. Nobody signs it, and nothing but what is shown follows from it.
    Begun {
        /// The job's number.
        number: u32,
        /// What they are called.
        name: String,
        /// Whether they put its image together just now.
        unpacks: bool,
    },
    /// A job was given to somebody so often as one may be, and never ended: the number under which
    /// it was sent.
    Undone(u64),
}

/// What follows the name of who began a job while the image is put together that it runs in.
pub(crate) const UNPACKS: &str = " unpacks";

/// What is said to stop one job of a build.
pub(crate) fn job_name(build: &str, number: u32) -> String {
    format!("{build} {number}")
}

/// Under what jobs wait for machines with just these labels.
pub(crate) fn kind_of(labels: &[String]) -> String {
    labels.join("+")
}

/// Whether all of some labels are among those of a machine.
pub(crate) fn are_among(labels: &[impl AsRef<str>], own: &[String]) -> bool {
    labels
        .iter()
        .all(|label| own.iter().any(|own| own == label.as_ref()))
}

/// How often who works says so.
pub(crate) const BEAT: Duration = Duration::from_secs(2);

/// Who said nothing for so long is gone.
pub(crate) const GONE: Duration = Duration::from_secs(7);

/// How long a job is someone's who says nothing of it. Then it is given to another one.
pub(crate) const LEASE: Duration = Duration::from_secs(15);

/// So often a job is given to someone.
pub(crate) const DELIVERIES: i64 = 3;

/// The most jobs that wait in a pool.
pub(crate) const WAITING: i64 = 100_000;

/// How often who has work says that it still waits for its jobs.
pub(crate) const WANTED: Duration = Duration::from_secs(5);

/// Who said nothing for so long waits for nothing any more.
pub(crate) const FORSAKEN: Duration = Duration::from_secs(30);

/// A job that nobody took is thrown away after so long.
pub(crate) const KEPT: Duration = Duration::from_secs(24 * 3600);

/// How long the server is waited for.
pub(crate) const PATIENCE: Duration = Duration::from_secs(3);

impl Alive {
    /// As it is sent: a line of text.
    pub(crate) fn line(&self) -> String {
        let Alive {
            name,
            slots,
            busy,
            machine,
            labels,
            away,
        } = self;
        let (slots, busy, away) = (
            slots.to_string(),
            busy.to_string(),
            away.as_deref().unwrap_or(""),
        );
        [&slots, &busy, name, machine, &labels.join(" "), away].join("\t")
    }

    pub(crate) fn read(line: &[u8]) -> Option<Alive> {
        let line = std::str::from_utf8(line).ok()?;
        let words: Vec<&str> = line.split('\t').collect();
        let [slots, busy, name, machine, labels, away] = words[..] else {
            return None;
        };
        let away = (!away.is_empty()).then(|| away.to_owned());
        let (slots, busy) = (slots.parse().ok()?, busy.parse().ok()?);
        let labels: Vec<String> = labels.split_whitespace().map(str::to_owned).collect();
        if labels.is_empty() || !labels.iter().all(|label| is_pool(label)) {
            return None;
        }
        Some(Alive {
            slots,
            busy,
            name: name.to_owned(),
            machine: machine.to_owned(),
            labels,
            away,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_back() {
        let machine = "linux x86_64".to_owned();
        let labels = ["linux", "tide-board", "x86_64"]
            .map(str::to_owned)
            .to_vec();
        let mut alive = Alive {
            name: "a machine".to_owned(),
            slots: 8,
            busy: 3,
            machine,
            labels,
            away: None,
        };
        assert!(alive.has_labels(&["x86_64", "linux"]) && !alive.has_labels(&["aarch64"]));
        assert_eq!(alive.kind(), "linux+tide-board+x86_64");
        assert_eq!(alive.open_slots(), 8);
        assert_eq!(Alive::read(alive.line().as_bytes()).as_ref(), Some(&alive));
        alive.away = Some("no room".to_owned());
        assert_eq!(alive.open_slots(), 0);
        assert_eq!(Alive::read(alive.line().as_bytes()), Some(alive));
        assert_eq!(Alive::read(b"8\tx\tname\tmachine\tlinux\t"), None);
        assert_eq!(Alive::read(b"8\t1\tname\tmachine\ta.b\t"), None);
        assert_eq!(Alive::read(b"8\t1\tname\tmachine\t\t"), None);
        assert_eq!(Alive::read(b"8"), None);
        assert!(is_pool("linux-x86_64") && !is_pool("a.b") && !is_pool(""));
    }
}
