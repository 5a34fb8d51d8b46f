//! Shared texts put together from pieces.

use std::cell::RefCell;
use std::sync::Arc;

/// Longer texts do not leave their room behind, in bytes.
const KEPT_ROOM: usize = 1 << 16;

/// The pieces as one shared text. Definitions make very many short ones: each takes its final memory only, and
/// not a growing text before that.
pub fn shared_text<'a>(pieces: impl IntoIterator<Item = &'a str>) -> Arc<str> {
    thread_local! {
        static ROOM: RefCell<String> = const { RefCell::new(String::new()) };
    }
    // Taken out meanwhile: the pieces may come from code that puts texts together as well.
    let mut room = ROOM.take();
    room.clear();
    pieces.into_iter().for_each(|piece| room.push_str(piece));
    let text = Arc::from(room.as_str());
    if room.capacity() <= KEPT_ROOM {
        ROOM.set(room);
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pieces_become_one_text() {
        assert_eq!(&*shared_text(["make ", "", "ebb"]), "make ebb");
        assert_eq!(&*shared_text([]), "");
        let inner = || shared_text(["a", "b"]).len();
        let lengths: Vec<String> = vec![inner().to_string(), inner().to_string()];
        assert_eq!(
            &*shared_text(lengths.iter().map(|l| {
                inner();
                l.as_str()
            })),
            "22"
        );
        let long = "x".repeat(KEPT_ROOM + 1);
        assert_eq!(shared_text([&*long, "y"]).len(), KEPT_ROOM + 2);
        assert_eq!(&*shared_text(["after"]), "after");
    }
}
