//! Shared texts put together from pieces.

use std::cell::RefCell;
use std::sync::Arc;

/// Longer texts do not leave their room behind, in bytes.
const KEPT_ROOM: usize = 1 << 16;

/// What `write` puts into an empty text, as a shared one. Definitions make very many short ones:
/// each takes its final memory only, and not a growing text before that.
pub fn written_text(write: impl FnOnce(&mut String)) -> Arc<str> {
    thread_local! {
        static ROOM: RefCell<String> = const { RefCell::new(String::new()) };
    }
    // Taken out in the meantime: what is written may come from code that puts texts together as
    // well.
    let mut room = ROOM.take();
    room.clear();
    write(&mut room);
    let text = Arc::from(room.as_str());
    if room.capacity() <= KEPT_ROOM {
        ROOM.set(room);
    }
    text
}

/// The pieces as one shared text.
pub fn shared_text<const PIECES: usize>(pieces: [&str; PIECES]) -> Arc<str> {
    written_text(|text| pieces.iter().for_each(|piece| text.push_str(piece)))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_become_one_text() {
        assert_eq!(&*shared_text(["make ", "", "ebb"]), "make ebb");
        assert_eq!(&*shared_text([]), "");
        let nested = written_text(|text| {
            text.push('a');
            text.push_str(&shared_text(["b", "c"]));
            text.push('d');
        });
        assert_eq!(&*nested, "abcd");
        let long = "x".repeat(KEPT_ROOM + 1);
        assert_eq!(shared_text([&*long, "y"]).len(), KEPT_ROOM + 2);
        assert_eq!(&*shared_text(["after"]), "after");
    }
}
