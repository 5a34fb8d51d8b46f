//! Asks servers and folders for documents and archives: addresses, credentials, limits, and
//! transfers that go on where they stopped. No other crate opens a connection to another machine.
//! And answers who asks this one ([`Listener`]).
//!
//! ```
//! use nubrik_web::{Address, Client, WebRequest};
//!
//! let folder = tempfile::tempdir()?;
//! std::fs::write(folder.path().join("tides.txt"), "high 06:12")?;
//! let base = Address::of_folder(folder.path()).ok_or("no address")?;
//! let request = WebRequest::new(base.join("tides.txt").ok_or("no address")?);
//! let document = Client::new(&[]).document(&request, &|| false)?;
//! assert_eq!(document.bytes, b"high 06:12");
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

mod address;
mod agreements;
mod checksum;
mod client;
mod listening;
mod names;
mod objects;
mod pace;
mod pushing;
mod request;
mod signing;
mod tokens;
mod transfer;
mod transport;
mod trouble;

pub use address::{Address, AddressProblem, Credential};
pub use agreements::{AGREED_VARIABLE, Agreement, Agreements};
pub use checksum::{Checksum, ChecksumMethod};
pub use client::{CLIENT_CERTIFICATE, Client, Document, TlsFiles, client_certificate};
pub use listening::{Caller, HttpAnswer, HttpRequest, Listener, is_only_late};
pub use objects::{Asker, ObjectTurn, Objects};
pub use pushing::ImageUpload;
pub use request::WebRequest;
pub use signing::StorageKey;
pub use transfer::Sink;
pub use trouble::Trouble;
