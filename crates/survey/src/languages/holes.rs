//! What templates of headers leave open: names of answers, and versions that are filled in.

use regex::Regex;

/// What is filled in.
pub(super) const HOLES: &str = r"@(\w+)@|\$\{(\w+)\}";

/// Whether a directive is in a text that only a generator knows, or one that takes a name back: it
/// asks about the machine.
pub(super) fn asks_machine(text: &str) -> bool {
    text.lines()
        .filter_map(|line| line.trim_start().strip_prefix('#'))
        .any(|line| {
            let word = line.split_whitespace().next().unwrap_or_default();
            word == "undef" || (word != "define" && word.ends_with("define"))
        })
}

/// Whether a text is a template: something is filled in, or the machine is asked.
pub(super) fn has_holes(text: &str) -> bool {
    asks_machine(text) || Regex::new(HOLES).is_ok_and(|holes| holes.is_match(text))
}

/// What a line of a template leaves open, as `c.config_header` of the kit reads it.
pub(super) const OPEN: &str =
    r"^\s*#\s*(?:(undef|\w+define(?:01)?)\s+(\w+)|define\s+(\w+)\s.*(?:@\w+@|\$\{))";

/// So many names a file leaves open that is only there to be filled in.
pub(super) const MANY: usize = 5;

/// Whether a text is there to have names filled in.
pub(super) fn leaves_many_open(text: &str) -> bool {
    Regex::new(OPEN).is_ok_and(|open| {
        text.lines()
            .filter(|line| open.is_match(line))
            .take(MANY)
            .count()
            == MANY
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_kit_reads_what_is_left_open_in_the_same_way() {
        let kit = include_str!("../../../../kits/c.nub");
        assert!(
            kit.contains(&format!("let open_name = '{OPEN}'")),
            "kits/c.nub has another `open_name`"
        );
    }
}
