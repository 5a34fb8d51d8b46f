//! Images: from registries that speak the distribution protocol of the OCI (specification 1.1).
//!
//! A tag says today's image of a name, and may say another one tomorrow. So a version is the tag
//! with the first digits of the digest of what it said; the manifest itself is kept among the
//! facts, and the configuration and the layers are archives.

use std::collections::BTreeMap;
use std::sync::Arc;

use nubrik_images::{
    BlobDescriptor, BlobDigest, ImageChoice, ImageContents, ImageDocument, ImagePlatform,
    ImageProblem, LIST_KINDS, MANIFEST_KINDS, check_platform, image_document, is_image_tag,
};
use nubrik_web::Address;

use crate::desk::{Desk, Page};
use crate::file::{Archive, AskedPackage, Pin, pin_id};
use crate::origin::Origin;
use crate::solved::{Preferred, Solved};
use crate::{PinProblem, Registry};

/// Facts of a pin: the manifest word for word, and its digest.
const MANIFEST: &str = "manifest";
const DIGEST: &str = "digest";

/// How many digits of a digest are in a version.
const DIGITS: usize = 12;

/// How many tags are shown where one is missing.
const SHOWN_TAGS: usize = 8;

/// How deep lists of images may lie in one another.
const DEEPEST: usize = 4;

/// What is pinned of a name on a system, as the registry says it today, or as it was pinned.
pub(crate) fn resolve(
    desk: &Desk<'_>,
    system: &str,
    asked: &BTreeMap<String, AskedPackage>,
    preferred: &Preferred,
) -> Result<Solved, PinProblem> {
    let (os, processor) = system.split_once('-').unwrap_or((system, ""));
    let choice = ImageChoice {
        name: None,
        platform: ImagePlatform::new(os, processor),
    };
    let mut solved = Solved::default();
    for (name, asked) in asked {
        let pin = pin_of(desk, name, &asked.requirement, &choice, preferred)?;
        solved
            .asked
            .insert(name.clone(), pin_id(name, &pin.version));
        solved.pins.insert(pin.id(), pin);
    }
    Ok(solved)
}

fn pin_of(
    desk: &Desk<'_>,
    name: &str,
    wanted: &str,
    choice: &ImageChoice,
    preferred: &Preferred,
) -> Result<Pin, PinProblem> {
    let exact = BlobDigest::parse(wanted);
    if exact.is_none() && !is_image_tag(wanted) {
        let problem = match wanted.is_empty() {
            true => PinProblem::new(format!(
                "an image is pinned by a tag, and none is given for `{name}`"
            )),
            false => PinProblem::new(format!("`{wanted}` is no tag of an image, and no digest")),
        };
        return Err(with_tags(desk, name, problem));
    }
    let kept = preferred
        .get(name)
        .into_iter()
        .flatten()
        .find_map(|version| {
            let digits = version
                .strip_prefix(&shown_tag(wanted))?
                .strip_prefix('-')?;
            desk.known_fact(Registry::Images, DIGEST, &format!("sha256:{digits}"))
        });
    let reference = kept.unwrap_or_else(|| wanted.to_owned());
    let (bytes, digest, contents) = manifest(desk, name, &reference, choice)?;
    let text = String::from_utf8(bytes)
        .map_err(|_| PinProblem::new(format!("the manifest of `{name}` is no text")))?;
    let ImageContents { config, layers } = contents;
    let said = document(desk, &format!("{name}/blobs/{}", config.digest), name, None)?;
    let said = said.ok_or_else(|| {
        PinProblem::new(format!("the registry lacks the configuration of `{name}`"))
    })?;
    must_have(&said.document.bytes, &config.digest, name)?;
    check_platform(&said.document.bytes, choice).map_err(|why| unfit(name, wanted, &why))?;
    let mut archives: Vec<Archive> = Vec::new();
    for BlobDescriptor { digest, size, .. } in std::iter::once(config).chain(layers) {
        // The same layer twice is fetched once.
        if archives.iter().all(|archive| archive.digest != digest) {
            let path = format!("{name}/blobs/{digest}");
            archives.push(Archive::everywhere(path, digest, size));
        }
    }
    let version = format!("{}-{}", shown_tag(wanted), &digest.parts().1[..DIGITS]);
    Ok(Pin {
        name: name.to_owned(),
        version,
        archives,
        facts: BTreeMap::from([
            (MANIFEST.to_owned(), text),
            (DIGEST.to_owned(), digest.to_string()),
        ]),
        ..Pin::default()
    })
}

