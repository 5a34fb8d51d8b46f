//! Layouts of images made on the spot, as the OCI image specification has them.

#![allow(clippy::unwrap_used)] // A test that panics has failed, which is right.

use std::fs;
use std::io::Write;
use std::path::Path;

use sha2::{Digest, Sha256};

/// The SHA-256 of some bytes, as layouts write it.
pub fn sha256(bytes: &[u8]) -> String {
    let digits: String = Sha256::digest(bytes)
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    format!("sha256:{digits}")
}

/// Something in a layer, by its path.
pub enum LayerEntry<'a> {
    /// A folder, and its permissions.
    Folder(&'a str, u32),
    /// A file, its permissions and its content.
    File(&'a str, u32, &'a [u8]),
    /// A symbolic link, and where it leads.
    Link(&'a str, &'a str),
    /// Another name of a file.
    HardLink(&'a str, &'a str),
    /// A device.
    Device(&'a str),
    /// A named pipe.
    Pipe(&'a str),
    /// A file with an extended attribute: the attribute's name and value.
    Marked(&'a str, &'a str, &'a str),
}

/// How a layer is packed.
#[derive(Clone, Copy)]
pub enum LayerPacking {
    /// Not at all.
    Plain,
    /// By gzip.
    Gzip,
    /// By Zstandard.
    Zstandard,
}

/// A layer's tar.
pub fn tar_of(entries: &[LayerEntry<'_>]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for entry in entries {
        let mut header = tar::Header::new_gnu();
        header.set_mtime(1_000_000_000);
        header.set_mode(0o644);
        header.set_size(0);
        // As it is written, `..` and all: whoever attacks writes tars by hand.
        let put = |tar: &mut tar::Builder<Vec<u8>>,
                   header: &mut tar::Header,
                   kind,
                   name: &str,
                   content: &[u8]| {
            header.set_entry_type(kind);
            let field = &mut header.as_old_mut().name;
            field.fill(0);
            field[..name.len()].copy_from_slice(name.as_bytes());
            header.set_size(content.len() as u64);
            header.set_cksum();
            tar.append(header, content).unwrap();
        };
        let link_to = |header: &mut tar::Header, target: &str| {
            let field = &mut header.as_old_mut().linkname;
            field[..target.len()].copy_from_slice(target.as_bytes());
        };
        match *entry {
            LayerEntry::Folder(name, mode) => {
                header.set_mode(mode);
                put(&mut tar, &mut header, tar::EntryType::Directory, name, b"");
            }
            LayerEntry::File(name, mode, content) => {
                header.set_mode(mode);
                put(
                    &mut tar,
                    &mut header,
                    tar::EntryType::Regular,
                    name,
                    content,
                );
            }
            LayerEntry::Link(name, target) => {
                link_to(&mut header, target);
                put(&mut tar, &mut header, tar::EntryType::Symlink, name, b"");
            }
            LayerEntry::HardLink(name, target) => {
                link_to(&mut header, target);
                put(&mut tar, &mut header, tar::EntryType::Link, name, b"");
            }
            LayerEntry::Device(name) => put(&mut tar, &mut header, tar::EntryType::Char, name, b""),
            LayerEntry::Pipe(name) => put(&mut tar, &mut header, tar::EntryType::Fifo, name, b""),
            LayerEntry::Marked(name, attribute, value) => {
                tar.append_pax_extensions([(
                    &*format!("SCHILY.xattr.{attribute}"),
                    value.as_bytes(),
                )])
                .unwrap();
                put(
                    &mut tar,
                    &mut header,
                    tar::EntryType::Regular,
                    name,
                    b"marked",
                );
            }
        }
    }
    tar.into_inner().unwrap()
}

/// What a layout is made of.
pub struct ImageLayout<'a> {
    /// The tar of each layer, the lowest first, and how it is packed.
    pub layers: Vec<(Vec<u8>, LayerPacking)>,
    /// Variables, as `NAME=VALUE`.
    pub env: &'a [&'a str],
    /// The processor that it is for, in the specification's words.
    pub architecture: &'a str,
}

impl ImageLayout<'_> {
    /// A layout for this machine of layers with these entries.
    pub fn of(layers: &[&[LayerEntry<'_>]], packing: LayerPacking) -> ImageLayout<'static> {
        let layers = layers
            .iter()
            .map(|entries| (tar_of(entries), packing))
            .collect();
        ImageLayout {
            layers,
            env: &[],
            architecture: if cfg!(target_arch = "aarch64") {
                "arm64"
            } else {
                "amd64"
            },
        }
    }

    /// Writes it to a folder; gives the digest of each packed layer.
    pub fn write(&self, at: &Path) -> Vec<String> {
        let blobs = at.join("blobs/sha256");
        fs::create_dir_all(&blobs).unwrap();
        let put = |bytes: &[u8]| {
            let digest = sha256(bytes);
            fs::write(blobs.join(&digest["sha256:".len()..]), bytes).unwrap();
            digest
        };
        let described = |kind: &str, bytes: &[u8], digest: &str| {
            format!(
                "{{\"mediaType\": \"{kind}\", \"digest\": \"{digest}\", \"size\": {}}}",
                bytes.len()
            )
        };
        let (mut layers, mut unpacked, mut digests) = (Vec::new(), Vec::new(), Vec::new());
        for (tar, packing) in &self.layers {
            let (kind, packed) = match packing {
                LayerPacking::Plain => ("tar", tar.clone()),
                LayerPacking::Gzip => {
                    let mut out =
                        flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                    out.write_all(tar).unwrap();
                    ("tar+gzip", out.finish().unwrap())
                }
                LayerPacking::Zstandard => ("tar+zstd", zstd::bulk::compress(tar, 1).unwrap()),
            };
            let digest = put(&packed);
            layers.push(described(
                &format!("application/vnd.oci.image.layer.v1.{kind}"),
                &packed,
                &digest,
            ));
            unpacked.push(format!("\"{}\"", sha256(tar)));
            digests.push(digest);
        }
        let env: Vec<String> = self.env.iter().map(|line| format!("{line:?}")).collect();
        let config = format!(
            "{{\"os\": \"linux\", \"architecture\": \"{}\", \"config\": {{\"Env\": [{}]}}, \
             \"rootfs\": {{\"type\": \"layers\", \"diff_ids\": [{}]}}}}",
            self.architecture,
            env.join(", "),
            unpacked.join(", ")
        );
        let config_digest = put(config.as_bytes());
        let config = described(
            "application/vnd.oci.image.config.v1+json",
            config.as_bytes(),
            &config_digest,
        );
        let manifest = format!(
            "{{\"schemaVersion\": 2, \"config\": {config}, \"layers\": [{}]}}",
            layers.join(", ")
        );
        let digest = put(manifest.as_bytes());
        let manifest = described(
            "application/vnd.oci.image.manifest.v1+json",
            manifest.as_bytes(),
            &digest,
        );
        fs::write(
            at.join("index.json"),
            format!("{{\"schemaVersion\": 2, \"manifests\": [{manifest}]}}"),
        )
        .unwrap();
        fs::write(at.join("oci-layout"), "{\"imageLayoutVersion\": \"1.0.0\"}").unwrap();
        digests
    }
}

/// Programs of this machine with the libraries that they are linked with: paths in an image, and
/// contents. What is not on the search path is left out.
pub fn programs_of_machine(names: &[&str]) -> Vec<(String, Vec<u8>)> {
    let mut files = std::collections::BTreeMap::new();
    let search = std::env::var("PATH").unwrap_or_default();
    for name in names {
        let Some(path) = search
            .split(':')
            .map(|f| Path::new(f).join(name))
            .find(|p| p.is_file())
        else {
            continue;
        };
        files.insert(format!("bin/{name}"), fs::read(&path).unwrap());
        let listed = std::process::Command::new("ldd")
            .arg(&path)
            .output()
            .unwrap();
        for line in String::from_utf8_lossy(&listed.stdout).lines() {
            let path = line.rsplit_once(" (0x").map_or("", |(path, _)| path);
            let path = path
                .rsplit_once("=> ")
                .map_or(path, |(_, path)| path)
                .trim();
            if let Some(inside) = path.strip_prefix('/') {
                files.insert(inside.to_owned(), fs::read(path).unwrap());
            }
        }
    }
    files.into_iter().collect()
}
