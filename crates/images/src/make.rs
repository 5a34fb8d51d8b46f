//! Making an image: the layers of another one, and a layer more, in an archive that is the same
//! bytes on every machine.

use std::fs::File;
use std::io::{self, BufReader, Read, Write};
use std::path::{Path, PathBuf};

use serde_json::{Map, Value, json};

use crate::blobs::{Blobs, document_of};
use crate::cache::{ImageParts, parts_of};
use crate::checked::{BlobDigest, CheckedReader, CountingHasher};
use crate::manifest::{
    BlobDescriptor, GZIP_LAYER_KIND, ImageChoice, LIST_KINDS, MANIFEST_KINDS, OLD_LAYER_KIND,
    document,
};
use crate::problem::{ImageProblem, ImageResult, refused};

/// 1980-01-01: the time of everything that is made.
pub(crate) const TIME: u64 = 315_532_800;
const WRITTEN_TIME: &str = "1980-01-01T00:00:00Z";

/// The kind of a configuration.
const CONFIG_KIND: &str = "application/vnd.oci.image.config.v1+json";
/// The part of a configuration that says how a container is run (OCI image specification, *Image
/// Configuration*).
const RUN: &str = "config";

/// What is said of a new image besides its files.
#[derive(Clone, Debug, Default)]
pub struct ImageSettings {
    /// Variables, in the place of those of the same names.
    pub env: Vec<(String, String)>,
    /// What is started in it, with its words; as the image below has it where there is nothing.
    pub start: Vec<String>,
    /// The folder in which that is started.
    pub folder: Option<String>,
}

/// Something that goes into the archive.
enum NewBlob {
    Bytes(Vec<u8>),
    /// A file, with its size.
    File(PathBuf, u64),
    /// A blob of the image below, with its size.
    Below(BlobDigest, u64),
}

/// What an image consists of, to be handed to a registry.
pub struct ImageContent {
    /// The manifest, word for word.
    pub manifest: Vec<u8>,
    /// Which kind of document it is.
    pub kind: String,
    /// The configuration and the layers.
    pub blobs: Vec<BlobDescriptor>,
}

/// Reads of an image all that a registry needs.
///
/// # Errors
/// When it is damaged, or there are several.
pub fn image_content(blobs: &dyn Blobs, choice: &ImageChoice) -> ImageResult<ImageContent> {
    let ImageParts {
        manifest,
        config,
        layers,
        env: _,
    } = parts_of(blobs, choice)?;
    let bytes = document_of(blobs, &manifest)?;
    let blobs = std::iter::once(config)
        .chain(layers.into_iter().map(|(layer, _)| layer))
        .collect();
    Ok(ImageContent {
        manifest: bytes,
        kind: manifest.media_type,
        blobs,
    })
}

/// An image that is being made.
struct Making<'a> {
    below: Option<&'a dyn Blobs>,
    config: Map<String, Value>,
    layers: Vec<Value>,
    blobs: Vec<(BlobDigest, NewBlob)>,
}

/// Writes an image to a new file: an archive of a layout. `layer` is the tar of its own layer;
/// `packed` is a file that is made for that on the way.
///
/// # Errors
/// When the image below is damaged, or this machine refuses.
pub fn make_image(
    below: Option<(&dyn Blobs, &ImageChoice)>,
    choice: &ImageChoice,
    (layer, packed): (&Path, &Path),
    settings: &ImageSettings,
    to: &mut dyn Write,
) -> ImageResult<()> {
    let mut making = Making::begin(below, choice)?;
    making.add_layer(layer, packed)?;
    making.settle(settings);
    making.write(to)
}

fn descriptor(kind: &str, digest: &BlobDigest, size: u64) -> Value {
    json!({ "mediaType": kind, "digest": digest.as_str(), "size": size })
}

