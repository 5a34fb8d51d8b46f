//! Documents of images: indexes, manifests and configurations, as the OCI image specification 1.1
//! has them (<https://github.com/opencontainers/image-spec>), and which image of several is meant.

use serde::Deserialize;
use std::collections::BTreeMap;

use crate::checked::BlobDigest;
use crate::problem::{ImageResult, bad};

/// How long a document may be, in bytes: so many the distribution specification asks registries to
/// take.
pub const DOCUMENT_LIMIT: u64 = 4 << 20;

/// The annotation by which the index of a layout calls an image.
const NAME: &str = "org.opencontainers.image.ref.name";

/// Kinds of lists of images, and of images: as the specification has them, and as they were called
/// before it.
pub const LIST_KINDS: [&str; 2] = [
    "application/vnd.oci.image.index.v1+json",
    "application/vnd.docker.distribution.manifest.list.v2+json",
];
/// See [`LIST_KINDS`].
pub const MANIFEST_KINDS: [&str; 2] = [
    "application/vnd.oci.image.manifest.v1+json",
    "application/vnd.docker.distribution.manifest.v2+json",
];

/// The kind of a layer that gzip compressed, and how it was called before the specification.
pub(crate) const GZIP_LAYER_KIND: &str = "application/vnd.oci.image.layer.v1.tar+gzip";
pub(crate) const OLD_LAYER_KIND: &str = "application/vnd.docker.image.rootfs.diff.tar.gzip";

/// What points to a blob.
#[derive(Deserialize, Clone, Debug)]
#[serde(rename_all = "camelCase")]
pub struct BlobDescriptor {
    /// What kind of blob it is.
    #[serde(default)]
    pub media_type: String,
    /// Its digest, as it is written.
    pub digest: String,
    /// Its size in bytes.
    pub size: u64,
    /// The platform of the image that it leads to.
    pub platform: Option<PlatformDocument>,
    /// What is said of it besides.
    #[serde(default)]
    pub annotations: BTreeMap<String, String>,
}

/// The platform of an image, as documents have it.
#[derive(Deserialize, Clone, Debug, PartialEq, Eq)]
pub struct PlatformDocument {
    /// The system, in the words of the specification.
    pub os: String,
    /// The processor.
    pub architecture: String,
    /// Which of several kinds of the processor.
    pub variant: Option<String>,
}

/// A list of images.
#[derive(Deserialize, Debug)]
pub(crate) struct IndexDocument {
    pub manifests: Vec<BlobDescriptor>,
}

/// What an image consists of.
#[derive(Deserialize, Debug)]
pub(crate) struct ManifestDocument {
    pub config: BlobDescriptor,
    pub layers: Vec<BlobDescriptor>,
}

/// How an image is to be run.
#[derive(Deserialize, Debug)]
pub(crate) struct ConfigDocument {
    pub os: String,
    pub architecture: String,
    pub variant: Option<String>,
    #[serde(default)]
    pub config: Option<RunDocument>,
    pub rootfs: RootDocument,
}

#[derive(Deserialize, Debug, Default)]
pub(crate) struct RunDocument {
    #[serde(rename = "Env", default)]
    pub env: Option<Vec<String>>,
}

#[derive(Deserialize, Debug)]
pub(crate) struct RootDocument {
    #[serde(default)]
    pub diff_ids: Vec<String>,
}

/// The platform that an image is for: `linux/amd64`, `linux/arm/v7`.
#[derive(Clone, PartialEq, Eq, Debug, PartialOrd, Ord, Hash)]
pub struct ImagePlatform(String);

impl ImagePlatform {
    /// The platform of the machine that this program runs on.
    pub fn of_machine() -> ImagePlatform {
        ImagePlatform(format!(
            "{}/{}",
            std::env::consts::OS,
            processor_in_images(std::env::consts::ARCH)
        ))
    }

