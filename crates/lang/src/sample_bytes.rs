//! Samples and their answers as bytes: they are kept, so that a later run can ask again and compare.

use std::sync::Arc;

use nubrik_bytes::{Decoder, Digest, Encoder, Truncated};
use nubrik_source::WsPath;

use crate::world::{AnswerText, NoAnswer, SampleCommand, SampleProgram, SampleRequest};

impl SampleRequest {
    /// Writes it.
    pub fn encode(&self, out: &mut Encoder) {
        let SampleRequest { commands, env, timeout } = self;
        out.list(commands, |out, stages| {
            out.list(stages, |out, SampleCommand { program, words }| {
                match program {
                    SampleProgram::Tool(name) => {
                        out.u8(0);
                        out.text(name);
                    }
                    SampleProgram::File(path) => {
                        out.u8(1);
                        out.text(path.as_str());
                    }
                }
                out.list(words, |out, word| out.text(word));
            });
        });
        out.list(env, |out, (name, value)| {
            out.text(name);
            out.text(value);
        });
        out.u64(timeout.unwrap_or(0));
    }

    /// Reads one back.
    ///
    /// # Errors
    /// When the bytes are damaged.
    pub fn decode(from: &mut Decoder<'_>) -> Result<SampleRequest, Truncated> {
        let commands = from.list(|from| {
            from.list(|from| {
                let program = match (from.u8()?, from.text()?) {
                    (0, name) => SampleProgram::Tool(name.into()),
                    (1, path) => SampleProgram::File(WsPath::from_normal(path)),
                    _ => return Err(Truncated),
                };
                let words = from.list(|from| Ok(Arc::from(from.text()?)))?;
                Ok(SampleCommand { program, words })
            })
        })?;
        let env = from.list(|from| Ok((Arc::from(from.text()?), Arc::from(from.text()?))))?;
        let timeout = from.u64()?;
        Ok(SampleRequest { commands, env, timeout: (timeout > 0).then_some(timeout) })
    }
}

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
    use super::*;

    #[test]
    fn a_sample_is_read_back_and_a_damaged_one_is_refused_or_another() {
        let words = |words: &[&str]| words.iter().map(|w| Arc::from(*w)).collect::<Vec<Arc<str>>>();
        let tool =
            SampleCommand { program: SampleProgram::Tool("cc".into()), words: words(&["cc", "--version"]) };
        let file = SampleProgram::File(WsPath::from_normal("tools/höhe.sh"));
        let request = SampleRequest {
            commands: vec![vec![tool, SampleCommand { program: file, words: words(&["höhe.sh"]) }], vec![]],
            env: vec![("TIDE".into(), "ebb".into())],
            timeout: Some(50),
        };
        for request in [request.clone(), SampleRequest { timeout: None, ..request }] {
            let mut out = Encoder::new();
            request.encode(&mut out);
            assert_eq!(SampleRequest::decode(&mut Decoder::new(&out.bytes)), Ok(request.clone()));
            for at in 0..out.bytes.len() {
                assert!(SampleRequest::decode(&mut Decoder::new(&out.bytes[..at])).is_err(), "cut at {at}");
                let mut damaged = out.bytes.clone();
                damaged[at] ^= 0x41;
                assert_ne!(
                    SampleRequest::decode(&mut Decoder::new(&damaged)).ok(),
                    Some(request.clone()),
                    "byte {at}"
                );
            }
        }
    }

    #[test]
    fn answers_differ_where_they_count() {
        let answer = |ok, text: &str, errors: &str| {
            AnswerText::digest(&Ok(AnswerText { ok, text: text.into(), errors: errors.into() }))
        };
        let none = |why: &str, is_lasting| AnswerText::digest(&Err(NoAnswer { why: why.into(), is_lasting }));
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
