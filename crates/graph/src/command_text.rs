//! Commands as people paste them into a shell.

use std::sync::Arc;

use nubrik_source::WsPath;

use crate::{SECRET, Service, ServiceCommand, Serving, Stage, Step, shown_marks};

/// A step's commands, one a line, quoted for a POSIX shell, to be run in the workspace's root.
pub fn shown_command(step: &Step) -> Vec<String> {
    let commands = shown_with_marks(step);
    commands
        .iter()
        .map(|text| shown_marks(text, &step.services))
        .collect()
}

/// The commands of a service for people, each with the field that it is in.
pub fn shown_service(service: &Arc<Service>) -> Vec<(&'static str, String)> {
    let env: String = service
        .env
        .iter()
        .map(|(n, v)| format!("{n}={} ", shown_word(v)))
        .collect();
    let shown = |command: &ServiceCommand| {
        let stages: Vec<String> = command
            .iter()
            .map(|s| {
                format!(
                    "{env}{}",
                    shown_words(&s.words, [&s.stdin, &s.stdout, &s.stderr])
                )
            })
            .collect();
        shown_marks(&stages.join(" | "), std::slice::from_ref(service))
    };
    let mut lines = Vec::new();
    match &service.serving {
        Serving::Here {
            prepare,
            run,
            fill,
            stop,
            ..
        } => {
            lines.extend(prepare.iter().map(|c| ("prepare", shown(c))));
            lines.push(("run", shown(run)));
            lines.extend(service.ready.iter().map(|c| ("ready", shown(c))));
            lines.extend(fill.iter().map(|c| ("fill", shown(c))));
            lines.extend(stop.iter().map(|c| ("stop", shown(c))));
        }
        Serving::Elsewhere { address, port } => {
            lines.push(("address", shown_marks(address, &[])));
            lines.push(("port", shown_marks(port, &[])));
            lines.extend(service.ready.iter().map(|c| ("ready", shown(c))));
        }
    }
    lines
}

fn shown_with_marks(step: &Step) -> Vec<String> {
    let variables: String = step
        .env
        .iter()
        .map(|(n, v)| format!("{n}={} ", shown_word(v)))
        .collect();
    step.commands
        .iter()
        .map(|pipeline| {
            let stages: Vec<String> = pipeline
                .stages
                .iter()
                .map(|s| format!("{variables}{}", shown_stage(s, step)))
                .collect();
            stages.join(" | ")
        })
        .collect()
}

fn shown_stage(stage: &Stage, step: &Step) -> String {
    if stage.answers
        && let Some(request) = step
            .lists
            .iter()
            .find(|list| Some(&list.path) == stage.stdin.as_ref())
    {
        // What is asked says more than where it is written.
        let asked = shown_words(&stage.words, [&None, &stage.stdout, &stage.stderr]);
        return format!("{asked} <<< {}", shown_word(request.text.trim_end()));
    }
    shown_words(&stage.words, [&stage.stdin, &stage.stdout, &stage.stderr])
}

fn shown_words(words: &[Arc<str>], redirects: [&Option<WsPath>; 3]) -> String {
    let mut words: Vec<String> = words.iter().map(|w| shown_word(w)).collect();
    for (sign, file) in ["<", ">", "2>"].into_iter().zip(redirects) {
        if let Some(file) = file {
            words.push(format!("{sign} {}", shown_word(file.as_str())));
        }
    }
    words.join(" ")
}

/// A word, quoted where a shell would take it for something else.
pub fn shown_word(word: &str) -> String {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b"-_./=:,+@%^".contains(&b);
    let outside_marks = word.split(SECRET).step_by(2);
    if !word.is_empty() && outside_marks.flat_map(str::bytes).all(plain) {
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
