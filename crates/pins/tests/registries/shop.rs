//! Registries in folders: packages that are made up, in the form that each protocol wants.

use std::collections::BTreeMap;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use flate2::Compression;
use flate2::write::GzEncoder;
use nubrik_pins::{
    AskedPackage, ClientQuestion, ClientSettings, Desk, Free, OriginSetting, OriginSettings,
    Origins, PinProblem, Registry, Shelf, resolve,
};
use nubrik_web::{Checksum, ChecksumMethod, Client};
use tempfile::TempDir;

/// A folder with registries below it, and a workspace.
pub struct Shop {
    pub folder: TempDir,
    /// Addresses instead of the folders.
    pub addresses: BTreeMap<Registry, String>,
}

struct Nowhere(PathBuf);

impl ClientSettings for Nowhere {
    fn variable(&self, _: &str) -> Option<String> {
        None
    }

    fn text(&self, _: &Path) -> Option<String> {
        None
    }

    fn program(&self, _: &str) -> Option<PathBuf> {
        None
    }

    fn asks_no_client(&self) -> Option<&'static str> {
        None
    }

    fn answer(&self, _: &ClientQuestion) -> Option<String> {
        None
    }

    fn root(&self) -> PathBuf {
        self.0.clone()
    }

    fn agrees(&self, _: &nubrik_web::Agreement) -> bool {
        false
    }
}

/// A wheel with nothing in it but its metadata.
pub fn wheel(name: &str, version: &str, headers: &[&str]) -> Vec<u8> {
    let mut archive = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    let options = zip::write::SimpleFileOptions::default();
    archive
        .start_file(format!("{name}-{version}.dist-info/METADATA"), options)
        .unwrap();
    let head = format!("Metadata-Version: 2.1\nName: {name}\nVersion: {version}\nLicense: MIT\n");
    writeln!(
        archive,
        "{head}{}",
        headers.iter().map(|h| format!("{h}\n")).collect::<String>()
    )
    .unwrap();
    archive.finish().unwrap().into_inner()
}

/// An archive of files with their texts.
pub fn tar_gz(files: &[(&str, &str)]) -> Vec<u8> {
    let mut archive = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::fast()));
    for (path, text) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(text.len() as u64);
        header.set_mode(0o644);
        header.set_cksum();
        archive
            .append_data(&mut header, path, text.as_bytes())
            .unwrap();
    }
    archive.into_inner().unwrap().finish().unwrap()
}

impl Shop {
    pub fn new() -> Shop {
        let folder = tempfile::tempdir().unwrap();
        for name in [
            "work", "python", "java", "rust", "js", "go", "images", "archive",
        ] {
            fs::create_dir(folder.path().join(name)).unwrap();
        }
        fs::write(
            folder.path().join("rust/config.json"),
            r#"{"dl": "crates/{crate}-{version}.crate"}"#,
        )
        .unwrap();
        Shop {
            folder,
            addresses: BTreeMap::new(),
        }
    }

    pub fn put(&self, path: &str, bytes: &[u8]) {
        let path = self.folder.path().join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        fs::write(path, bytes).unwrap();
    }

    /// A distribution for everything that runs Python 3.
    pub fn python(&self, name: &str, version: &str, headers: &[&str]) {
        self.python_for(name, version, "py3-none-any", headers);
    }

    pub fn python_for(&self, name: &str, version: &str, tag: &str, headers: &[&str]) {
        self.put(
            &format!("python/{name}/{name}-{version}-{tag}.whl"),
            &wheel(name, version, headers),
        );
    }

    /// A crate: needs are `(name, requirement, more JSON)`.
    pub fn rust(&self, name: &str, version: &str, needs: &[(&str, &str, &str)], more: &str) {
        let manifest = format!(
            "[package]\nname = \"{name}\"\nversion = \"{version}\"\nedition = \"2021\"\nlicense = \"MIT\"\n"
        );
        let bytes = tar_gz(&[(&format!("{name}-{version}/Cargo.toml"), &manifest)]);
        self.put(&format!("rust/crates/{name}-{version}.crate"), &bytes);
        let sum = Checksum::of(ChecksumMethod::Sha256, &bytes);
        let needs = needs.iter().map(|(name, requirement, more)| {
            format!(
                r#"{{"name": "{name}", "req": "{requirement}"{}{more}}}"#,
                if more.is_empty() { "" } else { ", " }
            )
        });
        let line = format!(
            "{{\"name\": \"{name}\", \"vers\": \"{version}\", \"deps\": [{}], \"cksum\": \"{}\"{}{more}}}\n",
            needs.collect::<Vec<_>>().join(", "),
            sum.trim_start_matches("sha256:"),
            if more.is_empty() { "" } else { ", " },
        );
        let place = match name.len() {
            1 | 2 => format!("{}", name.len()),
            3 => format!("3/{}", &name[..1]),
            _ => format!("{}/{}", &name[..2], &name[2..4]),
        };
        let path = format!("rust/{place}/{name}");
        let before = fs::read_to_string(self.folder.path().join(&path)).unwrap_or_default();
        self.put(&path, (before + &line).as_bytes());
    }

