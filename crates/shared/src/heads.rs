//! What is signed: who belongs to a store, and what a member wrote last.

use std::fmt;

use nubrik_bytes::{Digest, Layout, layout};

use crate::PREFIX;
use crate::keys::{PublicKey, SecretKey};

/// Version of both layouts.
const VERSION: u8 = 1;

const OF_LIST: &str = "members";
const OF_HEAD: &str = "head";

/// The most bytes that a list of members, or a head, may have.
pub(crate) const SIGNED_LIMIT: u64 = 4 << 20;

/// Someone who may write results.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct Member {
    /// What people call it: `ci`.
    pub name: String,
    /// Its key.
    pub key: PublicKey,
    /// The channels that it may write; all of them if there is none.
    pub channels: Vec<String>,
}

layout!(Member {
    name,
    key,
    channels
});

/// Who belongs to a store, as its root key says.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct KeyList {
    /// Rises with each list: an older one is not believed any more.
    pub sequence: u64,
    /// Until when it counts, in seconds since 1970.
    pub expires: u64,
    /// Who may write.
    pub members: Vec<Member>,
    /// Keys of which nothing counts any more, whenever it was signed.
    pub revoked: Vec<PublicKey>,
}

layout!(KeyList {
    sequence,
    expires,
    members,
    revoked
});

/// What a member wrote last of a channel.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ChannelHead {
    /// The channel: `main`.
    pub channel: String,
    /// Rises with each head: an older one is not believed any more.
    pub sequence: u64,
    /// When it was signed, in seconds since 1970.
    pub time: u64,
    /// The digest of the manifest.
    pub manifest: Digest,
}

layout!(ChannelHead {
    channel,
    sequence,
    time,
    manifest
});

/// Whether a name of a channel can stand in names of objects.
pub fn is_channel(name: &str) -> bool {
    let fits = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.' | '/');
    (1..=100).contains(&name.len())
        && name.chars().all(fits)
        && !name.starts_with(['.', '/'])
        && !name.contains("..")
}

impl KeyList {
    /// The name of the object.
    pub fn object() -> String {
        format!("{PREFIX}/members")
    }

    /// The list as bytes, signed by the root key.
    pub fn sign(&self, root: &SecretKey) -> Vec<u8> {
        root.sign(OF_LIST, &self.to_version(VERSION))
    }

    /// Reads a list that a root key signed; `None` where it is none, or by another key.
    pub fn open(bytes: &[u8], root: &PublicKey) -> Option<KeyList> {
        KeyList::of_version(root.open(OF_LIST, bytes)?, VERSION).ok()
    }

    /// The member with a key, if it may write now.
    pub fn writer(&self, key: &PublicKey) -> Option<&Member> {
        self.members
            .iter()
            .find(|member| member.key == *key)
            .filter(|_| !self.revoked.contains(key))
    }

    /// Who may write a channel.
    pub fn writers_of<'l>(&'l self, channel: &'l str) -> impl Iterator<Item = &'l Member> {
        let may = move |member: &&Member| {
            member.channels.is_empty() || member.channels.iter().any(|own| own == channel)
        };
        self.members
            .iter()
            .filter(may)
            .filter(|member| !self.revoked.contains(&member.key))
    }
}

/// Why a list of members is not changed as somebody wants it. Its text is for people.
#[derive(Clone, PartialEq, Eq, Debug)]
pub enum ListProblem {
    /// The key was revoked, and stays so.
    IsRevoked,
    /// A member with this name would lose channels: those that it may write, or all where none is
    /// named.
    WouldLose(String, Vec<String>),
    /// No member has the name or the key: the word, and the names of all members.
    NoMember(String, Vec<String>),
}

impl fmt::Display for ListProblem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ListProblem::IsRevoked => f.write_str("this key was revoked; make another one"),
            ListProblem::WouldLose(name, channels) => {
                let which = channels_in_words(channels);
                let try_this = "name them all, --channel CHANNEL for each";
                write!(
                    f,
                    "{name} may write {which}, and would lose some of it: {try_this}"
                )
            }
            ListProblem::NoMember(who, names) => {
                let names = if names.is_empty() {
                    "none".to_owned()
                } else {
                    names.join(", ")
                };
                write!(f, "no member is called `{who}`; there is: {names}")
            }
        }
    }
}