    /// The platform of a system and a processor, in the words of definitions: `linux` and `x86_64`.
    pub fn new(system: &str, processor: &str) -> ImagePlatform {
        ImagePlatform(format!("{system}/{}", processor_in_images(processor)))
    }

    /// Any platform: for who does not run what is chosen.
    pub fn any() -> ImagePlatform {
        ImagePlatform("any".to_owned())
    }

    /// Its text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Whether an image that says it is of some platform can be meant by this one.
    pub(crate) fn takes(&self, said: &PlatformDocument) -> bool {
        *self == ImagePlatform::any()
            || self.0 == text_of(said)
            || self.0 == format!("{}/{}", said.os, said.architecture)
    }
}

fn text_of(said: &PlatformDocument) -> String {
    match said.variant.as_deref() {
        // All processors of this kind are of this variant.
        Some("v8") if said.architecture == "arm64" => format!("{}/{}", said.os, said.architecture),
        Some(variant) => format!("{}/{}/{variant}", said.os, said.architecture),
        None => format!("{}/{}", said.os, said.architecture),
    }
}

/// The word of images for a processor; most are the same.
fn processor_in_images(processor: &str) -> &str {
    const WORDS: [(&str, &str); 5] = [
        ("x86_64", "amd64"),
        ("x86", "386"),
        ("aarch64", "arm64"),
        ("powerpc64", "ppc64le"),
        ("loongarch64", "loong64"),
    ];
    WORDS
        .iter()
        .find(|(word, _)| *word == processor)
        .map_or(processor, |(_, in_images)| in_images)
}

impl BlobDescriptor {
    /// Its digest; an error where it is of no kind that can be checked.
    pub(crate) fn blob(&self) -> ImageResult<BlobDigest> {
        match BlobDigest::parse(&self.digest) {
            Some(digest) => Ok(digest),
            None => bad(format!(
                "{:?} is no digest of a kind that is known: sha256, sha512",
                self.digest
            )),
        }
    }

    /// What the index of a layout calls it.
    pub(crate) fn name(&self) -> Option<&str> {
        self.annotations.get(NAME).map(String::as_str)
    }

    pub(crate) fn is_index(&self) -> bool {
        LIST_KINDS.contains(&self.media_type.as_str())
    }

    /// Whether it leads to an image, and not to what is said about one.
    pub(crate) fn is_manifest(&self) -> bool {
        MANIFEST_KINDS.contains(&self.media_type.as_str())
    }
}

/// How a layer is compressed.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(crate) enum Compression {
    None,
    Gzip,
    Zstandard,
}

/// How a layer of a kind is compressed.
pub(crate) fn compression_of(layer: &BlobDescriptor) -> ImageResult<Compression> {
    match layer.media_type.as_str() {
        "application/vnd.oci.image.layer.v1.tar" => Ok(Compression::None),
        GZIP_LAYER_KIND | OLD_LAYER_KIND => Ok(Compression::Gzip),
        "application/vnd.oci.image.layer.v1.tar+zstd" => Ok(Compression::Zstandard),
        other => bad(format!(
            "a layer is of the kind {other:?}, which is none that can be unpacked: tar, tar+gzip, tar+zstd"
        )),
    }
}

/// Which image of a layout is meant.
#[derive(Clone, PartialEq, Eq, Debug)]
pub struct ImageChoice {
    /// What the layout calls it; `None` where there is only one.
    pub name: Option<String>,
    /// The platform that it must be for.
    pub platform: ImagePlatform,
}

