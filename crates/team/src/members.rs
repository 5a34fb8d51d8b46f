//! The list of members of a shared cache: read, made, changed.

use nubrik_shared::{KeyList, ListProblem, PublicKey, SecretKey, SharedStore, TRIES, let_settle};
use nubrik_web::Trouble;
use nubrik_workspace::SharedPlace;

use crate::places::objects_of;
use crate::trouble::TeamTrouble;

/// The most bytes that a list of members has.
const LIST_LIMIT: u64 = 4 << 20;

/// The list of members that a store has; nothing where it has none. `nubrik.toml` names the store,
/// unless a person named it just now.
///
/// # Errors
/// Why it cannot be asked, or that the list is not signed by the key.
pub fn members_at(
    place: &SharedPlace,
    is_typed: bool,
    root: &PublicKey,
) -> Result<Option<KeyList>, TeamTrouble> {
    let bytes = objects_of(place, is_typed)?.get(&KeyList::object(), None, LIST_LIMIT);
    let Some(bytes) = bytes? else { return Ok(None) };
    KeyList::open(&bytes, root)
        .map(Some)
        .ok_or(TeamTrouble::WrongRoot)
}

/// Signs a list of members, and puts it in place of what a store has. `nubrik.toml` names the
/// store, unless a person named it just now.
///
/// # Errors
/// Why it cannot be put.
pub fn put_members(
    place: &SharedPlace,
    is_typed: bool,
    list: &KeyList,
    root: &SecretKey,
) -> Result<(), TeamTrouble> {
    Ok(objects_of(place, is_typed)?.put(&KeyList::object(), &list.sign(root))?)
}

/// Why a list of members was not changed.
#[derive(Debug)]
pub enum NotChanged {
    /// The store cannot be asked, or its list is not signed by the key.
    Trouble(TeamTrouble),
    /// The store has no list.
    NoList,
    /// The list is not to be changed so.
    Problem(ListProblem),
    /// Others changed it each time.
    Contended,
}

impl From<TeamTrouble> for NotChanged {
    fn from(trouble: TeamTrouble) -> NotChanged {
        NotChanged::Trouble(trouble)
    }
}

impl From<Trouble> for NotChanged {
    fn from(trouble: Trouble) -> NotChanged {
        NotChanged::Trouble(trouble.into())
    }
}

/// Changes the list of members that a store has, and signs it again. Where the store is a folder,
/// people who change it do so one after another. Elsewhere it is looked whether somebody wrote over
/// it, and done again, so that no change is lost. Returns the new list, and what `edit` gave.
///
/// # Errors
/// Why the list stays as it is.
pub fn change_members<T>(
    place: &SharedPlace,
    root: &SecretKey,
    edit: impl Fn(&mut KeyList) -> Result<T, ListProblem>,
) -> Result<(KeyList, T), NotChanged> {
    let objects = objects_of(place, false)?;
    let name = KeyList::object();
    for tried in 1..=TRIES {
        let turn = objects.turn_of(&name)?;
        let bytes = objects
            .get(&name, None, LIST_LIMIT)?
            .ok_or(NotChanged::NoList)?;
        let mut list = KeyList::open(&bytes, &root.public()).ok_or(TeamTrouble::WrongRoot)?;
        let done = edit(&mut list).map_err(NotChanged::Problem)?;
        list.sequence += 1;
        objects.put(&name, &list.sign(root))?;
        if turn.is_some() {
            return Ok((list, done));
        }
        let_settle(tried);
        // Somebody may have gone on from this list.
        let now = objects
            .get(&name, None, LIST_LIMIT)?
            .and_then(|now| KeyList::open(&now, &root.public()));
        if now.is_some_and(|now| now.includes(&list)) {
            return Ok((list, done));
        }
    }
    Err(NotChanged::Contended)
}

/// Refuses a key that may not write a channel.
///
/// # Errors
/// That it may not, or that nobody knows who may.
pub fn may_write(shared: &SharedStore, key: &PublicKey, channel: &str) -> Result<(), TeamTrouble> {
    let members = shared.members();
    // Without a list that counts nobody may anything.
    if let Some(trouble) = shared.trouble().filter(|_| members.members.is_empty()) {
        return Err(TeamTrouble::MembersUnknown(trouble));
    }
    match members.writers_of(channel).any(|member| member.key == *key) {
        true => Ok(()),
        false => Err(TeamTrouble::MayNot(*key, channel.to_owned())),
    }
}
