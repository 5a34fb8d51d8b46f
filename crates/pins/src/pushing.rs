//! Handing an image to a registry.

use std::net::IpAddr;
use std::path::Path;

use nubrik_images::{
    BlobDigest, ImageChoice, ImageContent, ImagePlatform, ImageProblem, image_content,
    is_image_name, is_image_tag, layout_at,
};
use nubrik_web::{Address, Client, Credential, Trouble};

/// Where an image goes: the address of its name in a registry, and the tag.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImageAddress {
    base: Address,
    tag: String,
}

/// What of an image was handed over.
pub struct PushedImage {
    /// The digest of its manifest.
    pub digest: String,
    /// Blobs that the registry did not have, and those that it had.
    pub sent: usize,
    /// See `sent`.
    pub known: usize,
}

/// Why an image was not handed over.
#[derive(Debug)]
pub enum NotPushed {
    /// The image is damaged, or none.
    Image(ImageProblem),
    /// The registry did not take it.
    Registry(Trouble),
}

impl std::fmt::Display for NotPushed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            NotPushed::Image(why) => why.fmt(f),
            NotPushed::Registry(why) => why.fmt(f),
        }
    }
}

impl ImageAddress {
    /// The address `https://HOST/NAME:TAG`; `None` where it is none.
    pub fn parse(text: &str) -> Option<ImageAddress> {
        let (scheme, rest) = text.split_once("://")?;
        let (host, name) = rest.split_once('/')?;
        let (name, tag) = name.rsplit_once(':')?;
        let is_fine = matches!(scheme, "http" | "https") && !host.contains('@');
        if !is_fine || !is_image_tag(tag) || !is_image_name(name) {
            return None;
        }
        let base = Address::parse(&format!("{scheme}://{host}/v2/{name}"))
            .ok()?
            .0;
        Some(ImageAddress {
            base,
            tag: tag.to_owned(),
        })
    }

    /// Whether others on the way can read what is sent there: it is not encrypted, and leaves this
    /// machine.
    pub fn is_open(&self) -> bool {
        let host = self.base.host();
        let name = host.rsplit_once(':').map_or(&*host, |(name, _)| name);
        let is_own = name == "localhost"
            || name
                .trim_matches(['[', ']'])
                .parse::<IpAddr>()
                .is_ok_and(|address| address.is_loopback());
        self.base.as_sent().starts_with("http:") && !is_own
    }
}

/// Hands an image to a registry: what that has already is not sent. `secret` is a token, or a user
/// and a password with `:`
/// between.
///
/// # Errors
/// When the image is damaged, or the registry does not take it.
pub fn push_image(
    layout: &Path,
    to: &ImageAddress,
    secret: Option<&str>,
) -> Result<PushedImage, NotPushed> {
    let blobs = layout_at(layout).map_err(NotPushed::Image)?;
    // Whatever it is for: it is not run here.
    let choice = ImageChoice {
        name: None,
        platform: ImagePlatform::any(),
    };
    let ImageContent {
        manifest,
        kind,
        blobs: all,
    } = image_content(&*blobs, &choice).map_err(NotPushed::Image)?;
    let credential = secret.map(|secret| match secret.split_once(':') {
        Some((user, password)) => Credential::Basic(user.to_owned(), password.to_owned()),
        None => Credential::Bearer(secret.to_owned()),
    });
    let of_machine = std::env::var_os("SSL_CERT_FILE")
        .map(std::path::PathBuf::from)
        .filter(|path| path.is_file());
    let client = Client::new(&of_machine.into_iter().collect::<Vec<_>>());
    let upload = client
        .upload(to.base.clone(), credential)
        .map_err(NotPushed::Registry)?;
    let (mut sent, mut known) = (0, 0);
    let mut done: Vec<&str> = Vec::new();
    for blob in &all {
        if done.contains(&blob.digest.as_str()) {
            continue;
        }
        done.push(&blob.digest);
        if upload.has(&blob.digest).map_err(NotPushed::Registry)? {
            known += 1;
            continue;
        }
        let content = || {
            let digest = BlobDigest::parse(&blob.digest)
                .ok_or_else(|| Trouble::Failed("a blob has no digest".to_owned()))?;
            let opened = blobs
                .open(&digest)
                .map_err(|why| Trouble::Failed(why.to_string()))?;
            Ok((opened as Box<dyn std::io::Read>, blob.size))
        };
        upload
            .blob(&blob.digest, &content)
            .map_err(NotPushed::Registry)?;
        sent += 1;
    }
    upload
        .manifest(&to.tag, &kind, &manifest)
        .map_err(NotPushed::Registry)?;
    Ok(PushedImage {
        digest: BlobDigest::of(&manifest).to_string(),
        sent,
        known,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_sent_unencrypted_to_another_machine_can_be_read_by_others() {
        for (address, is_open) in [
            ("https://images.example/a:1", false),
            ("http://images.example/a:1", true),
            ("http://localhost/a:1", false),
            ("http://127.0.0.1:5000/a:1", false),
            ("http://[::1]:5000/a:1", false),
            ("http://127.0.0.1.example:5000/a:1", true),
        ] {
            assert_eq!(
                ImageAddress::parse(address).unwrap().is_open(),
                is_open,
                "{address}"
            );
        }
    }

    #[test]
    fn an_address_names_a_host_a_name_and_a_tag() {
        assert!(ImageAddress::parse("https://images.example/tide/almanac:1.2").is_some());
        assert!(ImageAddress::parse("http://127.0.0.1:5000/almanac:1").is_some());
        for bad in [
            "images.example/a:1",
            "https://images.example/a",
            "https://images.example:1",
            "ftp://h/a:1",
            "https://u:p@h/a:1",
            "https://h/../a:1",
            "https://h/a:",
            "https://h/A:1",
        ] {
            assert_eq!(ImageAddress::parse(bad), None, "{bad}");
        }
    }
}