    /// All versions of a package: each with more JSON of it.
    pub fn js(&self, name: &str, versions: &[(&str, &str)]) {
        let mut written = Vec::new();
        for (version, more) in versions {
            let manifest =
                format!(r#"{{"name": "{name}", "version": "{version}", "license": "MIT"}}"#);
            let bytes = tar_gz(&[("package/package.json", &manifest)]);
            self.put(&format!("js/archives/{name}-{version}.tgz"), &bytes);
            let mut sum = Checksum::new(ChecksumMethod::Sha512);
            sum.take(&bytes);
            let integrity = sum.written(true).replace(':', "-");
            written.push(format!(
                r#""{version}": {{{more}{}"dist": {{"tarball": "archives/{name}-{version}.tgz", "integrity": "{integrity}"}}}}"#,
                if more.is_empty() { "" } else { ", " },
            ));
        }
        let latest = versions.last().unwrap().0;
        let text = format!(
            r#"{{"dist-tags": {{"latest": "{latest}"}}, "versions": {{{}}}}}"#,
            written.join(", ")
        );
        self.put(&format!("js/{name}"), text.as_bytes());
    }

    /// Runs something at a desk of this shop.
    pub fn at_desk<T>(&self, then: impl FnOnce(&Desk<'_>) -> T) -> T {
        let address = |registry: Registry| {
            let own = self.addresses.get(&registry).cloned();
            own.unwrap_or_else(|| format!("file://{}/{registry}/", self.folder.path().display()))
        };
        let setting = |registry| {
            vec![OriginSetting {
                url: address(registry),
                site: (registry == Registry::Archive).then(|| "moon".to_owned()),
                ..OriginSetting::default()
            }]
        };
        let registries = Registry::ALL
            .into_iter()
            .map(|registry| (registry, setting(registry)))
            .collect();
        let settings = OriginSettings {
            registries,
            ..OriginSettings::default()
        };
        let root = self.folder.path().join("work");
        let origins = Origins::find(&settings, Arc::new(Nowhere(root.clone())));
        let client = Client::new(&[]);
        then(&Desk::new(
            (&client, &origins),
            Default::default(),
            &root,
            &|| false,
            &|_| {},
        ))
    }

    /// Pins what is asked for on these systems, from what is pinned already.
    pub fn settle(
        &self,
        registry: Registry,
        shelf: &Shelf,
        free: &Free,
    ) -> Result<Shelf, PinProblem> {
        self.at_desk(|desk| resolve(desk, registry, shelf, free))
    }

    /// Pins what is asked for: `name` or `name requirement`. Gives names with versions, sorted.
    pub fn pinned(&self, registry: Registry, asked: &[&str]) -> Result<String, PinProblem> {
        Ok(told(&self.settle(
            registry,
            &shelf(registry, &["linux-x86_64"], asked),
            &Free::Nothing,
        )?))
    }
}

/// A shelf that asks for something on systems.
pub fn shelf(registry: Registry, systems: &[&str], asked: &[&str]) -> Shelf {
    let facts: BTreeMap<String, String> = match registry {
        Registry::Python => [
            ("python".to_owned(), "3.11".to_owned()),
            ("glibc".to_owned(), "2.36".to_owned()),
        ]
        .into(),
        _ => BTreeMap::new(),
    };
    let wish = |text: &&str| {
        let (name, requirement) = text.split_once(' ').unwrap_or((text, ""));
        let (name, features) = name.split_once('[').unwrap_or((name, ""));
        let features = features
            .trim_end_matches(']')
            .split(',')
            .filter(|f| !f.is_empty())
            .map(str::to_owned);
        let asked = AskedPackage {
            requirement: requirement.to_owned(),
            features: features.collect(),
            ..AskedPackage::default()
        };
        (name.to_owned(), asked)
    };
    Shelf {
        systems: systems
            .iter()
            .map(|system| ((*system).to_owned(), facts.clone()))
            .collect(),
        asked: asked.iter().map(wish).collect(),
        pins: BTreeMap::new(),
    }
}

/// All pins of a shelf.
pub fn told(shelf: &Shelf) -> String {
    shelf
        .pins
        .keys()
        .map(String::as_str)
        .collect::<Vec<_>>()
        .join(" ")
}