impl ImageChoice {
    /// The one of some images that is meant.
    pub(crate) fn of<'d>(
        &self,
        all: &'d [BlobDescriptor],
        by_name: bool,
    ) -> ImageResult<&'d BlobDescriptor> {
        let images = || {
            all.iter()
                .filter(|image| image.is_index() || image.is_manifest())
        };
        let named: Vec<&BlobDescriptor> = match (&self.name, by_name) {
            (Some(name), true) => images()
                .filter(|image| image.name() == Some(name))
                .collect(),
            _ => images().collect(),
        };
        if named.is_empty() {
            let Some(name) = self.name.as_ref().filter(|_| by_name) else {
                return bad("it holds no image");
            };
            return bad(format!(
                "it holds no image called {name:?}\n{}",
                self.listed(images())
            ));
        }
        let fits = |image: &&&BlobDescriptor| {
            image
                .platform
                .as_ref()
                .is_none_or(|said| self.platform.takes(said))
        };
        let fitting: Vec<&&BlobDescriptor> = named.iter().filter(fits).collect();
        match fitting.as_slice() {
            [image] => Ok(image),
            [] => {
                let mut said: Vec<String> = named
                    .iter()
                    .filter_map(|i| i.platform.as_ref().map(text_of))
                    .collect();
                said.dedup();
                bad(format!(
                    "it is for {}, not for {}",
                    said.join(", "),
                    self.platform.as_str()
                ))
            }
            // The same image twice is one.
            [first, rest @ ..] if rest.iter().all(|other| other.digest == first.digest) => {
                Ok(first)
            }
            several => bad(format!(
                "it holds several images\n{}",
                self.listed(several.iter().map(|i| **i))
            )),
        }
    }

    fn listed<'d>(&self, images: impl Iterator<Item = &'d BlobDescriptor>) -> String {
        let mut names: Vec<&str> = images.filter_map(BlobDescriptor::name).collect();
        names.sort_unstable();
        names.dedup();
        const SHOWN: usize = 12;
        let more = if names.len() > SHOWN { ", …" } else { "" };
        names.truncate(SHOWN);
        match names.is_empty() {
            true => "none of them has a name".to_owned(),
            false => format!("it has: {}{more}", names.join(", ")),
        }
    }
}

/// What a registry gives under a name.
pub enum ImageDocument {
    /// A list of images, of which this one is meant.
    List(BlobDescriptor),
    /// An image.
    Image(ImageContents),
}

/// What an image consists of.
#[derive(Clone, Debug)]
pub struct ImageContents {
    /// How it is to be run, and for which platform it is.
    pub config: BlobDescriptor,
    /// Its layers, the lowest first.
    pub layers: Vec<BlobDescriptor>,
}

/// Reads what a registry gives under a name.
///
/// # Errors
/// When it is neither an image nor a list of them, or no image is for the platform.
pub fn image_document(bytes: &[u8], choice: &ImageChoice) -> ImageResult<ImageDocument> {
    let said: EitherDocument = document("what the registry gives", bytes)?;
    match said {
        EitherDocument {
            manifests: Some(manifests),
            ..
        } => Ok(ImageDocument::List(choice.of(&manifests, false)?.clone())),
        EitherDocument {
            config: Some(config),
            layers: Some(layers),
            ..
        } => {
            for layer in &layers {
                compression_of(layer)?;
                layer.blob()?;
            }
            config.blob()?;
            Ok(ImageDocument::Image(ImageContents { config, layers }))
        }
        _ => bad("what the registry gives is no image"),
    }
}

/// Whether a configuration is for a platform.
///
/// # Errors
/// When it is not, or is none.
pub fn check_platform(config: &[u8], choice: &ImageChoice) -> ImageResult<()> {
    let config: ConfigDocument = document("the configuration", config)?;
    choice.check(&config)
}

impl ImageChoice {
    /// Refuses a configuration of another platform.
    pub(crate) fn check(&self, config: &ConfigDocument) -> ImageResult<()> {
        let ConfigDocument {
            os,
            architecture,
            variant,
            ..
        } = config;
        let (os, architecture, variant) = (os.clone(), architecture.clone(), variant.clone());
        let said = PlatformDocument {
            os,
            architecture,
            variant,
        };
        match self.platform.takes(&said) {
            true => Ok(()),
            false => bad(format!(
                "it is for {}, not for {}",
                text_of(&said),
                self.platform.as_str()
            )),
        }
    }
}

