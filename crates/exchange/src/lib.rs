//! Jobs for other machines, over NATS with JetStream: who has work puts jobs into a pool, who works takes them one by one under a
//! lease, and answers. What a job or an answer says is bytes here; who reads them checks who signed them.
//!
//! Everything is done by a few threads of this crate's own; callers wait for nothing but the network.

mod boss;
mod hand;
mod line;

use std::fmt;
use std::time::Duration;

pub use boss::Boss;
pub use hand::{Hand, TakenJob};

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
    /// The pool of jobs: those in one can run all of them.
    pub pool: String,
}

/// Whether a text can name a pool.
pub fn is_pool(name: &str) -> bool {
    !name.is_empty() && name.chars().all(|c| c.is_ascii_alphanumeric() || matches!(c, '-' | '_'))
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

/// How long the server is waited for.
pub(crate) const PATIENCE: Duration = Duration::from_secs(3);

impl Alive {
    /// As it is sent: a line of text.
    pub(crate) fn line(&self) -> String {
        format!("{} {} {}", self.slots, self.busy, self.name)
    }

    pub(crate) fn read(line: &[u8]) -> Option<Alive> {
        let line = std::str::from_utf8(line).ok()?;
        let mut words = line.splitn(3, ' ');
        let (slots, busy) = (words.next()?.parse().ok()?, words.next()?.parse().ok()?);
        Some(Alive { slots, busy, name: words.next()?.to_owned() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lines_are_read_back() {
        let alive = Alive { name: "a machine".to_owned(), slots: 8, busy: 3 };
        assert_eq!(Alive::read(alive.line().as_bytes()), Some(alive));
        assert_eq!(Alive::read(b"8 x name"), None);
        assert_eq!(Alive::read(b"8"), None);
        assert!(is_pool("linux-x86_64") && !is_pool("a.b") && !is_pool(""));
    }
}
