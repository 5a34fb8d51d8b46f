//! Why a shared cache or workers cannot be used.

use std::fmt;
use std::path::PathBuf;

use nubrik_disk::NoOwnFolder;
use nubrik_shared::{NoRandomNumbers, PublicKey, SharedTrouble};
use nubrik_web::{AddressProblem, Agreement, Trouble};
use nubrik_workers::{ExchangeTrouble, WorkersTrouble};

/// Why a shared cache or workers cannot be used. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum TeamTrouble {
    /// `nubrik.toml` asks for something that the person did not agree to.
    NotAgreed(Agreement),
    /// `nubrik.toml` names no server for jobs.
    NoWorkers,
    /// No shared cache is used, and this needs one.
    NoSharedCache(NeededFor),
    /// The address of the shared cache is none that can be asked.
    Address(AddressProblem),
    /// The folder of the shared cache has no absolute path.
    NoFolder(String),
    /// A bucket has no server.
    NoEndpoint,
    /// There is no key for object storage.
    NoStorageKey,
    /// The variable that holds the secret of the shared cache is not set.
    SecretUnset(String),
    /// The variable does not hold a user and a password for the server for jobs.
    NoUser(String),
    /// The variable holds no secret key.
    NoKeyIn(String),
    /// The variable that names the key of a worker is not set.
    KeyUnset(&'static str),
    /// A file that should hold a secret key cannot be read.
    KeyUnreadable(PathBuf, String),
    /// A file holds no secret key.
    NoKeyInFile(PathBuf),
    /// A variable names no channel: the variable, and its value.
    Channel(&'static str, String),
    /// A file with a key can be read by steps: the file, and the variable that names it.
    KeyShown(PathBuf, &'static str),
    /// A key may not write a channel.
    MayNot(PublicKey, String),
    /// Which keys may write is not known.
    MembersUnknown(SharedTrouble),
    /// The list of members is signed by another root key.
    WrongRoot,
    /// The store cannot be asked, or does not answer as it should.
    Store(Trouble),
    /// Workers cannot be asked, or this machine cannot be one.
    Workers(WorkersTrouble),
    /// No variable names a folder for files of this person: the variable beside `HOME`.
    NoOwnFolder(NoOwnFolder),
    /// This machine keeps no results.
    NoResults(NoStore),
    /// This machine does not confine steps, so it runs none of others.
    NotConfined(String),
    /// This machine gives no random numbers.
    NoRandomNumbers,
    /// The system does not let a switch be made that stops steps.
    NoSwitch(String),
}

/// The use of a shared cache for something else.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum NeededFor {
    /// Results of workers.
    Results,
    /// Results of a worker, on that worker.
    OwnResults,
    /// The names of workers.
    Names,
}

/// Why results are not kept for all workspaces of this machine.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum NoStore {
    /// The store is opened by the first command that changes the workspace.
    NotOpen,
    /// The person wants it so.
    Unwanted,
    /// There is no folder for it.
    NoFolder(NoOwnFolder),
    /// It cannot be opened.
    Broken(String),
}

impl fmt::Display for NoStore {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            NoStore::NotOpen => f.write_str("it is not open yet"),
            NoStore::Unwanted => f.write_str("results are not to be kept"),
            NoStore::NoFolder(none) => none.fmt(f),
            NoStore::Broken(why) => f.write_str(why),
        }
    }
}

impl fmt::Display for NeededFor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            NeededFor::Results => "what they make comes by the shared cache, and none is used",
            NeededFor::OwnResults => {
                "what is made goes into the shared cache, and none is used: nubrik shared trust"
            }
            NeededFor::Names => "a worker is known by the shared cache, and none is used",
        })
    }
}

