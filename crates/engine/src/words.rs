//! What texts speak of: files of the system in words of commands, headers that sources ask about.

use std::sync::Arc;

use nubrik_source::FilePath;

/// The files of the system that a word names: absolute paths in it, alone, after an option
/// (`--jar=/usr/share/x.jar`), in a list (`/usr/share/a.jar:/usr/share/b.jar`), or in the text of a
/// shell.
pub(crate) fn system_files_in(word: &str, is_system: &dyn Fn(&str) -> bool) -> Vec<FilePath> {
    let ends_path = |c: char| c.is_whitespace() || "=:,;|&()<>`${}'\"\0*?[]@".contains(c);
    let mut found = Vec::new();
    let mut rest = word;
    let mut before = None;
    while let Some(at) = rest.find('/') {
        let previous = rest[..at].chars().next_back().or(before);
        let path = &rest[at..];
        let end = path.find(ends_path).unwrap_or(path.len());
        let path = &path[..end];
        // After a letter, the slash is in the middle of a path.
        let is_absolute = previous.is_none_or(ends_path);
        if is_absolute && path.len() > 1 && is_system(path) {
            found.push(FilePath::of_machine(path.trim_end_matches('/')));
        }
        before = path.chars().next_back();
        rest = &rest[at + path.len()..];
    }
    found
}

/// The script in the words of a shell that is given one: `sh -eu -c SCRIPT`.
pub(crate) fn shell_script(words: &[Arc<str>]) -> Option<&str> {
    let (program, options) = words.split_first()?;
    let name = program.rsplit('/').next()?;
    if !matches!(name, "sh" | "bash" | "dash" | "ksh" | "zsh") {
        return None;
    }
    let is_script = |word: &Arc<str>| word.starts_with('-') && word.ends_with('c');
    options
        .get(options.iter().position(is_script)? + 1)
        .map(|script| &**script)
}

/// Words of shells after which a command follows, and what shells do themselves (POSIX, Shell
/// Command Language 2.4, 2.14 and the utilities that are commonly built in).
const BEFORE_COMMANDS: [&str; 11] = [
    "if", "then", "elif", "else", "while", "until", "do", "!", "{", "exec", "command",
];
const OF_SHELLS: [&str; 45] = [
    "fi", "done", "for", "case", "esac", "in", "}", "break", ":", "continue", ".", "eval", "exit",
    "export", "readonly", "return", "set", "shift", "times", "trap", "unset", "alias", "bg", "cd",
    "false", "fg", "getopts", "hash", "jobs", "kill", "pwd", "read", "true", "type", "ulimit",
    "umask", "unalias", "wait", "echo", "printf", "test", "[", "[[", "local", "function",
];

/// Programs whose own words name another one to start.
const STARTERS: [&str; 6] = ["env", "xargs", "nice", "nohup", "timeout", "time"];

/// Programs that a shell's script starts by a bare name, as far as its letters tell. A name too
/// many does no harm.
pub(crate) fn programs_in(script: &str) -> Vec<String> {
    let mut programs = Vec::new();
    // Where streams are led to one another no command ends.
    let script = [">&", "<&", "&>"]
        .iter()
        .fold(script.to_owned(), |script, sign| script.replace(sign, "> "));
    for command in script.split(|c: char| ";|&\n()`".contains(c)) {
        let mut words = command
            .split_ascii_whitespace()
            .map(|word| word.trim_matches('"'))
            .peekable();
        while words
            .next_if(|word| BEFORE_COMMANDS.contains(word) || is_assignment(word))
            .is_some()
        {}
        while let Some(word) = words.next() {
            if !is_program_name(word) || OF_SHELLS.contains(&word) {
                break;
            }
            programs.push(word.to_owned());
            if !STARTERS.contains(&word) {
                break;
            }
            let passes = |word: &&str| {
                word.starts_with('-')
                    || is_assignment(word)
                    || word.starts_with(|c: char| c.is_ascii_digit())
            };
            while words.next_if(passes).is_some() {}
        }
    }
    programs.sort();
    programs.dedup();
    programs
}

fn is_assignment(word: &str) -> bool {
    let is_name = |name: &str| {
        let letter = |c: char| c.is_ascii_alphanumeric() || c == '_';
        !name.is_empty()
            && name.chars().all(letter)
            && !name.starts_with(|c: char| c.is_ascii_digit())
    };
    word.split_once('=').is_some_and(|(name, _)| is_name(name))
}

fn is_program_name(word: &str) -> bool {
    word.starts_with(|c: char| c.is_ascii_alphanumeric() || "_[".contains(c))
        && word
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || "_.+-[".contains(c))
}

/// What a source asks about with `__has_include` or `__has_embed`.
#[derive(Clone, PartialEq, Eq, Hash, Debug)]
pub(crate) enum Asked {
    /// Whether there is a file of this name.
    Name(String),
    /// Whether there is one whose name only the compiler can put together.
    Computed,
    /// It may take in a file that compilers do not list: one for the assembler, or data.
    Unlisted,
}

/// What takes in a file that no compiler lists: whole words of assembler and of C.
const UNLISTED: [&[u8]; 3] = [b".incbin", b".include", b"embed"];

