//! Packing.

use std::collections::BTreeSet;
use std::fs::{self, File};
use std::io::{self, BufWriter, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use nubrik_graph::ArchiveFormat;

use crate::FIXED_TIME;

/// How hard is compressed with zstd.
const ZSTD_LEVEL: i32 = 6;

/// Something to pack, and its name in the archive.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Item {
    /// Its name: parts between `/`.
    pub name: String,
    /// What it is.
    pub content: ItemContent,
}

/// What is packed.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub enum ItemContent {
    /// A file, and where it is.
    File(PathBuf),
    /// A symbolic link, and where it leads.
    Link(String),
    /// A folder with nothing in it.
    EmptyFolder,
}

/// Packs files into a new archive. Items are packed by name, whatever their order.
///
/// # Errors
/// When a file cannot be read or the archive cannot be written.
pub fn pack(format: ArchiveFormat, mut items: Vec<Item>, to: &Path) -> io::Result<()> {
    items.sort();
    let out = BufWriter::new(File::create_new(to)?);
    match format {
        ArchiveFormat::Tar => tar_into(out, &items)?.flush(),
        ArchiveFormat::TarGz => {
            let gz = flate2::GzBuilder::new().mtime(0).operating_system(255);
            tar_into(gz.write(out, flate2::Compression::best()), &items)?
                .finish()?
                .flush()
        }
        ArchiveFormat::TarZst => zstd_into(out, &items),
        ArchiveFormat::Zip => zip_into(out, &items),
    }
}

/// Opens a file to be packed. A pipe would be waited for, and a device never ends.
fn open(path: &Path) -> io::Result<(File, fs::Metadata)> {
    let not_a_file = || io::Error::other(format!("{} is not a file", path.display()));
    if !fs::metadata(path)?.is_file() {
        return Err(not_a_file());
    }
    let file = File::open(path)?;
    let metadata = file.metadata()?;
    if metadata.is_file() {
        Ok((file, metadata))
    } else {
        Err(not_a_file())
    }
}

fn tar_into<W: Write>(out: W, items: &[Item]) -> io::Result<W> {
    let mut builder = tar::Builder::new(out);
    for item in items {
        let mut header = tar::Header::new_gnu();
        header.set_mtime(FIXED_TIME);
        header.set_uid(0);
        header.set_gid(0);
        match &item.content {
            ItemContent::File(path) => {
                let (file, metadata) = open(path)?;
                header.set_entry_type(tar::EntryType::Regular);
                header.set_size(metadata.len());
                header.set_mode(mode(&metadata));
                // As much as the header says, should it grow in the meantime.
                builder.append_data(&mut header, &item.name, file.take(metadata.len()))?;
            }
            ItemContent::Link(target) => {
                header.set_entry_type(tar::EntryType::Symlink);
                header.set_size(0);
                header.set_mode(0o777);
                builder.append_link(&mut header, &item.name, target)?;
            }
            ItemContent::EmptyFolder => {
                header.set_entry_type(tar::EntryType::Directory);
                header.set_size(0);
                header.set_mode(0o755);
                builder.append_data(&mut header, format!("{}/", item.name), io::empty())?;
            }
        }
    }
    builder.into_inner()
}

fn zstd_into(out: impl Write, items: &[Item]) -> io::Result<()> {
    let encoder = zstd::stream::write::Encoder::new(out, ZSTD_LEVEL)?;
    tar_into(encoder, items)?.finish()?.flush()
}

fn zip_into<W: Write + io::Seek>(out: W, items: &[Item]) -> io::Result<()> {
    let mut writer = zip::ZipWriter::new(out);
    // What looks for packages in a zip finds a folder only if it has an entry of its own.
    let mut folders = BTreeSet::new();
    for item in items {
        let options = zip::write::SimpleFileOptions::default()
            .compression_method(zip::CompressionMethod::Deflated)
            .last_modified_time(zip::DateTime::default());
        for (end, _) in item.name.match_indices('/') {
            if folders.insert(&item.name[..end]) {
                writer.add_directory(&item.name[..end], options.unix_permissions(0o755))?;
            }
        }
        let path = match &item.content {
            ItemContent::File(path) => path,
            ItemContent::Link(target) => {
                writer.add_symlink(item.name.as_str(), target.as_str(), options)?;
                continue;
            }
            ItemContent::EmptyFolder => {
                writer.add_directory(item.name.as_str(), options.unix_permissions(0o755))?;
                continue;
            }
        };
        let (mut file, metadata) = open(path)?;
        let options = options
            .large_file(metadata.len() >= u64::from(u32::MAX))
            .unix_permissions(mode(&metadata));
        writer.start_file(item.name.as_str(), options)?;
        let mut buffer = vec![0; 64 << 10];
        loop {
            match file.read(&mut buffer)? {
                0 => break,
                count => writer.write_all(&buffer[..count])?,
            }
        }
    }
    writer.finish()?.flush()
}

fn mode(metadata: &fs::Metadata) -> u32 {
    if metadata.permissions().mode() & 0o100 != 0 {
        0o755
    } else {
        0o644
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A disk with room for so many bytes.
    struct Full(usize);

    impl Write for Full {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            if self.0 < bytes.len() {
                return Err(io::ErrorKind::StorageFull.into());
            }
            self.0 -= bytes.len();
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn a_full_disk_is_an_error_and_no_crash() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("file");
        let mut seed = 1u64;
        let mut noise = || {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            (seed >> 33) as u8
        };
        let noise: Vec<u8> = (0..2_000_000).map(|_| noise()).collect();
        fs::write(&file, noise).unwrap();
        let items = [Item {
            name: "file".into(),
            content: ItemContent::File(file),
        }];
        for room in [0, 3, 1000, 300_000] {
            let error = zstd_into(Full(room), &items).unwrap_err();
            assert_eq!(error.kind(), io::ErrorKind::StorageFull, "{room}");
        }
    }

    #[test]
    fn folders_of_a_zip_have_entries() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("file");
        fs::write(&file, "x").unwrap();
        let item = |name: &str| Item {
            name: name.to_owned(),
            content: ItemContent::File(file.clone()),
        };
        let to = folder.path().join("a.zip");
        pack(
            ArchiveFormat::Zip,
            vec![item("a/b/c.py"), item("a/d.py"), item("e.py")],
            &to,
        )
        .unwrap();
        let archive = zip::ZipArchive::new(File::open(&to).unwrap()).unwrap();
        let names: Vec<String> = archive
            .file_names()
            .flatten()
            .map(|name| name.into_owned())
            .collect();
        assert_eq!(names, ["a/", "a/b/", "a/b/c.py", "a/d.py", "e.py"]);
    }

    #[test]
    fn what_is_no_file_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let link = folder.path().join("endless");
        std::os::unix::fs::symlink("/dev/zero", &link).unwrap();
        let item = Item {
            name: "x".into(),
            content: ItemContent::File(link),
        };
        let to = folder.path().join("a.tar");
        assert!(
            pack(ArchiveFormat::Tar, vec![item], &to)
                .unwrap_err()
                .to_string()
                .contains("is not a file")
        );
    }
}
