//! Layouts made on the spot.

use std::fs;
use std::io::Write;
use std::path::Path;

use nubrik_images::BlobDigest;

/// Something in a layer.
pub enum Entry<'a> {
    Folder(&'a str, u32),
    File(&'a str, u32, &'a [u8]),
    Link(&'a str, &'a str),
    HardLink(&'a str, &'a str),
    Device(&'a str),
    Pipe(&'a str),
    /// A file with an extended attribute.
    Marked(&'a str, &'a str, &'a str),
}

/// How a layer is packed.
#[derive(Clone, Copy)]
pub enum Packing {
    Plain,
    Gzip,
    Zstandard,
}

/// A layer's tar.
pub fn tar_of(entries: &[Entry<'_>]) -> Vec<u8> {
    let mut tar = tar::Builder::new(Vec::new());
    for entry in entries {
        let mut header = tar::Header::new_gnu();
        header.set_mtime(1_000_000_000);
        header.set_mode(0o644);
        header.set_size(0);
        // As it is written, `..` and all: whoever attacks writes tars by hand.
        let put =
            |tar: &mut tar::Builder<Vec<u8>>, header: &mut tar::Header, kind, name: &str, content: &[u8]| {
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
            Entry::Folder(name, mode) => {
                header.set_mode(mode);
                put(&mut tar, &mut header, tar::EntryType::Directory, name, b"");
            }
            Entry::File(name, mode, content) => {
                header.set_mode(mode);
                put(&mut tar, &mut header, tar::EntryType::Regular, name, content);
            }
            Entry::Link(name, target) => {
                link_to(&mut header, target);
                put(&mut tar, &mut header, tar::EntryType::Symlink, name, b"");
            }
            Entry::HardLink(name, target) => {
                link_to(&mut header, target);
                put(&mut tar, &mut header, tar::EntryType::Link, name, b"");
            }
            Entry::Device(name) => put(&mut tar, &mut header, tar::EntryType::Char, name, b""),
            Entry::Pipe(name) => put(&mut tar, &mut header, tar::EntryType::Fifo, name, b""),
            Entry::Marked(name, attribute, value) => {
                tar.append_pax_extensions([(&*format!("SCHILY.xattr.{attribute}"), value.as_bytes())])
                    .unwrap();
                put(&mut tar, &mut header, tar::EntryType::Regular, name, b"marked");
            }
        }
    }
    tar.into_inner().unwrap()
}

/// What a layout is made of.
pub struct Layout<'a> {
    pub layers: Vec<(Vec<u8>, Packing)>,
    pub env: &'a [&'a str],
    pub architecture: &'a str,
}

impl Layout<'_> {
    pub fn of(layers: &[&[Entry<'_>]], packing: Packing) -> Layout<'static> {
        let layers = layers.iter().map(|entries| (tar_of(entries), packing)).collect();
        Layout {
            layers,
            env: &[],
            architecture: if cfg!(target_arch = "aarch64") { "arm64" } else { "amd64" },
        }
    }

    /// Writes it to a folder; gives the digest of each packed layer.
    pub fn write(&self, at: &Path) -> Vec<BlobDigest> {
        let blobs = at.join("blobs/sha256");
        fs::create_dir_all(&blobs).unwrap();
        let put = |bytes: &[u8]| {
            let digest = BlobDigest::of(bytes);
            fs::write(blobs.join(digest.parts().1), bytes).unwrap();
            digest
        };
        let described = |kind: &str, bytes: &[u8], digest: &BlobDigest| {
            format!("{{\"mediaType\": \"{kind}\", \"digest\": \"{digest}\", \"size\": {}}}", bytes.len())
        };
        let (mut layers, mut unpacked, mut digests) = (Vec::new(), Vec::new(), Vec::new());
        for (tar, packing) in &self.layers {
            let (kind, packed) = match packing {
                Packing::Plain => ("tar", tar.clone()),
                Packing::Gzip => {
                    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
                    out.write_all(tar).unwrap();
                    ("tar+gzip", out.finish().unwrap())
                }
                Packing::Zstandard => {
                    let fastest = ruzstd::encoding::CompressionLevel::Fastest;
                    ("tar+zstd", ruzstd::encoding::compress_to_vec(&**tar, fastest))
                }
            };
            let digest = put(&packed);
            layers.push(described(&format!("application/vnd.oci.image.layer.v1.{kind}"), &packed, &digest));
            unpacked.push(format!("\"{}\"", BlobDigest::of(tar)));
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
        let config = described("application/vnd.oci.image.config.v1+json", config.as_bytes(), &config_digest);
        let manifest =
            format!("{{\"schemaVersion\": 2, \"config\": {config}, \"layers\": [{}]}}", layers.join(", "));
        let digest = put(manifest.as_bytes());
        let manifest = described("application/vnd.oci.image.manifest.v1+json", manifest.as_bytes(), &digest);
        fs::write(at.join("index.json"), format!("{{\"schemaVersion\": 2, \"manifests\": [{manifest}]}}"))
            .unwrap();
        fs::write(at.join("oci-layout"), "{\"imageLayoutVersion\": \"1.0.0\"}").unwrap();
        digests
    }
}
