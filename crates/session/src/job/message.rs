//! What is signed and goes to another machine: in one message, or by the shared cache where it is too long for one.

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_shared::{KeyList, PublicKey, SecretKey, SharedStore};

use super::Refused;

/// Up to so many compressed bytes go in the message; more go by the shared cache, and the message says which ones.
const CARRIED: usize = 256 << 10;

/// The most bytes, compressed, that a job or an answer may have.
const SHEET_LIMIT: u64 = 256 << 20;

/// Where the bytes go that are too many for a message.
pub(crate) trait Freight {
    /// Takes bytes, and gives their digest.
    ///
    /// # Errors
    /// Why they cannot go, for people.
    fn give(&self, bytes: &[u8]) -> Result<Digest, String>;
    /// Bytes of a digest, at most so many.
    fn fetch(&self, digest: &Digest, limit: u64) -> Option<Vec<u8>>;
}

impl Freight for SharedStore {
    fn give(&self, bytes: &[u8]) -> Result<Digest, String> {
        self.hand_over_bytes(bytes).map_err(|trouble| trouble.to_string())
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
) -> Result<Vec<u8>, String> {
    let frame = nubrik_shared::squeezed(sheet).map_err(|e| e.to_string())?;
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
) -> Result<(PublicKey, Vec<u8>), Refused> {
    let (key, body) = opened(message, members, channel, thing)?;
    let damaged = |_: Truncated| "it is damaged, or of another version".to_owned();
    let mut from = Decoder::new(body);
    let raw = from.u64().map_err(damaged)?;
    let frame = match from.bool().map_err(damaged)? {
        true => from.bytes().map_err(damaged)?.to_vec(),
        false => {
            let digest = from.digest().map_err(damaged)?;
            freight.fetch(&digest, SHEET_LIMIT).ok_or("what it says is not in the shared cache")?
        }
    };
    if !from.is_at_end() {
        return Err(damaged(Truncated));
    }
    Ok((key, nubrik_shared::expanded(&frame, raw).ok_or("it is damaged")?))
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
) -> Result<(PublicKey, &'b [u8]), Refused> {
    let key: [u8; 32] = bytes.get(..32).and_then(|key| key.try_into().ok()).ok_or("it is too short")?;
    let key = PublicKey(key);
    if !members.writers_of(channel).any(|member| member.key == key) {
        return Err(format!("{key} is no member that may write the channel `{channel}`"));
    }
    let body = key.open(thing.purpose(), bytes).ok_or("its signature is wrong")?;
    Ok((key, &body[32..]))
}
