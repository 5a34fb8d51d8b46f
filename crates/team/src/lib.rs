//! A workspace and its team: what it asks of a person before anything is sent somewhere, keys and
//! members of a shared cache, the objects of that cache, and the server for jobs.

mod agreeing;
mod exchange;
mod keys;
mod members;
mod places;
mod trouble;

pub use agreeing::{asked_by_store, asked_for_team, is_accepted, with_answers};
pub use exchange::exchange_of;
pub use keys::{JOBS_VARIABLE, KEY_VARIABLE, WORKER_VARIABLE, key_in, key_of, keys_must_be_hidden};
pub use members::{NotChanged, change_members, may_write, members_at, put_members};
pub use places::{cache_folder, store_of};
pub use trouble::{NeededFor, NoStore, TeamTrouble};
