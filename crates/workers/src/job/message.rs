//! What is signed and goes to another machine: in one message, or by the shared cache where it is
//! too long for one.

use nubrik_bytes::{Decoder, Digest, Encoder};
use nubrik_shared::{KeyList, PublicKey, SecretKey, SharedStore, SharedTrouble};

use super::RefusedMessage;

/// Up to so many compressed bytes go in the message; more go by the shared cache, and the message
/// says which ones.
const CARRIED: usize = 256 << 10;

/// Up to so many compressed bytes of small contents go with a job or an answer: two requests fewer
/// each, and nothing to remove later.
pub(crate) const ABOARD: usize = 64 << 10;

/// The most bytes, compressed, that a job or an answer may have.
const SHEET_LIMIT: u64 = 256 << 20;

/// Where the bytes go that are too many for a message.
pub(crate) trait Freight {
    /// Takes bytes, and gives their digest.
    ///
    /// # Errors
    /// Why they cannot go.
    fn give(&self, bytes: &[u8]) -> Result<Digest, SharedTrouble>;
    /// Bytes of a digest, at most so many.
    fn fetch(&self, digest: &Digest, limit: u64) -> Option<Vec<u8>>;
}

impl Freight for SharedStore {
    fn give(&self, bytes: &[u8]) -> Result<Digest, SharedTrouble> {
        self.hand_over_bytes(bytes)
    }

    fn fetch(&self, digest: &Digest, limit: u64) -> Option<Vec<u8>> {
        self.handed_bytes(digest, limit)
    }
}

/// The bytes of a sheet as a message has them, signed.
pub(super) fn sent(
    key: &SecretKey,
    thing: SignedThing,
    sheet: &[u8],
    freight: &dyn Freight,
) -> Result<Vec<u8>, SharedTrouble> {
    let frame =
        nubrik_shared::squeezed(sheet).map_err(|e| SharedTrouble::Machine(e.to_string()))?;
    let mut body = Encoder::new();
    body.u64(sheet.len() as u64);
    body.bool(frame.len() <= CARRIED);
    match frame.len() <= CARRIED {
        true => body.bytes(&frame),
        false => body.digest(&freight.give(&frame)?),
    }
    Ok(signed(key, thing, &body.bytes))
}

/// The bytes of a sheet that is in a message, or that it names, by who may write a channel.
pub(super) fn received(
    message: &[u8],
    members: &KeyList,
    channel: &str,
    (thing, freight): (SignedThing, &dyn Freight),
) -> Result<(PublicKey, Vec<u8>), RefusedMessage> {
    let (key, body) = opened(message, members, channel, thing)?;
    let mut from = Decoder::new(body);
    let raw = from.u64()?;
    let frame = match from.bool()? {
        true => from.bytes()?.to_vec(),
        false => {
            let digest = from.digest()?;
            freight
                .fetch(&digest, SHEET_LIMIT)
                .ok_or(RefusedMessage::NotThere)?
        }
    };
    if !from.is_at_end() {
        return Err(RefusedMessage::Damaged);
    }
    Ok((
        key,
        nubrik_shared::expanded(&frame, raw).ok_or(RefusedMessage::Damaged)?,
    ))
}

/// What a signature is for: one of something else does not count.
#[derive(Clone, Copy)]
pub(super) enum SignedThing {
    Job,
    Answer,
    Tools,
}

impl SignedThing {
    fn purpose(self) -> &'static str {
        match self {
            SignedThing::Job => "jobs",
            SignedThing::Answer => "workers",
            SignedThing::Tools => "tools of workers",
        }
    }
}

/// Signs bytes of a key's owner.
pub(super) fn signed(key: &SecretKey, thing: SignedThing, body: &[u8]) -> Vec<u8> {
    key.sign(thing.purpose(), &[&key.public().0[..], body].concat())
}

/// The bytes and whose they are, if that is someone who may write a channel.
pub(super) fn opened<'b>(
    bytes: &'b [u8],
    members: &KeyList,
    channel: &str,
    thing: SignedThing,
) -> Result<(PublicKey, &'b [u8]), RefusedMessage> {
    let key: [u8; 32] = bytes
        .get(..32)
        .and_then(|key| key.try_into().ok())
        .ok_or(RefusedMessage::TooShort)?;
    let key = PublicKey(key);
    if !members.writers_of(channel).any(|member| member.key == key) {
        return Err(RefusedMessage::NoMember(key, channel.to_owned()));
    }
    let body = key
        .open(thing.purpose(), bytes)
        .ok_or(RefusedMessage::WrongSignature)?;
    Ok((key, &body[32..]))
}
