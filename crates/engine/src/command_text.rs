//! Commands as people paste them into a shell.

use nubrik_graph::{Stage, Step};

/// A step's commands, one a line, quoted for a POSIX shell, to be run in the workspace's root.
pub fn shown_command(step: &Step) -> Vec<String> {
    let variables: String = step.env.iter().map(|(n, v)| format!("{n}={} ", shown_word(v))).collect();
    step.commands
        .iter()
        .map(|pipeline| {
            let stages: Vec<String> =
                pipeline.stages.iter().map(|s| format!("{variables}{}", shown_stage(s))).collect();
            stages.join(" | ")
        })
        .collect()
}

fn shown_stage(stage: &Stage) -> String {
    let mut words: Vec<String> = stage.words.iter().map(|w| shown_word(w)).collect();
    for (sign, file) in [("<", &stage.stdin), (">", &stage.stdout), ("2>", &stage.stderr)] {
        if let Some(file) = file {
            words.push(format!("{sign} {}", shown_word(file.as_str())));
        }
    }
    words.join(" ")
}

/// A word, quoted where a shell would take it for something else.
pub fn shown_word(word: &str) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_./=:,+@%^".contains(&b);
    if !word.is_empty() && word.bytes().all(plain) {
        return word.to_owned();
    }
    format!("'{}'", word.replace('\'', "'\\''"))
}

#[cfg(test)]
mod tests {
    use super::shown_word;

    #[test]
    fn quotes_what_a_shell_would_change() {
        assert_eq!(shown_word("-I/usr/a_b"), "-I/usr/a_b");
        assert_eq!(shown_word("two words"), "'two words'");
        assert_eq!(shown_word("it's"), "'it'\\''s'");
        assert_eq!(shown_word(""), "''");
        assert_eq!(shown_word("$X"), "'$X'");
    }
}