impl fmt::Display for TeamTrouble {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            TeamTrouble::NotAgreed(asked) => {
                write!(f, "nubrik.toml would {asked}, and you did not agree to that: nubrik agree")
            }
            TeamTrouble::NoWorkers => f.write_str("nubrik.toml has no [workers]"),
            TeamTrouble::NoSharedCache(needed) => write!(f, "{needed}"),
            TeamTrouble::Address(problem) => write!(f, "{problem}"),
            TeamTrouble::NoFolder(at) => write!(f, "{at} is no path of a folder"),
            TeamTrouble::NoEndpoint => f.write_str("the endpoint says on which server a bucket is"),
            TeamTrouble::NoStorageKey => f.write_str(
                "AWS_ACCESS_KEY_ID and AWS_SECRET_ACCESS_KEY are not set, and ~/.aws/credentials has no key either",
            ),
            TeamTrouble::SecretUnset(name) => {
                write!(f, "the variable {name}, which holds the secret of the shared cache, is not set")
            }
            TeamTrouble::NoUser(name) => {
                write!(f, "the variable {name} does not hold a user and a password with `:` between")
            }
            TeamTrouble::NoKeyIn(name) => write!(f, "{name} holds no secret key of `nubrik shared`"),
            TeamTrouble::KeyUnset(name) => {
                write!(f, "{name} names no key: nubrik shared new-key FILE makes one")
            }
            TeamTrouble::KeyUnreadable(file, why) => {
                write!(f, "cannot read the key in {}: {why}", file.display())
            }
            TeamTrouble::NoKeyInFile(file) => {
                write!(f, "{} holds no secret key of `nubrik shared`", file.display())
            }
            TeamTrouble::Channel(variable, channel) => write!(
                f,
                "{variable} is `{channel}`, which is no name of a channel: letters, digits, `-`, `_`, `.` and `/`"
            ),
            TeamTrouble::KeyShown(file, variable) => write!(
                f,
                "steps can read {}, and {variable} names it: chmod 600 if it is below /etc, or another place, such as /var/lib/nubrik",
                file.display()
            ),
            TeamTrouble::MayNot(key, channel) => write!(
                f,
                "{key} may not: nubrik shared add NAME {key} --channel {channel} --root-key FILE lets it"
            ),
            TeamTrouble::MembersUnknown(trouble) => write!(f, "who may is not known: {trouble}"),
            TeamTrouble::WrongRoot => f.write_str("its list of members is not signed by this root key"),
            TeamTrouble::Store(trouble) => write!(f, "{trouble}"),
            TeamTrouble::Workers(trouble) => write!(f, "{trouble}"),
            TeamTrouble::NoOwnFolder(none) => none.fmt(f),
            TeamTrouble::NoResults(why) => write!(f, "{why}"),
            TeamTrouble::NotConfined(why) => write!(f, "steps are not confined on this machine: {why}"),
            TeamTrouble::NoRandomNumbers => write!(f, "{NoRandomNumbers}"),
            TeamTrouble::NoSwitch(why) => f.write_str(why),
        }
    }
}

impl std::error::Error for TeamTrouble {}

impl From<AddressProblem> for TeamTrouble {
    fn from(problem: AddressProblem) -> TeamTrouble {
        TeamTrouble::Address(problem)
    }
}

impl From<Trouble> for TeamTrouble {
    fn from(trouble: Trouble) -> TeamTrouble {
        TeamTrouble::Store(trouble)
    }
}

impl From<ExchangeTrouble> for TeamTrouble {
    fn from(trouble: ExchangeTrouble) -> TeamTrouble {
        TeamTrouble::Workers(trouble.into())
    }
}

impl From<WorkersTrouble> for TeamTrouble {
    fn from(trouble: WorkersTrouble) -> TeamTrouble {
        TeamTrouble::Workers(trouble)
    }
}

impl From<NoRandomNumbers> for TeamTrouble {
    fn from(_: NoRandomNumbers) -> TeamTrouble {
        TeamTrouble::NoRandomNumbers
    }
}

impl From<NoStore> for TeamTrouble {
    fn from(why: NoStore) -> TeamTrouble {
        TeamTrouble::NoResults(why)
    }
}
