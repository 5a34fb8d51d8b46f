//! What `nubrik shared` takes.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// What is done about a team's shared cache.
#[derive(Subcommand, Clone)]
pub enum SharedWork {
    /// Trust the shared cache of nubrik.toml, with the root key that it names
    Trust,
    /// Create a shared cache in a folder or on a server, with a root key and no members
    Create {
        /// Where: an address (http://, https://, file:///), the absolute path of a folder, or
        /// s3://BUCKET/PREFIX
        #[arg(value_name = "PLACE")]
        at: String,
        #[command(flatten)]
        root: RootKey,
        /// The variable that holds a token for the server, or a user and a password with `:`
        /// between
        #[arg(long, value_name = "VARIABLE")]
        secret: Option<String>,
        /// The address of the server that has the bucket
        #[arg(long, value_name = "ADDRESS")]
        endpoint: Option<String>,
        /// The bucket's region, if the server has several
        #[arg(long, value_name = "NAME")]
        region: Option<String>,
    },
    /// Create a key pair for a writer or a worker, and print the public key
    NewKey {
        /// The file to write it to, which must stay secret
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Let a member write results
    Add {
        /// The member's name
        #[arg(value_name = "NAME")]
        name: String,
        /// The member's public key: ed25519:…
        #[arg(value_name = "KEY")]
        key: String,
        /// A channel that the member may write; may be repeated; all by default
        #[arg(long, value_name = "CHANNEL")]
        channel: Vec<String>,
        #[command(flatten)]
        root: RootKey,
    },
    /// Reject everything that a member ever wrote
    Revoke {
        /// The member's name or public key
        #[arg(value_name = "NAME")]
        who: String,
        #[command(flatten)]
        root: RootKey,
    },
    /// Remove results that no build used for some days (writers only)
    Prune {
        /// Keep results that builds used in the last DAYS
        #[arg(long = "unused-for", value_name = "DAYS", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=3660))]
        days: u32,
        /// Delete unreferenced objects at once, though running builds may read them; by default
        /// after two days
        #[arg(long)]
        at_once: bool,
    },
    /// Read all of the shared cache, and check every byte
    Verify,
}

/// The key that signs lists of members.
#[derive(Args, Clone)]
pub struct RootKey {
    /// The file with the root key, which must stay secret
    #[arg(long = "root-key", value_name = "FILE")]
    pub file: PathBuf,
    /// Validity of the signed member list, in days
    #[arg(long = "valid-for", value_name = "DAYS", default_value_t = 365, value_parser = clap::value_parser!(u32).range(1..=3660))]
    pub days: u32,
}
