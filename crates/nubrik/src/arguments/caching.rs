//! What `nubrik cache` takes.

use super::amounts::size;

/// What is done with the results kept for all workspaces.
#[derive(clap::Subcommand, Clone, Copy)]
pub enum CacheWork {
    /// Say how much there is
    Size,
    /// Check every kept file; remove damaged ones
    Verify {
        /// Check the team's store that nubrik.toml names: read all of it
        #[arg(long)]
        shared: bool,
    },
    /// Make room: what was used least recently goes first
    Prune {
        /// Keep no more than this, such as 10GiB
        #[arg(long, value_name = "SIZE", value_parser = size, required_unless_present = "unused")]
        to: Option<u64>,
        /// Remove what was not used for so many days
        #[arg(long, value_name = "DAYS")]
        unused: Option<u32>,
    },
}
