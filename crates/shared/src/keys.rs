//! Keys, and what is signed by them (Ed25519, RFC 8032).

use std::fmt;
use std::sync::Arc;

use base64::prelude::*;
use nubrik_bytes::Digest;
use ring::rand::{SecureRandom, SystemRandom};
use ring::signature::{ED25519, Ed25519KeyPair, KeyPair, UnparsedPublicKey};

/// How keys begin as texts.
const PUBLIC: &str = "ed25519:";
const SECRET: &str = "ed25519-secret:";

/// Length of a signature, in bytes.
const SIGNATURE: usize = 64;

/// By what a signature is checked.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PublicKey(pub [u8; 32]);

nubrik_bytes::layout!(PublicKey(key));

/// By what is signed. It is printed only by [`SecretKey::to_text`].
#[derive(Clone)]
pub struct SecretKey {
    seed: [u8; 32],
    pair: Arc<Ed25519KeyPair>,
}

/// The 32 bytes behind a word.
fn bytes_of(text: &str, begins: &str) -> Option<[u8; 32]> {
    let encoded = text.trim().strip_prefix(begins)?;
    BASE64_STANDARD_NO_PAD
        .decode(encoded.trim_end_matches('='))
        .ok()?
        .try_into()
        .ok()
}

impl PublicKey {
    /// Reads a key as [`PublicKey`] is displayed.
    pub fn parse(text: &str) -> Option<PublicKey> {
        bytes_of(text, PUBLIC).map(PublicKey)
    }

    /// What represents it in records and names of files.
    pub fn digest(&self) -> Digest {
        Digest::of(&self.0)
    }

    /// The bytes that were signed for a purpose; `None` where the signature is not this key's.
    pub fn open<'b>(&self, purpose: &str, signed: &'b [u8]) -> Option<&'b [u8]> {
        let (body, signature) = signed.split_at_checked(signed.len().checked_sub(SIGNATURE)?)?;
        let key = UnparsedPublicKey::new(&ED25519, &self.0);
        key.verify(&with_purpose(purpose, body), signature).ok()?;
        Some(body)
    }
}

impl fmt::Display for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{PUBLIC}{}", BASE64_STANDARD_NO_PAD.encode(self.0))
    }
}

impl fmt::Debug for PublicKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{self}")
    }
}

/// What is signed: no signature for one purpose is one for another.
fn with_purpose(purpose: &str, body: &[u8]) -> Vec<u8> {
    [b"nubrik shared store: ", purpose.as_bytes(), b"\0", body].concat()
}

/// That this machine gives no random numbers.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub struct NoRandomNumbers;

impl fmt::Display for NoRandomNumbers {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("this machine gives no random numbers")
    }
}

impl std::error::Error for NoRandomNumbers {}

/// Random bytes that nobody can guess.
///
/// # Errors
/// When the machine gives none.
pub fn random_bytes() -> Result<[u8; 32], NoRandomNumbers> {
    let mut bytes = [0; 32];
    SystemRandom::new()
        .fill(&mut bytes)
        .map_err(|_| NoRandomNumbers)?;
    Ok(bytes)
}

impl SecretKey {
    /// A new key.
    ///
    /// # Errors
    /// When the machine gives no random numbers.
    pub fn generate() -> Result<SecretKey, NoRandomNumbers> {
        SecretKey::of_seed(random_bytes()?).ok_or(NoRandomNumbers)
    }

    fn of_seed(seed: [u8; 32]) -> Option<SecretKey> {
        Some(SecretKey {
            seed,
            pair: Arc::new(Ed25519KeyPair::from_seed_unchecked(&seed).ok()?),
        })
    }

    /// Reads a key that [`SecretKey::to_text`] wrote.
    pub fn parse(text: &str) -> Option<SecretKey> {
        SecretKey::of_seed(bytes_of(text, SECRET)?)
    }

    /// The key as a text, which must stay secret.
    pub fn to_text(&self) -> String {
        format!("{SECRET}{}", BASE64_STANDARD_NO_PAD.encode(self.seed))
    }

    /// The key by which others check what it signs.
    pub fn public(&self) -> PublicKey {
        let mut key = [0; 32];
        key.copy_from_slice(self.pair.public_key().as_ref());
        PublicKey(key)
    }

    /// The bytes with a signature for a purpose behind them.
    pub fn sign(&self, purpose: &str, body: &[u8]) -> Vec<u8> {
        let signature = self.pair.sign(&with_purpose(purpose, body));
        [body, signature.as_ref()].concat()
    }
}

impl fmt::Debug for SecretKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "the secret key of {}", self.public())
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn what_was_signed_is_opened_by_its_key_for_its_purpose_only() {
        let (key, other) = (
            SecretKey::generate().unwrap(),
            SecretKey::generate().unwrap(),
        );
        let signed = key.sign("head", b"tide");
        assert_eq!(key.public().open("head", &signed).unwrap(), b"tide");
        assert_eq!(other.public().open("head", &signed), None);
        assert_eq!(key.public().open("list", &signed), None);
        for at in 0..signed.len() {
            let mut bad = signed.clone();
            bad[at] ^= 1;
            assert_eq!(key.public().open("head", &bad), None);
            assert_eq!(key.public().open("head", &signed[..at]), None);
        }
    }

    #[test]
    fn keys_are_texts() {
        let key = SecretKey::generate().unwrap();
        assert_eq!(
            SecretKey::parse(&format!("{}\n", key.to_text()))
                .unwrap()
                .public(),
            key.public()
        );
        assert_eq!(
            PublicKey::parse(&key.public().to_string()).unwrap(),
            key.public()
        );
        assert!(
            PublicKey::parse(&key.to_text()).is_none()
                && PublicKey::parse("ed25519:AAAA").is_none()
        );
        assert!(!format!("{key:?}").contains(&key.to_text()[15..30]));
    }
}
