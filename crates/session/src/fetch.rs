//! Fetching by digest: the network is used here and nowhere else.

use std::fs::{self, File};
use std::io::{self, BufWriter, Read, Write};
use std::path::Path;
use std::sync::Arc;
use std::time::Duration;

use sha2::Digest as _;

/// How long a mirror may say nothing.
const PATIENCE: Duration = Duration::from_secs(30);

/// The most that is fetched, in bytes.
const LIMIT: u64 = 64 << 30;

/// Fetches what has a digest from the first mirror that has it. Errors are for people: what each
/// mirror said, and both digests where one gave something else.
pub(crate) fn fetch(urls: &[Arc<str>], digest: &str, to: &Path) -> Result<(), String> {
    let mut problems = Vec::new();
    for url in urls {
        match fetch_from(url, digest, to) {
            Ok(()) => return Ok(()),
            Err(problem) => problems.push(format!("{url}: {problem}")),
        }
        let _ = fs::remove_file(to);
    }
    Err(problems.join("\n"))
}

fn fetch_from(url: &str, digest: &str, to: &Path) -> Result<(), String> {
    let mut file = BufWriter::new(File::create(to).map_err(|e| e.to_string())?);
    let found = match url.strip_prefix("file://") {
        Some(path) => copied(File::open(path).map_err(|e| e.to_string())?, &mut file, digest),
        None => {
            let agent = ureq::Agent::new_with_config(
                ureq::Agent::config_builder()
                    .timeout_connect(Some(PATIENCE))
                    .timeout_recv_response(Some(PATIENCE))
                    .build(),
            );
            let mut response = agent.get(url).call().map_err(|e| e.to_string())?;
            copied(response.body_mut().with_config().limit(LIMIT).reader(), &mut file, digest)
        }
    };
    let found = found.map_err(|e| e.to_string())?;
    file.flush().map_err(|e| e.to_string())?;
    if found == digest {
        return Ok(());
    }
    Err(format!("its digest is another one\n  wanted  {digest}\n  found   {found}"))
}

/// Copies everything, and gives its digest by the same method as `like`.
fn copied(mut from: impl Read, to: &mut impl Write, like: &str) -> io::Result<String> {
    let mut sha = sha2::Sha256::new();
    let mut blake = blake3::Hasher::new();
    let is_sha = like.starts_with("sha256:");
    let mut buffer = vec![0; 128 << 10];
    loop {
        let count = match from.read(&mut buffer) {
            Ok(0) => break,
            Ok(count) => count,
            Err(e) if e.kind() == io::ErrorKind::Interrupted => continue,
            Err(e) => return Err(e),
        };
        if is_sha {
            sha.update(&buffer[..count]);
        } else {
            blake.update(&buffer[..count]);
        }
        to.write_all(&buffer[..count])?;
    }
    if is_sha {
        let hex: String = sha.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
        return Ok(format!("sha256:{hex}"));
    }
    Ok(format!("blake3:{}", blake.finalize().to_hex()))
}
