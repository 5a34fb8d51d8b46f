//! Files of the workspace, and the addresses by which editors name them.

use std::path::{Path, PathBuf};
use std::str::FromStr;

use lsp_types::Uri;
use nubrik_source::WsPath;

/// All definition files of the workspace, and what is in each: as an editor has it, or as the disk
/// has it.
pub struct DefinitionFiles<'f> {
    pub paths: &'f [WsPath],
    pub read: &'f dyn Fn(&WsPath) -> Option<String>,
}

/// Where the workspace is.
pub struct FileAddresses {
    root: PathBuf,
}

impl FileAddresses {
    pub fn new(root: &Path) -> FileAddresses {
        FileAddresses {
            root: root.to_owned(),
        }
    }

    /// The address of a file.
    pub fn uri(&self, path: &WsPath) -> Option<Uri> {
        let at = self.root.join(path.as_str());
        let escaped: String = at
            .to_str()?
            .bytes()
            .map(|byte| match byte {
                b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'/' | b'.' | b'-' | b'_' | b'~' => {
                    (byte as char).to_string()
                }
                other => format!("%{other:02X}"),
            })
            .collect();
        Uri::from_str(&format!("file://{escaped}")).ok()
    }

    /// The path in the workspace of what an address names; nothing for what is elsewhere.
    pub fn path(&self, uri: &Uri) -> Option<WsPath> {
        let text = uri.as_str().strip_prefix("file://")?;
        let mut bytes = Vec::new();
        let mut rest = text.bytes();
        while let Some(byte) = rest.next() {
            if byte != b'%' {
                bytes.push(byte);
                continue;
            }
            let digits = [rest.next()?, rest.next()?];
            bytes.push(u8::from_str_radix(std::str::from_utf8(&digits).ok()?, 16).ok()?);
        }
        let at = PathBuf::from(String::from_utf8(bytes).ok()?);
        let inside = at.strip_prefix(&self.root).ok()?.to_str()?.to_owned();
        WsPath::root().resolve(&inside).ok()
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    #[test]
    fn addresses_lead_back() {
        let places = FileAddresses::new(Path::new("/home/a b/wörk"));
        let path = WsPath::from_normal("tide/targets.nub");
        let uri = places.uri(&path).unwrap();
        assert_eq!(
            uri.as_str(),
            "file:///home/a%20b/w%C3%B6rk/tide/targets.nub"
        );
        assert_eq!(places.path(&uri), Some(path));
        assert_eq!(
            places.path(&Uri::from_str("file:///etc/passwd").unwrap()),
            None
        );
    }
}
