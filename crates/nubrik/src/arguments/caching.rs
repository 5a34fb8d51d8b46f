//! What `nubrik cache` takes.

use super::amounts::size;

/// What is done with the cache of this machine.
#[derive(clap::Subcommand, Clone, Copy)]
pub enum CacheWork {
    /// Check every cached file, and remove damaged ones
    Verify,
    /// Remove the results that were used least recently
    Prune {
        /// Keep no more than this, such as 10GiB; 20GiB by default, if --unused-for is not given
        #[arg(long, value_name = "SIZE", value_parser = size)]
        size: Option<u64>,
        /// Remove results not used for DAYS
        #[arg(long, value_name = "DAYS")]
        unused_for: Option<u32>,
    },
}
