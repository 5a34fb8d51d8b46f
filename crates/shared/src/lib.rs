//! A shared cache: what one machine made, for others. Its objects lie in a folder or on a server
//! that knows GET and PUT; their bytes are described in `docs/formats.md`.
//!
//! A *root* key signs the list of members. Each member that writes has a *head* for each channel,
//! signed by it. A head names a manifest, a manifest names *segments* with records of results, and
//! these say in which *packs* contents are. All but the list and the heads is named by its digest,
//! so that one signature covers all that is behind a head.
//!
//! Nothing that comes from there is believed: signatures and digests are checked, and sizes are
//! bounded, before anything is used. What is missing, late or wrong counts as not there.

mod aligned;
mod bundle;
mod entries;
mod fetching;
mod gone;
mod handing;
mod head_turns;
mod heads;
mod index;
mod keys;
mod layered;
mod loading;
mod mirror;
mod own_files;
mod pack;
mod prune;
mod publish;
mod rest;
mod segment;
mod settling;
mod shelf;
mod uploads;
mod verify;
mod wire;

pub use aligned::{apply, difference};
pub use bundle::{expanded, squeezed};
pub use heads::{ChannelHead, KeyList, ListProblem, Member, channels_in_words, is_channel};
pub use keys::{NoRandomNumbers, PublicKey, SecretKey, random_bytes};
pub use layered::LayeredStore;
pub use mirror::MirrorTraffic;
pub use prune::Pruned;
pub use publish::{HandedOver, Publisher};
pub use rest::Rest;
pub use segment::KeyedResult;
pub use settling::{TRIES, let_settle};
pub use shelf::{Acceptance, GivenResult, SharedStore, SharedTrouble, Traffic};
pub use uploads::Uploads;
pub use verify::Examination;

/// The first part of the names of all objects.
pub(crate) const PREFIX: &str = "nubrik1";
