//! What a build took from the shared cache and gave to it, and how old what is there is.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use nubrik_session::{GivenAway, SharedRecord};
use nubrik_shared::{KeyList, Member, PublicKey, SharedStore, SharedTrouble, Traffic};
use serde::Serialize;

use crate::seconds;

/// A head of this age may be withheld by whoever has the shared cache.
const OLD: Duration = Duration::from_secs(7 * 86_400);

/// Before so many days are left, nothing is said of the end of a list of members.
pub const SOON: usize = 30;

/// Seconds since 1970.
pub fn now() -> u64 {
    SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_or(0, |now| now.as_secs())
}

/// How many whole days a list of members counts from now; `expires` is in seconds since 1970.
pub fn until_expiry(expires: u64) -> usize {
    usize::try_from(expires.saturating_sub(now()) / (24 * 3600)).unwrap_or(usize::MAX)
}

/// How long ago something was, in seconds since 1970.
pub fn age(when: u64) -> Duration {
    Duration::from_secs(now().saturating_sub(when))
}

/// Whether a head, signed so many seconds after 1970, is so old that newer ones may be withheld.
pub fn is_old(when: u64) -> bool {
    age(when) > OLD
}

/// Steps that ran, by why nothing was taken for them.
#[derive(Serialize)]
struct NotTakenCounts {
    unknown: usize,
    other_files: usize,
    other_system: usize,
    not_had: usize,
}

/// What a build took from a shared cache, or gave, for programs.
#[derive(Serialize)]
pub struct SharedEvent<'a> {
    event: &'static str,
    downloaded: usize,
    /// Results that are known, and whose contents nothing needed.
    not_downloaded: usize,
    /// Why steps ran.
    not_used: NotTakenCounts,
    uploaded: usize,
    /// Results that were not uploaded in time.
    not_uploaded: usize,
    /// Files that came as what differs from others.
    differences: u64,
    /// Results that stay on this machine.
    local_only: usize,
    requests: u64,
    moved_bytes: u64,
    /// What of that came from the mirror.
    mirror_bytes: u64,
    /// What was copied to the mirror.
    copied_bytes: u64,
    content_bytes: u64,
    saved_seconds: f64,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<&'a str>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mirror_trouble: Option<&'a str>,
}

/// The use that a build made of a shared cache.
pub struct SharedNews<'a> {
    /// The shared cache.
    pub store: &'a SharedStore,
    /// Results that were taken, and why others were not.
    pub used: &'a SharedRecord,
    /// Requests and bytes.
    pub traffic: Traffic,
    /// What it gave, if it gives.
    pub given: Option<&'a GivenAway>,
    /// What went wrong, in words.
    pub trouble: Option<String>,
    /// Where its mirror is, and what went wrong with that.
    pub mirror: Option<(String, Option<String>)>,
}