impl std::error::Error for ListProblem {}

/// Channels that a member may write, in words.
pub fn channels_in_words(channels: &[String]) -> String {
    if channels.is_empty() {
        "all channels".to_owned()
    } else {
        channels.join(", ")
    }
}

impl KeyList {
    /// Lets a member write its channels. Several keys may have one name: those of the machines that
    /// build for all. A key that is there already gets more channels, and loses none.
    ///
    /// # Errors
    /// Where the key was revoked, or would lose a channel. Then nothing changes.
    pub fn admit(&mut self, member: Member) -> Result<(), ListProblem> {
        if self.revoked.contains(&member.key) {
            return Err(ListProblem::IsRevoked);
        }
        if let Some(known) = self.members.iter().find(|known| known.key == member.key) {
            let may =
                |channel: &String| member.channels.is_empty() || member.channels.contains(channel);
            let had_all = known.channels.is_empty() && !member.channels.is_empty();
            if had_all || !known.channels.iter().all(may) {
                return Err(ListProblem::WouldLose(
                    known.name.clone(),
                    known.channels.clone(),
                ));
            }
        }
        self.members.retain(|known| known.key != member.key);
        self.members.push(member);
        Ok(())
    }

    /// Whether everything that another list allows and forbids holds in this one, too: it was made
    /// of that list, or of the same changes.
    pub fn includes(&self, other: &KeyList) -> bool {
        let may = |channels: &[String], channel: &String| {
            channels.is_empty() || channels.contains(channel)
        };
        let holds = |member: &Member| {
            let covers = |own: &Member| {
                own.key == member.key
                    && (own.channels.is_empty() || !member.channels.is_empty())
                    && member
                        .channels
                        .iter()
                        .all(|channel| may(&own.channels, channel))
            };
            self.members.iter().any(covers) || self.revoked.contains(&member.key)
        };
        other.members.iter().all(holds)
            && other.revoked.iter().all(|key| self.revoked.contains(key))
    }

    /// Takes a member out, by its name or its key, so that everything is rejected that it signed.
    /// Returns the keys.
    ///
    /// # Errors
    /// Where the word is neither the name of a member nor a key. Then nothing changes.
    pub fn revoke(&mut self, who: &str) -> Result<Vec<PublicKey>, ListProblem> {
        let mut keys: Vec<PublicKey> = self
            .members
            .iter()
            .filter(|member| member.name == who)
            .map(|member| member.key)
            .collect();
        keys.extend(PublicKey::parse(who));
        if keys.is_empty() {
            let names = self
                .members
                .iter()
                .map(|member| member.name.clone())
                .collect();
            return Err(ListProblem::NoMember(who.to_owned(), names));
        }
        self.members.retain(|member| !keys.contains(&member.key));
        for key in &keys {
            if !self.revoked.contains(key) {
                self.revoked.push(*key);
            }
        }
        Ok(keys)
    }
}

/// With what the names of all heads begin.
fn heads_folder() -> String {
    format!("{PREFIX}/heads/")
}

/// Whether an object is a list of members or a head: it is named by what it is of, and another one
/// takes its place.
pub(crate) fn is_signed(name: &str) -> bool {
    name == KeyList::object() || name.starts_with(&heads_folder())
}

impl ChannelHead {
    /// The name of the object in which a member keeps the head of a channel: nobody else writes it.
    pub(crate) fn object(channel: &str, writer: &PublicKey) -> String {
        format!(
            "{}{}/{}",
            heads_folder(),
            channel.replace('/', "~"),
            &writer.digest().hex()[..32]
        )
    }

    pub(crate) fn sign(&self, writer: &SecretKey) -> Vec<u8> {
        writer.sign(OF_HEAD, &self.to_version(VERSION))
    }

