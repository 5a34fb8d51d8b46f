//! How images are called in registries (OCI distribution specification 1.1, *Pulling manifests*).

/// Whether a text can be the name of an image: parts of small letters and digits, with `.`, `_` and
/// `-` inside.
pub fn is_image_name(name: &str) -> bool {
    let is_inside = |c: char| matches!(c, '.' | '_' | '-');
    let is_small = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    let is_part = |part: &str| {
        part.starts_with(is_small)
            && part.ends_with(is_small)
            && part.chars().all(|c| is_small(c) || is_inside(c))
    };
    name.len() <= 255 && name.split('/').all(is_part)
}

/// Whether a text can be a tag.
pub fn is_image_tag(tag: &str) -> bool {
    let is_word = |c: char| c.is_ascii_alphanumeric() || c == '_';
    tag.len() <= 128
        && tag.starts_with(is_word)
        && tag.chars().all(|c| is_word(c) || matches!(c, '.' | '-'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_and_tags_are_as_the_specification_has_them() {
        for name in ["base", "tide/base-image", "a/b/c.d_e"] {
            assert!(is_image_name(name), "{name}");
        }
        for name in ["", "Tide", "a//b", "/a", "a/", "-a", "a/../b", "a b"] {
            assert!(!is_image_name(name), "{name}");
        }
        assert!(
            is_image_tag("1.2-slim")
                && is_image_tag("_x")
                && !is_image_tag("")
                && !is_image_tag(".x")
                && !is_image_tag("a/b")
                && !is_image_tag("a:b")
        );
    }
}