/// Whether a text may take in files that no compiler lists.
fn takes_unlisted(text: &[u8]) -> bool {
    UNLISTED.iter().any(|word| {
        memchr::memmem::find_iter(text, word).any(|at| {
            let before = text[..at].trim_ascii_end().last().copied();
            let after = text.get(at + word.len()).copied();
            let is_whole = after.is_none_or(|c| !c.is_ascii_alphanumeric() && c != b'_');
            is_whole && (word.starts_with(b".") || before == Some(b'#'))
        })
    })
}

/// What a source asks about, in its order.
pub(crate) fn asked_about(text: &[u8]) -> Vec<Asked> {
    let mut asked = Vec::new();
    for question in [b"__has_include".as_slice(), b"__has_embed"] {
        for at in memchr::memmem::find_iter(text, question) {
            let rest = &text[at + question.len()..];
            let rest = rest
                .strip_prefix(b"_next")
                .unwrap_or(rest)
                .trim_ascii_start();
            // Without what it asks about it only asks whether it may ask.
            let Some(rest) = rest.strip_prefix(b"(").map(<[u8]>::trim_ascii_start) else {
                continue;
            };
            let name = match rest.first() {
                Some(b'<') => rest[1..].split(|b| *b == b'>').next(),
                Some(b'"') => rest[1..].split(|b| *b == b'"').next(),
                Some(_) => None,
                None => continue,
            };
            let name = name
                .filter(|name| !name.contains(&b'\n'))
                .and_then(|name| std::str::from_utf8(name).ok());
            asked.push(name.map_or(Asked::Computed, |name| Asked::Name(name.to_owned())));
        }
    }
    if takes_unlisted(text) {
        asked.push(Asked::Unlisted);
    }
    asked
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn files_of_the_system_are_found_in_words() {
        let is_system = |path: &str| path.starts_with("/usr/") || path.starts_with("/etc/");
        let found = |word: &str| -> Vec<String> {
            system_files_in(word, &is_system)
                .iter()
                .map(|path| path.to_string())
                .collect()
        };
        assert_eq!(found("/usr/share/x.jar"), ["/usr/share/x.jar"]);
        assert_eq!(
            found("--cp=/usr/a.jar:/usr/b.jar,/etc/c"),
            ["/usr/a.jar", "/usr/b.jar", "/etc/c"]
        );
        assert_eq!(found("src/usr/a.c"), [""; 0]);
        assert_eq!(found("./usr/a.c"), [""; 0]);
        assert_eq!(found("-I/usr/include"), [""; 0]);
        assert_eq!(
            found("if [ -f /etc/motd ]; then cat</etc/motd; fi"),
            ["/etc/motd", "/etc/motd"]
        );
        assert_eq!(found("s/a/b/"), [""; 0]);
        assert_eq!(found("/usr/lib/ /home/x"), ["/usr/lib"]);
        assert_eq!(found("/"), [""; 0]);
    }

    #[test]
    fn programs_of_scripts_are_found() {
        let script = "set -e; FOO=1 mytool a | sort > x && if grep -q y x; then LC_ALL=C xargs -0 -n 1 strip; fi\n\
            for f in a b; do other \"$(inner \"$f\")\" || { last; }; done; ./own /usr/bin/whole $var 'x'";
        assert_eq!(
            programs_in(script),
            [
                "grep", "inner", "last", "mytool", "other", "sort", "strip", "xargs"
            ]
        );
        assert_eq!(
            programs_in("timeout 5 env -i A=b tool; echo hello; [ -f x ] && true"),
            ["env", "timeout", "tool"]
        );
        assert_eq!(programs_in("cat x >&2 2>&1 &> log <&3"), ["cat"]);
        assert_eq!(programs_in(""), [""; 0]);
        let words = |words: &[&str]| {
            words
                .iter()
                .map(|w| Arc::from(*w))
                .collect::<Vec<Arc<str>>>()
        };
        assert_eq!(
            shell_script(&words(&["sh", "-eu", "-c", "x y"])),
            Some("x y")
        );
        assert_eq!(shell_script(&words(&["/bin/bash", "-c"])), None);
        assert_eq!(shell_script(&words(&["cc", "-c", "a.c"])), None);
    }

    #[test]
    fn questions_of_sources_are_found() {
        let text = b"#ifdef __has_include\n#if __has_include(<a/b.h>) || __has_include ( \"c.h\" ) || __has_include(X)\n";
        let name = |name: &str| Asked::Name(name.to_owned());
        assert_eq!(
            asked_about(text),
            [name("a/b.h"), name("c.h"), Asked::Computed]
        );
        assert_eq!(
            asked_about(b"__has_embed(<x>) __has_include_next(<y.h>"),
            [name("y.h"), name("x")]
        );
        assert_eq!(asked_about(b"__has_include("), []);
        for text in [
            "__asm__(\".incbin \\\"a.bin\\\"\")",
            ".include \"n.inc\"",
            "# embed <a>\n",
            "#embed \"a\"",
        ] {
            assert_eq!(asked_about(text.as_bytes()), [Asked::Unlisted], "{text}");
        }
        assert_eq!(
            asked_about(b"the .includes of it; embed this; x_embed(1) #embedded"),
            []
        );
    }
}
