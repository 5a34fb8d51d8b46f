//! Search by words over everything that has a page.

/// Something that can be found.
struct FindableThing {
    /// What it is.
    what: String,
    name: String,
    page: String,
    /// Where this one begins in the texts that are searched: its name first.
    start: usize,
    /// Where its name ends there.
    name_end: usize,
}

/// Everything that can be found, with one text that holds all of it in small letters.
#[derive(Default)]
pub(crate) struct SearchIndex {
    entries: Vec<FindableThing>,
    text: String,
}

/// Something that was found.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(crate) struct FoundThing {
    pub what: String,
    pub name: String,
    pub page: String,
}

impl SearchIndex {
    /// Adds something: what it is, its name, its page, and more words that it is found by.
    pub fn add(&mut self, what: &str, name: &str, page: String, more: &str) {
        let start = self.text.len();
        self.text.push_str(&name.to_lowercase());
        let name_end = self.text.len();
        self.text.push(' ');
        self.text.push_str(&what.to_lowercase());
        self.text.push(' ');
        self.text.push_str(&more.to_lowercase());
        // No word holds it.
        self.text.push('\n');
        self.entries.push(FindableThing {
            what: what.to_owned(),
            name: name.to_owned(),
            page,
            start,
            name_end,
        });
    }

    /// What has all of some words, the likeliest first; and how many there are in all.
    pub fn find(&self, words: &str, most: usize) -> (Vec<FoundThing>, usize) {
        let words: Vec<String> = words.split_whitespace().map(str::to_lowercase).collect();
        let Some(longest) = words.iter().max_by_key(|word| word.len()) else {
            return (Vec::new(), 0);
        };
        let mut fitting: Vec<(u8, usize, usize)> = Vec::new();
        let mut from = 0;
        while let Some(at) = self.text[from..].find(longest.as_str()) {
            let number = self
                .entries
                .partition_point(|entry| entry.start <= from + at)
                - 1;
            let end = self
                .entries
                .get(number + 1)
                .map_or(self.text.len(), |next| next.start);
            let entry = &self.entries[number];
            let text = &self.text[entry.start..end];
            if words.iter().all(|word| text.contains(word.as_str())) {
                let name = &self.text[entry.start..entry.name_end];
                fitting.push((rank(name, &words), name.len(), number));
            }
            from = end;
        }
        let count = fitting.len();
        fitting.sort_unstable();
        let found = fitting.iter().take(most).map(|(_, _, number)| {
            let FindableThing {
                what, name, page, ..
            } = &self.entries[*number];
            FoundThing {
                what: what.clone(),
                name: name.clone(),
                page: page.clone(),
            }
        });
        (found.collect(), count)
    }

    /// All of it, as a script that pages without a server load.
    pub fn script(&self) -> String {
        let mut out = String::from("window.nubrikNames=[\n");
        for (number, entry) in self.entries.iter().enumerate() {
            let end = self
                .entries
                .get(number + 1)
                .map_or(self.text.len(), |next| next.start);
            let more = self.text[entry.name_end..end].trim();
            let fields = [&*entry.what, &*entry.name, &*entry.page, more].map(quoted);
            out.push_str(&format!("[{}],\n", fields.join(",")));
        }
        out + "];\n"
    }
}

/// How well a name fits: 0 is best.
fn rank(name: &str, words: &[String]) -> u8 {
    let last = name.rsplit(['/', '.']).next().unwrap_or(name);
    let first = words.first().map_or("", String::as_str);
    match () {
        () if name == first => 0,
        () if last == first => 1,
        () if last.starts_with(first) => 2,
        () if name.starts_with(first) => 3,
        () if words.iter().all(|word| name.contains(word.as_str())) => 4,
        () => 5,
    }
}

/// A text as JSON, and as a script takes it.
pub(crate) fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for c in text.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            '\n' => out.push_str("\\n"),
            // What ends a script in a page, or a line of one.
            '<' | '\u{2028}' | '\u{2029}' => out.push_str(&format!("\\u{:04x}", c as u32)),
            c if (c as u32) < 0x20 => out.push_str(&format!("\\u{:04x}", c as u32)),
            c => out.push(c),
        }
    }
    out + "\""
}

#[cfg(test)]
mod tests {
    use super::*;

    fn index() -> SearchIndex {
        let mut index = SearchIndex::default();
        index.add(
            "program",
            "tide/tidecast",
            "a".to_owned(),
            "Tides at all harbours",
        );
        index.add(
            "library",
            "tide/harmonics",
            "b".to_owned(),
            "Parts of tides",
        );
        index.add("package", "tide", "c".to_owned(), "");
        index.add("option", "Höhe", "d".to_owned(), "");
        index
    }

    fn names(words: &str) -> Vec<String> {
        index()
            .find(words, 9)
            .0
            .into_iter()
            .map(|found| found.name)
            .collect()
    }

    #[test]
    fn all_words_count_and_whole_names_come_first() {
        assert_eq!(names("tide"), ["tide", "tide/tidecast", "tide/harmonics"]);
        assert_eq!(names("TIDES parts"), ["tide/harmonics"]);
        assert_eq!(names("library tide"), ["tide/harmonics"]);
        assert_eq!(names("höhe"), ["Höhe"]);
        assert_eq!(names("harbours parts"), Vec::<String>::new());
        assert_eq!(names("  "), Vec::<String>::new());
        assert_eq!(index().find("tide", 1).1, 3);
    }

    #[test]
    fn scripts_hold_nothing_but_texts() {
        assert_eq!(
            quoted("a\"b\\</script>\n\u{1}"),
            "\"a\\\"b\\\\\\u003c/script>\\n\\u0001\""
        );
        assert!(
            index()
                .script()
                .contains("[\"package\",\"tide\",\"c\",\"package\"],")
        );
    }
}
