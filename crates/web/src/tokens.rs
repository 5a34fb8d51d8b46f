//! Tokens for one purpose: a server refuses, and says where one is given (`WWW-Authenticate:
//! Bearer`, RFC 6750, as registries of images use it).

use std::collections::HashMap;
use std::fmt;

use parking_lot::Mutex;

use crate::{Address, Credential};

/// Where a token is given, and for what.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct Challenge {
    /// Who gives it.
    pub realm: Address,
    service: Option<String>,
    scope: Option<String>,
}

/// Tokens that were given. None of them is printed.
#[derive(Default)]
pub(crate) struct Tokens(Mutex<HashMap<(String, Option<String>), String>>);

impl fmt::Debug for Tokens {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("tokens")
    }
}

impl Challenge {
    /// The challenge of a server at an address. One that leads to a less safe way is none.
    pub fn of(address: &Address, header: &str) -> Option<Challenge> {
        let (kind, parameters) = header.trim().split_once(' ')?;
        if !kind.eq_ignore_ascii_case("bearer") {
            return None;
        }
        let parameters = parameters_of(parameters);
        let said = |name: &str| {
            parameters
                .iter()
                .find(|(known, _)| known == name)
                .map(|(_, value)| value.clone())
        };
        let realm = Address::parse(&said("realm")?).ok()?.0;
        address.may_lead_to(&realm).then(|| Challenge {
            realm,
            service: said("service"),
            scope: said("scope"),
        })
    }

    /// What is asked for the token.
    pub fn address(&self) -> Address {
        let pairs = [("service", &self.service), ("scope", &self.scope)];
        self.realm.with_query(
            pairs
                .iter()
                .filter_map(|(name, value)| Some((*name, value.as_deref()?))),
        )
    }

    /// Who asks for it: whoever asks the server, but only where the same host gives tokens.
    pub fn credential(
        &self,
        asked: &Address,
        credential: Option<&Credential>,
    ) -> Option<Credential> {
        credential
            .filter(|_| self.realm.host() == asked.host())
            .cloned()
    }

    fn key(&self) -> (String, Option<String>) {
        (self.realm.to_string(), self.scope.clone())
    }
}

impl Tokens {
    pub fn known(&self, challenge: &Challenge) -> Option<String> {
        self.0.lock().get(&challenge.key()).cloned()
    }

    /// Takes the token in an answer.
    pub fn take(&self, challenge: &Challenge, answer: &[u8]) -> Option<String> {
        let answer: serde_json::Value = serde_json::from_slice(answer).ok()?;
        let token = answer
            .get("token")
            .or(answer.get("access_token"))?
            .as_str()?
            .to_owned();
        let is_fine = !token.is_empty() && token.bytes().all(|byte| byte.is_ascii_graphic());
        is_fine.then(|| {
            self.0.lock().insert(challenge.key(), token.clone());
            token
        })
    }

    pub fn forget(&self, challenge: &Challenge) {
        self.0.lock().remove(&challenge.key());
    }
}

/// Names with values, some of them in quotes, with commas between.
fn parameters_of(mut text: &str) -> Vec<(String, String)> {
    let mut found = Vec::new();
    while let Some((name, rest)) = text.split_once('=') {
        let name = name.trim_matches([' ', ',']).to_ascii_lowercase();
        let (value, rest) = match rest.strip_prefix('"') {
            Some(quoted) => match quoted.split_once('"') {
                Some((value, rest)) => (value, rest),
                None => break,
            },
            None => rest.split_once(',').unwrap_or((rest, "")),
        };
        found.push((name, value.trim().to_owned()));
        text = rest;
    }
    found
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn at(text: &str) -> Address {
        Address::parse(text).unwrap().0
    }

    #[test]
    fn a_challenge_says_where_a_token_is_given_and_for_what() {
        let header = "Bearer realm=\"https://auth.example/token\",service=\"images, of tides\" , scope=\"repository:tide/base:pull\"";
        let challenge = Challenge::of(&at("https://images.example/v2/"), header).unwrap();
        assert_eq!(
            challenge.address().as_sent(),
            "https://auth.example/token?service=images%2C+of+tides&scope=repository%3Atide%2Fbase%3Apull"
        );
        for none in [
            "Basic realm=\"x\"",
            "Basic realm=\"https://auth.example/token\"",
            "Bearer service=\"x\"",
            "Bearer",
            "Bearer realm=\"file:///etc/passwd\"",
            "Bearer realm=\"x",
        ] {
            assert_eq!(
                Challenge::of(&at("https://images.example/v2/"), none),
                None,
                "{none}"
            );
        }
        let less_safe = "Bearer realm=\"http://images.example/token\"";
        assert_eq!(
            Challenge::of(&at("https://images.example/v2/"), less_safe),
            None
        );
    }

    #[test]
    fn a_credential_goes_to_its_own_host_only() {
        let own = Credential::Basic("tide".into(), "ebb".into());
        let challenge = |realm: &str| {
            Challenge::of(
                &at("https://images.example/"),
                &format!("Bearer realm=\"{realm}\""),
            )
            .unwrap()
        };
        let asked = at("https://images.example/v2/");
        assert!(
            challenge("https://images.example/token")
                .credential(&asked, Some(&own))
                .is_some()
        );
        assert!(
            challenge("https://other.example/token")
                .credential(&asked, Some(&own))
                .is_none()
        );
        assert!(
            challenge("https://images.example:444/token")
                .credential(&asked, Some(&own))
                .is_none()
        );
    }

    #[test]
    fn a_token_is_taken_from_an_answer_and_printed_nowhere() {
        let tokens = Tokens::default();
        let challenge = Challenge::of(
            &at("https://a.example/"),
            "Bearer realm=\"https://a.example/t\"",
        )
        .unwrap();
        assert_eq!(
            tokens
                .take(&challenge, b"{\"access_token\": \"abc\"}")
                .as_deref(),
            Some("abc")
        );
        assert_eq!(tokens.known(&challenge).as_deref(), Some("abc"));
        assert_eq!(format!("{tokens:?}"), "tokens");
        for bad in [
            &b"{}"[..],
            b"{\"token\": \"a\\nb\"}",
            b"{\"token\": \"\"}",
            b"<html>",
        ] {
            assert_eq!(tokens.take(&challenge, bad), None);
        }
        tokens.forget(&challenge);
        assert_eq!(tokens.known(&challenge), None);
    }
}