impl<'a> Making<'a> {
    /// Begins with all of another image, or with nothing.
    fn begin(
        below: Option<(&'a dyn Blobs, &ImageChoice)>,
        choice: &ImageChoice,
    ) -> ImageResult<Making<'a>> {
        let Some((blobs, of)) = below else {
            let (os, architecture) = choice
                .platform
                .as_str()
                .split_once('/')
                .unwrap_or(("linux", ""));
            let config = json!({ "os": os, "architecture": architecture, "rootfs": { "type": "layers", "diff_ids": [] } });
            let config = config.as_object().cloned().unwrap_or_default();
            return Ok(Making {
                below: None,
                config,
                layers: Vec::new(),
                blobs: Vec::new(),
            });
        };
        let ImageParts { config, layers, .. } = parts_of(blobs, of)?;
        let bytes = document_of(blobs, &config)?;
        let config: Map<String, Value> = document("the configuration", &bytes)?;
        let mut making = Making {
            below: Some(blobs),
            config,
            layers: Vec::new(),
            blobs: Vec::new(),
        };
        for (layer, _) in layers {
            let digest = layer.blob()?;
            let kind = if layer.media_type == OLD_LAYER_KIND {
                GZIP_LAYER_KIND
            } else {
                &layer.media_type
            };
            making.layers.push(descriptor(kind, &digest, layer.size));
            making
                .blobs
                .push((digest.clone(), NewBlob::Below(digest, layer.size)));
        }
        Ok(making)
    }

    /// Adds a layer, packed with fixed settings.
    fn add_layer(&mut self, layer: &Path, packed: &Path) -> ImageResult<()> {
        let tar = File::open(layer).map_err(refused(layer))?;
        let out = File::create_new(packed).map_err(refused(packed))?;
        let pack = || -> io::Result<(BlobDigest, BlobDigest, u64)> {
            let mut unpacked = CountingHasher::default();
            let mut sink = CountingHasher::default();
            let both = Both {
                one: &out,
                other: &mut sink,
            };
            let gz = flate2::GzBuilder::new().mtime(0).operating_system(255);
            let mut gz = gz.write(both, flate2::Compression::default());
            let mut tar = BufReader::with_capacity(256 << 10, tar);
            io::copy(
                &mut tar,
                &mut Both {
                    one: &mut gz,
                    other: &mut unpacked,
                },
            )?;
            gz.finish()?;
            let size = sink.size();
            Ok((unpacked.finish(), sink.finish(), size))
        };
        let (unpacked, digest, size) = pack().map_err(refused(packed))?;
        self.layers.push(descriptor(GZIP_LAYER_KIND, &digest, size));
        self.blobs
            .push((digest, NewBlob::File(packed.to_owned(), size)));
        let ids = self
            .config
            .get_mut("rootfs")
            .and_then(|root| root.get_mut("diff_ids"));
        match ids.and_then(Value::as_array_mut) {
            Some(ids) => ids.push(unpacked.as_str().into()),
            None => return crate::problem::bad("the configuration names no layers"),
        }
        if let Some(history) = self.config.get_mut("history").and_then(Value::as_array_mut) {
            history.push(json!({ "created": WRITTEN_TIME, "created_by": "nubrik" }));
        }
        Ok(())
    }

    /// Puts what is said of it into its configuration.
    fn settle(&mut self, settings: &ImageSettings) {
        let ImageSettings { env, start, folder } = settings;
        self.config
            .insert("created".to_owned(), WRITTEN_TIME.into());
        let run = self.config.entry(RUN).or_insert_with(|| json!({}));
        if !run.is_object() {
            *run = json!({});
        }
        let Some(run) = run.as_object_mut() else {
            return;
        };
        let known = run
            .get("Env")
            .and_then(Value::as_array)
            .cloned()
            .unwrap_or_default();
        let is_kept = |line: &Value| {
            let name = line
                .as_str()
                .and_then(|line| line.split_once('='))
                .map(|(name, _)| name);
            env.iter().all(|(new, _)| name != Some(new))
        };
        let mut lines: Vec<Value> = known.into_iter().filter(is_kept).collect();
        lines.extend(
            env.iter()
                .map(|(name, value)| Value::from(format!("{name}={value}"))),
        );
        if !lines.is_empty() {
            run.insert("Env".to_owned(), lines.into());
        }
        if !start.is_empty() {
            run.insert("Entrypoint".to_owned(), start.clone().into());
            run.remove("Cmd");
        }
        if let Some(folder) = folder {
            run.insert("WorkingDir".to_owned(), folder.as_str().into());
        }
    }