/// A tag as versions have it; of a digest its method.
fn shown_tag(wanted: &str) -> String {
    wanted.split(':').next().unwrap_or_default().to_owned()
}

/// The manifest that a tag or digest leads to on a platform: its bytes, its digest, and what it
/// names.
fn manifest(
    desk: &Desk<'_>,
    name: &str,
    reference: &str,
    choice: &ImageChoice,
) -> Result<(Vec<u8>, BlobDigest, ImageContents), PinProblem> {
    let accept = [LIST_KINDS, MANIFEST_KINDS].concat().join(", ");
    let mut at = reference.to_owned();
    for _ in 0..DEEPEST {
        let page = document(desk, &format!("{name}/manifests/{at}"), name, Some(&accept))?;
        let Some(page) = page else {
            let problem = PinProblem::new(format!("the registry has no image {name} {reference}"));
            return Err(with_tags(desk, name, problem));
        };
        let bytes = &page.document.bytes;
        if BlobDigest::parse(&at).is_some() {
            must_have(bytes, &at, name)?;
        }
        match image_document(bytes, choice).map_err(|why| unfit(name, reference, &why))? {
            ImageDocument::List(chosen) => at = chosen.digest,
            ImageDocument::Image(contents) => {
                return Ok((bytes.clone(), BlobDigest::of(bytes), contents));
            }
        }
    }
    Err(PinProblem::new(format!(
        "lists of images lead to one another at {name} {reference}"
    )))
}

fn unfit(name: &str, wanted: &str, why: &ImageProblem) -> PinProblem {
    PinProblem::new(format!("the image {name} {wanted} cannot be pinned: {why}"))
}

/// Refuses bytes that have another digest than they must.
fn must_have(bytes: &[u8], digest: &str, name: &str) -> Result<(), PinProblem> {
    let Some(wanted) = BlobDigest::parse(digest) else {
        return Err(PinProblem::new(format!(
            "`{digest}`, of `{name}`, is no digest of a kind that is known"
        )));
    };
    match wanted.is_of(bytes) {
        true => Ok(()),
        false => Err(PinProblem::new(format!(
            "what the registry gives as {digest} of `{name}` is something else"
        ))),
    }
}

fn document(
    desk: &Desk<'_>,
    path: &str,
    name: &str,
    accept: Option<&str>,
) -> Result<Option<Arc<Page>>, PinProblem> {
    desk.page(Registry::Images, &format!("v2/{path}"), accept, name)
}

/// Says which tags there are, where the registry tells.
fn with_tags(desk: &Desk<'_>, name: &str, problem: PinProblem) -> PinProblem {
    #[derive(serde::Deserialize)]
    struct Tags {
        tags: Option<Vec<String>>,
    }
    let page = document(desk, &format!("{name}/tags/list"), name, None)
        .ok()
        .flatten();
    let tags: Option<Tags> =
        page.and_then(|page| serde_json::from_slice(&page.document.bytes).ok());
    let tags = tags.and_then(|tags| tags.tags).unwrap_or_default();
    let Some(last) = tags.last() else {
        return problem.mend(format!("nubrik pins add images {name} TAG"));
    };
    let shown: Vec<&str> = tags
        .iter()
        .rev()
        .take(SHOWN_TAGS)
        .map(String::as_str)
        .collect();
    let more = if tags.len() > SHOWN_TAGS {
        format!(", and {} more", tags.len() - SHOWN_TAGS)
    } else {
        String::new()
    };
    problem
        .note(format!("its tags: {}{more}", shown.join(", ")))
        .mend(format!("nubrik pins add images {name} {last}"))
}

/// Where a blob is: below the first origin that is for its name.
pub(crate) fn locate(desk: &Desk<'_>, path: &str) -> Result<Option<(Address, Origin)>, PinProblem> {
    let Some((name, _)) = path.split_once("/blobs/") else {
        return Ok(None);
    };
    let Some(origin) = desk.origins_for(Registry::Images, name)?.into_iter().next() else {
        return Ok(None);
    };
    Ok(origin
        .address
        .below(&format!("v2/{path}"))
        .map(|address| (address, origin)))
}
