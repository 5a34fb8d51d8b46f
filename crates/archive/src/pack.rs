//! Packing.

use std::fs::{self, File};
use std::io::{self, BufReader, BufWriter, Read, Write};
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};

use nubrik_graph::ArchiveFormat;

use crate::FIXED_TIME;

/// A file and its name in the archive.
#[derive(Clone, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub struct Item {
    /// Its name: parts between `/`.
    pub name: String,
    /// Where it is.
    pub file: PathBuf,
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
            tar_into(gz.write(out, flate2::Compression::best()), &items)?.finish()?.flush()
        }
        ArchiveFormat::TarZst => zstd(&items, out),
        ArchiveFormat::Zip => zip_into(out, &items),
    }
}

fn tar_into<W: Write>(out: W, items: &[Item]) -> io::Result<W> {
    let mut builder = tar::Builder::new(out);
    for item in items {
        let file = File::open(&item.file)?;
        let metadata = file.metadata()?;
        let mut header = tar::Header::new_gnu();
        header.set_entry_type(tar::EntryType::Regular);
        header.set_size(metadata.len());
        header.set_mode(mode(&metadata));
        header.set_mtime(FIXED_TIME);
        header.set_uid(0);
        header.set_gid(0);
        builder.append_data(&mut header, &item.name, file)?;
    }
    builder.into_inner()
}

/// The compressor pulls, and the archive pushes: a thread stands between them.
fn zstd(items: &[Item], mut out: impl Write) -> io::Result<()> {
    let (reader, writer) = io::pipe()?;
    std::thread::scope(|scope| {
        let packing = scope.spawn(move || tar_into(BufWriter::new(writer), items)?.flush());
        let mut compressor =
            ruzstd::encoding::FrameCompressor::new(ruzstd::encoding::CompressionLevel::Fastest);
        compressor.set_source(BufReader::new(reader));
        compressor.set_drain(&mut out);
        compressor.compress();
        packing.join().map_err(|_| io::Error::other("packing broke off"))?
    })?;
    out.flush()
}

fn zip_into<W: Write + io::Seek>(out: W, items: &[Item]) -> io::Result<()> {
    let mut writer = zip::ZipWriter::new(out);
    for item in items {
        let mut file = File::open(&item.file)?;
        let metadata = file.metadata()?;
        let options = zip::write::SimpleFileOptions::default()
            .compression_method(zip::CompressionMethod::Deflated)
            .last_modified_time(zip::DateTime::default())
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
    if metadata.permissions().mode() & 0o100 != 0 { 0o755 } else { 0o644 }
}
