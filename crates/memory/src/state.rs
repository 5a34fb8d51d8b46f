//! What is remembered of a workspace, as it is kept: a journal of the engine's state.

use nubrik_bytes::{Layout, Magic, Truncated};
use nubrik_engine::{Changes, FileBytes, State};

use crate::journal::Kept;

/// The file that holds a workspace's state, in the tool's own folder.
pub const STATE_FILE: &str = "state";

/// The log may grow to this size, or to a quarter of the file if that is more, in bytes.
const LOG_LIMIT: u64 = 1 << 20;

impl Kept for State {
    type News = Changes;
    const MAGIC: Magic = State::MAGIC;

    fn log_limit(file: u64) -> u64 {
        LOG_LIMIT.max(file / 4)
    }

    fn decode(file: FileBytes) -> Result<State, Truncated> {
        State::decode(file)
    }

    fn encode(&self) -> Vec<u8> {
        State::encode(self)
    }

    fn take(&mut self, news: Changes) {
        State::take(self, news);
    }

    fn encode_news(news: &Changes) -> Vec<u8> {
        news.to_bytes()
    }

    fn decode_news(bytes: &[u8]) -> Result<Changes, Truncated> {
        Changes::of_bytes(bytes)
    }
}
