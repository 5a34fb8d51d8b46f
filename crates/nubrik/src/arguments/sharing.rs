//! What `nubrik share` takes.

use std::path::PathBuf;

use clap::{Args, Subcommand};

/// What is done about a team's store.
#[derive(Subcommand, Clone)]
pub enum ShareWork {
    /// Agree to use the store that nubrik.toml names, with the key that its members are known by
    Accept,
    /// Begin a store in a folder or on a server: make its root key, and an empty list of members
    Create {
        /// Where: an address (http://, https://, file:///), the absolute path of a folder, or s3://BUCKET/PREFIX
        #[arg(value_name = "PLACE")]
        at: String,
        #[command(flatten)]
        root: RootKey,
        /// The variable that holds a token for the server, or a user and a password with `:` between
        #[arg(long, value_name = "VARIABLE")]
        secret: Option<String>,
        /// The address of the server that has the bucket
        #[arg(long, value_name = "ADDRESS")]
        endpoint: Option<String>,
        /// The bucket's region, if the server has several
        #[arg(long, value_name = "NAME")]
        region: Option<String>,
    },
    /// Make a key for who writes, and print what others know it by
    NewKey {
        /// The file to write it to, which must stay secret
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Let someone write results
    Add {
        /// What to call them
        #[arg(value_name = "NAME")]
        name: String,
        /// Their public key: ed25519:…
        #[arg(value_name = "KEY")]
        key: String,
        /// A line of builds that they may write; may be repeated; all without one
        #[arg(long, value_name = "LINE")]
        line: Vec<String>,
        #[command(flatten)]
        root: RootKey,
    },
    /// Leave out what no build used for some days, and remove what nothing leads to: by who writes the line
    Prune {
        /// Keep what builds used in so many days
        #[arg(long, value_name = "DAYS", default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=3660))]
        days: u32,
        /// Remove at once what nothing leads to, though builds that run now may read it; else that happens two days later
        #[arg(long)]
        at_once: bool,
    },
    /// Let nothing count any more that someone wrote, whenever that was
    Revoke {
        /// Their name, or their public key
        #[arg(value_name = "NAME")]
        who: String,
        #[command(flatten)]
        root: RootKey,
    },
}

/// By what lists of members are signed.
#[derive(Args, Clone)]
pub struct RootKey {
    /// The file with the store's root key, which must stay secret
    #[arg(long = "root", value_name = "FILE")]
    pub file: PathBuf,
    /// For how many days the list counts that is signed now
    #[arg(long, value_name = "DAYS", default_value_t = 365, value_parser = clap::value_parser!(u32).range(1..=3660))]
    pub days: u32,
}