    /// Reads the head of a channel that a writer signed.
    pub(crate) fn open(bytes: &[u8], channel: &str, writer: &PublicKey) -> Option<ChannelHead> {
        let head = ChannelHead::of_version(writer.open(OF_HEAD, bytes)?, VERSION).ok()?;
        (head.channel == channel).then_some(head)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn lists_and_heads_are_read_back_by_their_signers_key() {
        let (root, ci) = (
            SecretKey::generate().unwrap(),
            SecretKey::generate().unwrap(),
        );
        let member = Member {
            name: "ci".to_owned(),
            key: ci.public(),
            channels: vec!["main".to_owned()],
        };
        let mut list = KeyList {
            sequence: 3,
            expires: 9,
            members: vec![member],
            revoked: Vec::new(),
        };
        let signed = list.sign(&root);
        assert_eq!(KeyList::open(&signed, &root.public()).unwrap(), list);
        assert_eq!(KeyList::open(&signed, &ci.public()), None);
        assert_eq!(
            (
                list.writers_of("main").count(),
                list.writers_of("other").count()
            ),
            (1, 0)
        );
        list.revoked.push(ci.public());
        assert_eq!(
            (list.writers_of("main").count(), list.writer(&ci.public())),
            (0, None)
        );
        let head = ChannelHead {
            channel: "main".to_owned(),
            sequence: 1,
            time: 2,
            manifest: Digest::of(b"m"),
        };
        let signed = head.sign(&ci);
        assert_eq!(
            ChannelHead::open(&signed, "main", &ci.public()).unwrap(),
            head
        );
        assert_eq!(ChannelHead::open(&signed, "other", &ci.public()), None);
        assert_eq!(ChannelHead::open(&signed, "main", &root.public()), None);
    }

    #[test]
    fn a_member_is_let_in_once_and_a_revoked_key_never_again() {
        let key = SecretKey::generate().unwrap().public();
        let member = |channels: &[&str]| Member {
            name: "ci".to_owned(),
            key,
            channels: channels
                .iter()
                .map(|channel| (*channel).to_owned())
                .collect(),
        };
        let mut list = KeyList::default();
        list.admit(member(&["main"])).unwrap();
        list.admit(member(&["main", "next"])).unwrap();
        let before = list.clone();
        let lost =
            ListProblem::WouldLose("ci".to_owned(), vec!["main".to_owned(), "next".to_owned()]);
        assert_eq!((list.admit(member(&["next"])), &list), (Err(lost), &before));
        list.admit(member(&[])).unwrap();
        let lost = ListProblem::WouldLose("ci".to_owned(), Vec::new());
        assert_eq!(
            (list.admit(member(&["main"])), list.members.len()),
            (Err(lost), 1)
        );
        let nobody = ListProblem::NoMember("cj".to_owned(), vec!["ci".to_owned()]);
        assert_eq!(list.revoke("cj"), Err(nobody));
        assert_eq!((list.revoke("ci"), list.members.len()), (Ok(vec![key]), 0));
        assert_eq!(
            (list.revoke(&key.to_string()), list.revoked.len()),
            (Ok(vec![key]), 1)
        );
        assert_eq!(
            (list.admit(member(&[])), list.members.len()),
            (Err(ListProblem::IsRevoked), 0)
        );
    }

    #[test]
    fn a_list_includes_one_that_it_was_made_of_and_none_with_a_change_that_it_lacks() {
        let key = || SecretKey::generate().unwrap().public();
        let member = |key: PublicKey, channels: &[&str]| Member {
            name: "ci".to_owned(),
            key,
            channels: channels
                .iter()
                .map(|channel| (*channel).to_owned())
                .collect(),
        };
        let (one, two) = (key(), key());
        let list = |members: Vec<Member>, revoked: Vec<PublicKey>| KeyList {
            members,
            revoked,
            ..KeyList::default()
        };
        let small = list(vec![member(one, &["main"])], Vec::new());
        for more in [
            list(
                vec![member(one, &["main", "next"]), member(two, &[])],
                Vec::new(),
            ),
            list(vec![member(one, &[])], vec![two]),
            list(Vec::new(), vec![one]),
        ] {
            assert!(more.includes(&small) && !small.includes(&more), "{more:?}");
        }
        assert!(!list(vec![member(one, &["next"])], Vec::new()).includes(&small));
    }

    #[test]
    fn names_of_channels_lead_nowhere_else() {
        assert!(is_channel("main") && is_channel("team/tide-2"));
        assert!(
            !is_channel("")
                && !is_channel("../x")
                && !is_channel("/x")
                && !is_channel("a b")
                && !is_channel("a/../b")
        );
    }
}
