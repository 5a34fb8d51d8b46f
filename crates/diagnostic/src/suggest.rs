//! The name that was probably meant.

/// The candidate nearest to `word`, when one is near enough to be what was meant.
///
/// Near enough: at most a third of the letters differ (Damerau–Levenshtein distance, at least one
/// allowed), or one name begins with the other from the third letter on.
pub fn nearest<'a>(word: &str, candidates: impl IntoIterator<Item = &'a str>) -> Option<&'a str> {
    let allowed = (word.chars().count() / 3).max(1);
    let mut best: Option<((usize, bool), &str)> = None;
    for candidate in candidates {
        let prefix = word.len() >= 3
            && candidate.len() >= 3
            && (candidate.starts_with(word) || word.starts_with(candidate));
        let distance = strsim::damerau_levenshtein(word, candidate);
        // Of names that are equally near, one with the same letters in another order was meant.
        let has_other_letters = sorted_letters(word) != sorted_letters(candidate);
        let rank = if distance <= allowed {
            (distance, has_other_letters)
        } else if prefix {
            (allowed + 1, has_other_letters)
        } else {
            continue;
        };
        if best.is_none_or(|(r, c)| (rank, candidate) < (r, c)) {
            best = Some((rank, candidate));
        }
    }
    best.map(|(_, candidate)| candidate)
}

fn sorted_letters(word: &str) -> Vec<char> {
    let mut letters: Vec<char> = word.chars().collect();
    letters.sort_unstable();
    letters
}

#[cfg(test)]
mod tests {
    use super::nearest;

    #[test]
    fn finds_what_was_meant() {
        let names = ["harmonics", "tidecast", "pages"];
        assert_eq!(nearest("harmonic", names), Some("harmonics"));
        assert_eq!(nearest("tidecats", names), Some("tidecast"));
        assert_eq!(nearest("page", names), Some("pages"));
        assert_eq!(nearest("zebra", names), None);
        assert_eq!(nearest("setp", ["setup", "step"]), Some("step"));
        assert_eq!(nearest("biuld", ["bill", "build"]), Some("build"));
    }
}