#[derive(Deserialize)]
struct EitherDocument {
    manifests: Option<Vec<BlobDescriptor>>,
    config: Option<BlobDescriptor>,
    layers: Option<Vec<BlobDescriptor>>,
}

/// A list that names one manifest alone.
pub(crate) fn index_of_manifest(manifest: &[u8], digest: &BlobDigest) -> ImageResult<Vec<u8>> {
    #[derive(Deserialize)]
    #[serde(rename_all = "camelCase")]
    struct Kind {
        media_type: Option<String>,
    }
    let kind: Kind = document("the manifest", manifest)?;
    let kind = kind
        .media_type
        .unwrap_or_else(|| MANIFEST_KINDS[0].to_owned());
    let size = manifest.len();
    let manifest =
        serde_json::json!({ "mediaType": kind, "digest": digest.as_str(), "size": size });
    Ok(
        serde_json::json!({ "schemaVersion": 2, "manifests": [manifest] })
            .to_string()
            .into_bytes(),
    )
}

/// What a document says.
pub(crate) fn document<'d, T: Deserialize<'d>>(what: &str, bytes: &'d [u8]) -> ImageResult<T> {
    match serde_json::from_slice(bytes) {
        Ok(document) => Ok(document),
        Err(why) => bad(format!("{what} cannot be understood: {why}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn image(
        name: Option<&str>,
        platform: Option<(&str, &str, Option<&str>)>,
        digits: char,
    ) -> BlobDescriptor {
        BlobDescriptor {
            media_type: "application/vnd.oci.image.manifest.v1+json".into(),
            digest: format!("sha256:{}", digits.to_string().repeat(64)),
            size: 1,
            platform: platform.map(|(os, architecture, variant)| PlatformDocument {
                os: os.into(),
                architecture: architecture.into(),
                variant: variant.map(str::to_owned),
            }),
            annotations: name
                .map(|name| (NAME.to_owned(), name.to_owned()))
                .into_iter()
                .collect(),
        }
    }

    fn choice(name: Option<&str>) -> ImageChoice {
        ImageChoice {
            name: name.map(str::to_owned),
            platform: ImagePlatform::new("linux", "aarch64"),
        }
    }

    #[test]
    fn an_image_is_chosen_by_its_name_and_its_platform() {
        let all = [
            image(Some("tide"), Some(("linux", "amd64", None)), 'a'),
            image(Some("tide"), Some(("linux", "arm64", Some("v8"))), 'b'),
            image(Some("ebb"), None, 'c'),
        ];
        assert_eq!(
            choice(Some("tide")).of(&all, true).unwrap().digest,
            all[1].digest
        );
        assert_eq!(
            choice(Some("ebb")).of(&all, true).unwrap().digest,
            all[2].digest
        );
        let said = |name, images: &[BlobDescriptor]| {
            choice(name).of(images, true).unwrap_err().to_string()
        };
        assert_eq!(
            said(Some("flood"), &all),
            "it holds no image called \"flood\"\nit has: ebb, tide"
        );
        assert_eq!(
            said(None, &all),
            "it holds several images\nit has: ebb, tide"
        );
        assert_eq!(
            said(None, &all[..1]),
            "it is for linux/amd64, not for linux/arm64"
        );
        assert_eq!(said(None, &[]), "it holds no image");
    }

    #[test]
    fn layers_are_of_a_kind_that_is_known() {
        let of = |kind: &str| {
            compression_of(&BlobDescriptor {
                media_type: kind.into(),
                ..image(None, None, 'a')
            })
            .ok()
        };
        assert_eq!(
            of("application/vnd.oci.image.layer.v1.tar+zstd"),
            Some(Compression::Zstandard)
        );
        assert_eq!(
            of("application/vnd.docker.image.rootfs.diff.tar.gzip"),
            Some(Compression::Gzip)
        );
        assert_eq!(of("application/vnd.oci.image.layer.v1.tar+xz"), None);
        assert_eq!(of(""), None);
    }
}
