//! What `nubrik cache` takes.

use std::path::PathBuf;

use super::amounts::size;

/// What is done with the cache of this machine.
#[derive(clap::Subcommand, Clone)]
pub enum CacheWork {
    #[command(flatten)]
    Upkeep(CacheUpkeep),
    /// Write the results of this workspace to one file, for machines without a shared cache
    ///
    /// Steps that ran with --portable noted what they rest on of the machine: their results are in
    /// the file, and what was fetched.
    Save {
        /// The file, which is replaced
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
    /// Read a file of results into the cache of this machine; they count where the machine is as
    /// they need it
    Load {
        /// A file that `nubrik cache save` wrote
        #[arg(value_name = "FILE")]
        file: PathBuf,
    },
}

/// How the cache of this machine is looked after.
#[derive(clap::Subcommand, Clone, Copy)]
pub enum CacheUpkeep {
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