impl<'a> SharedNews<'a> {
    /// The use of a shared cache whose copies are at their end. `failed` is what went wrong while
    /// results were given.
    pub fn of(
        store: &'a SharedStore,
        used: &'a SharedRecord,
        given: Option<&'a GivenAway>,
        failed: Option<SharedTrouble>,
    ) -> SharedNews<'a> {
        let trouble = failed
            .or_else(|| store.trouble())
            .map(|trouble| trouble.to_string());
        SharedNews {
            store,
            used,
            traffic: store.traffic(),
            given,
            trouble,
            mirror: store.mirror_place(),
        }
    }

    /// Whether the shared cache is given up for this build, for another reason than that it rests.
    pub fn is_given_up(&self) -> bool {
        self.store.is_off() && !matches!(self.store.trouble(), Some(SharedTrouble::Resting(_)))
    }

    /// Heads so old that newer ones may be withheld: who signed each, which one it is, and how many
    /// days ago that was.
    pub fn old_heads(&self) -> Vec<(String, String, u64)> {
        let (_, heads) = self.store.known();
        let old = heads.into_iter().filter(|(_, _, when)| is_old(*when));
        old.map(|(name, head, when)| {
            (
                name.to_string(),
                head.to_string(),
                age(when).as_secs() / 86_400,
            )
        })
        .collect()
    }

    /// How many days the list of members is valid, where that are few.
    pub fn few_days_left(&self) -> Option<usize> {
        let expires = self.store.members().expires;
        (expires > 0)
            .then(|| until_expiry(expires))
            .filter(|days| *days <= SOON)
    }

    /// The same for programs.
    pub fn event(&self) -> SharedEvent<'_> {
        let SharedNews {
            store: _,
            used,
            traffic,
            given,
            trouble,
            mirror,
        } = self;
        let published = given.map(|given| &given.published);
        SharedEvent {
            event: "shared",
            downloaded: used.taken,
            not_downloaded: used.away,
            not_used: NotTakenCounts {
                unknown: used.unknown,
                other_files: used.other_files,
                other_system: used.other_system,
                not_had: used.not_had,
            },
            uploaded: published.map_or(0, |published| published.results),
            not_uploaded: published.map_or(0, |published| published.late),
            differences: traffic.differences,
            local_only: given.map_or(0, |given| {
                given.kept_back.iter().map(|(_, count)| count).sum()
            }),
            requests: traffic.requests,
            moved_bytes: traffic.moved + published.map_or(0, |published| published.moved),
            mirror_bytes: traffic.mirror.moved,
            copied_bytes: traffic.mirror.copied,
            content_bytes: traffic.raw + published.map_or(0, |published| published.raw),
            saved_seconds: seconds(used.saved_micros),
            trouble: trouble.as_deref(),
            mirror_trouble: mirror.as_ref().and_then(|(_, trouble)| trouble.as_deref()),
        }
    }
}

/// The state of a shared cache, for programs.
#[derive(Serialize)]
pub struct SharedStateEvent<'a> {
    event: &'static str,
    state: &'static str,
    at: &'a str,
    root: String,
    members: Vec<MemberRow>,
    keys: usize,
    #[serde(flatten)]
    health: Option<SharedHealth>,
}

/// How a shared cache is that was asked just now.
#[derive(Serialize)]
pub struct SharedHealth {
    /// How long the list of members counts from now on.
    expires_seconds: u64,
    heads: Vec<HeadRow>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mirror: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    trouble: Option<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    mirror_trouble: Option<String>,
}

#[derive(Serialize)]
struct HeadRow {
    channel: String,
    member: String,
    /// How long ago it was written.
    age_seconds: u64,
}

impl SharedHealth {
    /// That of a shared cache.
    pub fn of(store: &SharedStore) -> SharedHealth {
        let (_, heads) = store.known();
        let row = |(member, channel, when): (String, String, u64)| HeadRow {
            channel,
            member,
            age_seconds: age(when).as_secs(),
        };
        let (mirror, mirror_trouble) = store.mirror_place().unzip();
        SharedHealth {
            expires_seconds: store.members().expires.saturating_sub(now()),
            heads: heads.into_iter().map(row).collect(),
            mirror,
            trouble: store.trouble().map(|trouble| trouble.to_string()),
            mirror_trouble: mirror_trouble.flatten(),
        }
    }
}

#[derive(Serialize)]
struct MemberRow {
    name: String,
    key: String,
    channels: Vec<String>,
}

/// A shared cache, as far as it is known. Its words for its state are `used`, `proposed`,
/// `accepted`, `created`, `changed` and `new-key`.
#[derive(Default)]
pub struct SharedState<'a> {
    /// The state.
    pub state: &'static str,
    /// Its place.
    pub at: &'a str,
    /// Its root key, or the key that was made.
    pub key: Option<PublicKey>,
    /// Its members.
    pub members: KeyList,
    /// How many keys of results are known.
    pub keys: usize,
    /// Where it was asked just now.
    pub health: Option<SharedHealth>,
}

impl<'a> SharedState<'a> {
    /// The event about it.
    pub fn event(self) -> SharedStateEvent<'a> {
        let row = |member: Member| MemberRow {
            name: member.name,
            key: member.key.to_string(),
            channels: member.channels,
        };
        SharedStateEvent {
            event: "shared_cache",
            state: self.state,
            at: self.at,
            root: self.key.map_or_else(String::new, |key| key.to_string()),
            members: self.members.members.into_iter().map(row).collect(),
            keys: self.keys,
            health: self.health,
        }
    }
}
