//! Fields that several forms have.

use crate::builtins::{FieldInfo, FieldType};

pub(super) const fn field(
    name: &'static str,
    ty: FieldType,
    needed: bool,
    doc: &'static str,
) -> FieldInfo {
    FieldInfo {
        name,
        ty,
        needed,
        doc,
    }
}

pub(super) const RUN: FieldInfo = field(
    "run",
    FieldType::Commands,
    true,
    "one command, or a list run in order",
);
pub(super) const ANSWERED_BY: FieldInfo = field(
    "answered_by",
    FieldType::Commands,
    false,
    "a program that stays during a build: each command of `run` is a request to it, its words as a line of JSON, and it answers with a line such as {\"request\": 1, \"code\": 0, \"printed\": \"\"}",
);
pub(super) const READS: FieldInfo = field(
    "reads",
    FieldType::Files,
    false,
    "inputs that no word of the commands names",
);
pub(super) const ENV: FieldInfo = field(
    "env",
    FieldType::TextMap,
    false,
    "variables that the commands see",
);
pub(super) const FOLDER: FieldInfo = field(
    "folder",
    FieldType::Folder,
    false,
    "the folder in which the commands run: a source folder, or a made one, of which they get a copy to write in",
);
pub(super) const TIMEOUT: FieldInfo = field(
    "timeout",
    FieldType::Duration,
    false,
    "how long each command may take",
);
pub(super) const SAY: FieldInfo = field(
    "say",
    FieldType::Text,
    false,
    "what it does, in words for people",
);
pub(super) const MAKES: FieldInfo = field(
    "makes",
    FieldType::TextMap,
    false,
    "outputs of commands that choose where they write: the name, and the path in the folder where they run (a folder ends with `/`)",
);
pub(super) const NETWORK: FieldInfo = field(
    "network",
    FieldType::Bool,
    false,
    "whether the commands may use the network",
);
pub(super) const MEMORY: FieldInfo = field(
    "memory",
    FieldType::Text,
    false,
    "how much memory each process may have, such as \"2GiB\"",
);
pub(super) const PROCESSORS: FieldInfo = field(
    "processors",
    FieldType::Int,
    false,
    "how many processors the commands keep busy",
);
pub(super) const MACHINE: FieldInfo = field(
    "machine",
    FieldType::Texts,
    false,
    "what the machine must be on which the commands run, if not one like this: a system, a processor, labels that were given to a worker, such as [\"aarch64\", \"tide-board\"]",
);
pub(super) const ROOT: FieldInfo = field(
    "root",
    FieldType::File,
    false,
    "the image that the commands see in place of this machine's system",
);
pub(super) const OBSERVED: FieldInfo = field(
    "observed",
    FieldType::Bool,
    false,
    "whether only those of `reads` and of the folders in its words are inputs that the commands are seen to read, list or look for",
);
pub(super) const MAY_FAIL: FieldInfo = field(
    "may_fail",
    FieldType::Bool,
    false,
    "whether a failure is also an answer, instead of an error",
);
pub(super) const OR_NONE: FieldInfo = field(
    "or_none",
    FieldType::Bool,
    false,
    "whether the value is `none` if there is no such thing, instead of an error",
);