    fn write(mut self, to: &mut dyn Write) -> ImageResult<()> {
        let config = Value::Object(std::mem::take(&mut self.config))
            .to_string()
            .into_bytes();
        let config_digest = self.add_bytes(config.clone());
        let manifest = json!({
            "schemaVersion": 2,
            "mediaType": MANIFEST_KINDS[0],
            "config": descriptor(CONFIG_KIND, &config_digest, config.len() as u64),
            "layers": self.layers,
        });
        let manifest = manifest.to_string().into_bytes();
        let digest = self.add_bytes(manifest.clone());
        let index = json!({
            "schemaVersion": 2,
            "mediaType": LIST_KINDS[0],
            "manifests": [descriptor(MANIFEST_KINDS[0], &digest, manifest.len() as u64)],
        });
        self.blobs.sort_by(|a, b| a.0.cmp(&b.0));
        self.blobs.dedup_by(|a, b| a.0 == b.0);
        let mut tar = tar::Builder::new(to);
        let failed =
            |why: io::Error| ImageProblem::Machine(format!("the archive cannot be written: {why}"));
        put(
            &mut tar,
            "oci-layout",
            br#"{"imageLayoutVersion":"1.0.0"}"#.as_slice(),
            30,
        )
        .map_err(failed)?;
        let index = index.to_string();
        put(&mut tar, "index.json", index.as_bytes(), index.len() as u64).map_err(failed)?;
        for (digest, blob) in &self.blobs {
            let (method, digits) = digest.parts();
            let name = format!("blobs/{method}/{digits}");
            match blob {
                NewBlob::Bytes(bytes) => {
                    put(&mut tar, &name, bytes.as_slice(), bytes.len() as u64).map_err(failed)?
                }
                NewBlob::File(path, size) => {
                    let file = File::open(path).map_err(refused(path))?;
                    put(&mut tar, &name, BufReader::new(file), *size).map_err(failed)?;
                }
                NewBlob::Below(digest, size) => {
                    let Some(below) = self.below else { continue };
                    let mut blob =
                        CheckedReader::new(below.open(digest)?, digest, Some(*size), u64::MAX);
                    put(&mut tar, &name, &mut blob, *size).map_err(failed)?;
                    blob.finish().map_err(|why| {
                        ImageProblem::Image(format!("the blob {digest} cannot be used: {why}"))
                    })?;
                }
            }
        }
        tar.finish().map_err(failed)
    }

    fn add_bytes(&mut self, bytes: Vec<u8>) -> BlobDigest {
        let digest = BlobDigest::of(&bytes);
        self.blobs.push((digest.clone(), NewBlob::Bytes(bytes)));
        digest
    }
}

fn put(
    tar: &mut tar::Builder<&mut dyn Write>,
    name: &str,
    content: impl Read,
    size: u64,
) -> io::Result<()> {
    let mut header = tar::Header::new_ustar();
    header.set_mode(0o644);
    header.set_mtime(TIME);
    header.set_size(size);
    tar.append_data(&mut header, name, content)
}

/// Writes the same to two.
struct Both<A, B> {
    one: A,
    other: B,
}

impl<A: Write, B: Write> Write for Both<A, B> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.one.write_all(bytes)?;
        self.other.write_all(bytes)?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.one.flush()?;
        self.other.flush()
    }
}
