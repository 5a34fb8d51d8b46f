//! Handing blobs and manifests to a registry of images, by the distribution protocol of the OCI
//! (specification 1.1, *Push*).

use std::io::Read;

use ureq::http::{Request, Response};
use ureq::{Agent, Body, SendBody};

use crate::tokens::{Challenge, Tokens};
use crate::transport::Head;
use crate::{Address, Credential, Trouble};

/// The longest answer that is read, in bytes.
const ANSWER_LIMIT: u64 = 1 << 20;

/// How often a token is asked for in one request.
const TOKENS: usize = 2;

/// A registry to which something is handed.
pub struct ImageUpload<'a> {
    agent: &'a Agent,
    /// The address of what the registry has of one name: `https://HOST/v2/NAME`.
    base: Address,
    credential: Option<Credential>,
    tokens: Tokens,
}

/// What a request carries, made again for each try.
type BlobContent<'c> = &'c dyn Fn() -> Result<(Box<dyn Read>, u64), Trouble>;

impl<'a> ImageUpload<'a> {
    pub(crate) fn new(
        agent: &'a Agent,
        base: Address,
        credential: Option<Credential>,
    ) -> ImageUpload<'a> {
        ImageUpload {
            agent,
            base,
            credential,
            tokens: Tokens::default(),
        }
    }

    /// Whether the registry has a blob.
    ///
    /// # Errors
    /// When it cannot be asked.
    pub fn has(&self, digest: &str) -> Result<bool, Trouble> {
        let head = self
            .ask("HEAD", &self.below(&format!("blobs/{digest}"))?, None, None)?
            .0;
        match head.status {
            200 => Ok(true),
            404 => Ok(false),
            _ => Err(refusal(&head)),
        }
    }

    /// Hands over a blob.
    ///
    /// # Errors
    /// When the registry does not take it.
    pub fn blob(&self, digest: &str, content: BlobContent<'_>) -> Result<(), Trouble> {
        let begun = self
            .ask("POST", &self.below("blobs/uploads/")?, None, None)?
            .0;
        let location = begun.text("location").filter(|_| begun.status == 202);
        let Some(location) = location.and_then(|location| self.base.join(location)) else {
            return Err(refusal(&begun));
        };
        if !self.base.may_lead_to(&location) {
            return Err(Trouble::failed(format!(
                "it leads on to {location}, and that is less safe"
            )));
        }
        let at = location.with_query([("digest", digest)].into_iter());
        let done = self
            .ask("PUT", &at, Some("application/octet-stream"), Some(content))?
            .0;
        if done.status == 201 {
            Ok(())
        } else {
            Err(refusal(&done))
        }
    }

    /// Hands over a manifest under a tag.
    ///
    /// # Errors
    /// When the registry does not take it.
    pub fn manifest(&self, tag: &str, kind: &str, bytes: &[u8]) -> Result<(), Trouble> {
        let content = || {
            let content: Box<dyn Read> = Box::new(std::io::Cursor::new(bytes.to_vec()));
            Ok((content, bytes.len() as u64))
        };
        let done = self
            .ask(
                "PUT",
                &self.below(&format!("manifests/{tag}"))?,
                Some(kind),
                Some(&content),
            )?
            .0;
        if done.status == 201 {
            Ok(())
        } else {
            Err(refusal(&done))
        }
    }

    fn below(&self, path: &str) -> Result<Address, Trouble> {
        self.base
            .below(path)
            .ok_or_else(|| Trouble::failed(format!("`{path}` is no path of a registry")))
    }

    fn ask(
        &self,
        method: &str,
        address: &Address,
        kind: Option<&str>,
        content: Option<BlobContent<'_>>,
    ) -> Result<(Head, Vec<u8>), Trouble> {
        // A credential is for its own host; a token of that host goes wherever it leads on its own.
        let is_own = address.host() == self.base.host();
        let mut credential = self.credential.clone().filter(|_| is_own);
        for asked in 0..=TOKENS {
            let (head, bytes) = self.once(method, address, kind, content, credential.as_ref())?;
            let challenge = head
                .text("www-authenticate")
                .and_then(|header| Challenge::of(address, header));
            let Some(challenge) =
                challenge.filter(|_| head.status == 401 && asked < TOKENS && is_own)
            else {
                return Ok((head, bytes));
            };
            // One that is known may hold no more.
            if asked > 0 {
                self.tokens.forget(&challenge);
            }
            let token = match self.tokens.known(&challenge) {
                Some(token) => token,
                None => {
                    let own = challenge.credential(&self.base, self.credential.as_ref());
                    let (answer, bytes) =
                        self.once("GET", &challenge.address(), None, None, own.as_ref())?;
                    let token = self
                        .tokens
                        .take(&challenge, &bytes)
                        .filter(|_| answer.status == 200);
                    token.ok_or_else(|| {
                        Trouble::failed(format!(
                            "{} gives no token ({})",
                            challenge.realm, answer.status
                        ))
                    })?
                }
            };
            credential = Some(Credential::Bearer(token));
        }
        Err(Trouble::Refused(401))
    }

    fn once(
        &self,
        method: &str,
        address: &Address,
        kind: Option<&str>,
        content: Option<BlobContent<'_>>,
        credential: Option<&Credential>,
    ) -> Result<(Head, Vec<u8>), Trouble> {
        let failed = |why: String| Trouble::failed(why);
        let mut request = Request::builder().method(method).uri(address.as_sent());
        if let Some(credential) = credential {
            request = request.header("Authorization", credential.header());
        }
        if let Some(kind) = kind {
            request = request.header("Content-Type", kind);
        }
        let mut response: Response<Body> = match content {
            Some(content) => {
                let (content, size) = content()?;
                let request = request.header("Content-Length", size.to_string());
                let request = request
                    .body(SendBody::from_owned_reader(content))
                    .map_err(|e| failed(e.to_string()))?;
                self.agent.run(request)
            }
            None if method == "POST" => {
                let request = request.header("Content-Length", "0");
                self.agent.run(
                    request
                        .body(SendBody::none())
                        .map_err(|e| failed(e.to_string()))?,
                )
            }
            None => self.agent.run(
                request
                    .body(SendBody::none())
                    .map_err(|e| failed(e.to_string()))?,
            ),
        }
        .map_err(|e| failed(e.to_string()))?;
        let head = Head::of(&response);
        let mut bytes = Vec::new();
        let body = response
            .body_mut()
            .with_config()
            .limit(ANSWER_LIMIT)
            .reader();
        body.take(ANSWER_LIMIT)
            .read_to_end(&mut bytes)
            .map_err(|e| failed(e.to_string()))?;
        Ok((head, bytes))
    }
}

fn refusal(head: &Head) -> Trouble {
    head.refusal()
        .unwrap_or_else(|| Trouble::failed(format!("it answers with status {}", head.status)))
}
