//! Samples and their answers as bytes: they are kept, so that a later run can ask again and
//! compare.

use nubrik_bytes::{Digest, Encoder, layout};

use crate::world::{AnswerText, NoAnswer, SampleCommand, SampleProgram, SampleRequest};

layout!(enum SampleProgram { 0 => Tool(name), 1 => File(path) });
layout!(SampleCommand { program, words });
layout!(SampleRequest {
    commands,
    env,
    timeout
});

impl AnswerText {
    /// What tells one answer from another.
    pub fn digest(answer: &Result<AnswerText, NoAnswer>) -> Digest {
        let mut out = Encoder::new();
        match answer {
            Ok(AnswerText { ok, text, errors }) => {
                out.u8(if *ok { 0 } else { 1 });
                out.text(text);
                out.text(errors);
            }
            Err(NoAnswer { why, is_lasting }) => {
                out.u8(if *is_lasting { 2 } else { 3 });
                out.text(why);
            }
        }
        Digest::of(&out.bytes)
    }
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use std::sync::Arc;

    use nubrik_bytes::Layout;
    use nubrik_source::WsPath;

    use super::*;

    #[test]
    fn a_sample_is_read_back_and_a_damaged_one_is_refused_or_another() {
        let words = |words: &[&str]| {
            words
                .iter()
                .map(|w| Arc::from(*w))
                .collect::<Vec<Arc<str>>>()
        };
        let tool = SampleCommand {
            program: SampleProgram::Tool("cc".into()),
            words: words(&["cc", "--version"]),
        };
        let file = SampleProgram::File(WsPath::from_normal("tools/höhe.sh"));
        let request = SampleRequest {
            commands: vec![
                vec![
                    tool,
                    SampleCommand {
                        program: file,
                        words: words(&["höhe.sh"]),
                    },
                ],
                vec![],
            ],
            env: vec![("TIDE".into(), "ebb".into())],
            timeout: Some(50),
        };
        for request in [
            request.clone(),
            SampleRequest {
                timeout: None,
                ..request
            },
        ] {
            let bytes = request.to_bytes();
            assert_eq!(SampleRequest::of_bytes(&bytes), Ok(request.clone()));
            for at in 0..bytes.len() {
                assert!(
                    SampleRequest::of_bytes(&bytes[..at]).is_err(),
                    "cut at {at}"
                );
                let mut damaged = bytes.clone();
                damaged[at] ^= 0x41;
                assert_ne!(
                    SampleRequest::of_bytes(&damaged).ok(),
                    Some(request.clone()),
                    "byte {at}"
                );
            }
        }
    }

    #[test]
    fn answers_differ_where_they_count() {
        let answer = |ok, text: &str, errors: &str| {
            AnswerText::digest(&Ok(AnswerText {
                ok,
                text: text.into(),
                errors: errors.into(),
            }))
        };
        let none = |why: &str, is_lasting| {
            AnswerText::digest(&Err(NoAnswer {
                why: why.into(),
                is_lasting,
            }))
        };
        let all = [
            answer(true, "one", ""),
            answer(true, "other", ""),
            answer(false, "one", ""),
            answer(false, "other", ""),
            answer(false, "one", "other"),
            none("gone", true),
            none("gone", false),
            none("other", true),
        ];
        for (at, one) in all.iter().enumerate() {
            assert!(all[at + 1..].iter().all(|other| one != other));
        }
    }
}
