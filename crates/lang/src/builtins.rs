//! Names that the language itself has: its forms and functions with their fields, and the methods of
//! its values. Evaluation, `nubrik explain` and the reference all read these tables.

/// A form or function of the language.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // [`FORMS`] says what each one is.
pub enum Builtin {
    Step,
    Check,
    Effect,
    Serve,
    Secret,
    Glob,
    Write,
    Stage,
    Pack,
    Unpack,
    Fetch,
    Tool,
    SystemLibrary,
    Probe,
    Scan,
    LoadCsv,
    LoadJson,
    LoadToml,
    LoadLines,
    Env,
    Host,
    Beside,
}

/// What a field of a form takes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum FieldType {
    /// A text.
    Text,
    /// A text or several.
    Texts,
    /// Files, as wherever files are wanted.
    Files,
    /// One file.
    File,
    /// A source folder, or one that a step makes.
    Folder,
    /// Whether.
    Bool,
    /// A number.
    Int,
    /// A duration.
    Duration,
    /// A command or several.
    Commands,
    /// A port: a number or a text.
    Port,
    /// Texts by name.
    TextMap,
    /// Files by the place where they go, or a folder, or files that go to the top.
    Places,
}

impl FieldType {
    /// The type as people read it.
    pub fn shown(self) -> &'static str {
        match self {
            FieldType::Text => "text",
            FieldType::Texts => "text or list[text]",
            FieldType::Files => "files",
            FieldType::File => "file",
            FieldType::Folder => "folder",
            FieldType::Bool => "bool",
            FieldType::Int => "int",
            FieldType::Duration => "duration",
            FieldType::Commands => "command or list[command]",
            FieldType::TextMap => "map[text]",
            FieldType::Places => "{ \"to/path\": files }, a folder, or files",
            FieldType::Port => "a number or a text",
        }
    }
}

/// A field of a form, or a parameter of a function of the language.
#[derive(Clone, Copy, Debug)]
pub struct FieldInfo {
    /// Its name.
    pub name: &'static str,
    /// What it takes.
    pub ty: FieldType,
    /// Whether it must be given.
    pub needed: bool,
    /// What it is for.
    pub doc: &'static str,
}

/// How a form is called.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub enum CallShape {
    /// `name { field = value }`.
    Braces,
    /// `name { "to/path": files }`.
    Map,
    /// `name(value)`.
    Brackets,
    /// `name` alone.
    Plain,
}

/// A form or function of the language, for evaluation and for people.
#[derive(Clone, Copy, Debug)]
pub struct FormInfo {
    /// Its name.
    pub name: &'static str,
    /// What it is.
    pub builtin: Builtin,
    /// How it is called.
    pub shape: CallShape,
    /// What it makes, in one sentence.
    pub doc: &'static str,
    /// Its fields.
    pub fields: &'static [FieldInfo],
    /// What the value offers: names behind a dot.
    pub gives: &'static [(&'static str, &'static str)],
    /// How it is used.
    pub example: &'static str,
}

const fn field(name: &'static str, ty: FieldType, needed: bool, doc: &'static str) -> FieldInfo {
    FieldInfo { name, ty, needed, doc }
}

const RUN: FieldInfo = field("run", FieldType::Commands, true, "one command, or a list run in order");
const READS: FieldInfo = field("reads", FieldType::Files, false, "inputs that no word of the commands names");
const ENV: FieldInfo = field("env", FieldType::TextMap, false, "variables that the commands see");
const DIR: FieldInfo = field(
    "dir",
    FieldType::Folder,
    false,
    "the folder in which the commands run: a source folder, or a made one, of which they get a copy to write in",
);
const TIMEOUT: FieldInfo = field("timeout", FieldType::Duration, false, "how long each command may take");
const SAY: FieldInfo = field("say", FieldType::Text, false, "what it does, for people");
const MAKES: FieldInfo = field(
    "makes",
    FieldType::TextMap,
    false,
    "outputs of commands that choose where they write: name, and path in the folder where they run (a folder ends with `/`)",
);
const NETWORK: FieldInfo =
    field("network", FieldType::Bool, false, "whether the commands may use the network");
const MEMORY: FieldInfo =
    field("memory", FieldType::Text, false, "how much memory each process may have, such as \"2GiB\"");
const PROCESSORS: FieldInfo =
    field("processors", FieldType::Int, false, "how many processors the commands keep busy");
const MAY_FAIL: FieldInfo =
    field("may_fail", FieldType::Bool, false, "whether a failure is an answer, too, instead of an error");

/// All forms and functions.
pub const FORMS: [FormInfo; 22] = [
    FormInfo {
        name: "step",
        builtin: Builtin::Step,
        shape: CallShape::Braces,
        doc: "Something that runs and makes its outputs: confined, kept, and not run again while nothing that it reads changed.",
        fields: &[RUN, SAY, READS, ENV, MAKES, DIR, NETWORK, TIMEOUT, MEMORY, PROCESSORS],
        gives: &[],
        example: "target codes = step {\n    say = \"list station codes\"\n    run = `sort {in \"stations.csv\"} -o {out \"codes.txt\"}`\n}",
    },
    FormInfo {
        name: "check",
        builtin: Builtin::Check,
        shape: CallShape::Braces,
        doc: "A verdict: it passed when its commands end well. Kept like what a step makes, and not run again while nothing that it reads changed; a failure is never kept.",
        fields: &[
            RUN,
            SAY,
            READS,
            ENV,
            MAKES,
            DIR,
            NETWORK,
            TIMEOUT,
            MEMORY,
            PROCESSORS,
            field(
                "report",
                FieldType::Text,
                false,
                "the name of the output in which the commands tell of single cases, as JUnit XML or TAP",
            ),
            field(
                "quarantined",
                FieldType::Text,
                false,
                "why a failure is shown but does not count: the test is known to be unwell",
            ),
        ],
        gives: &[],
        example: "test tidecast_works = check {\n    say    = \"tides of one day\"\n    run    = `{tidecast} --self-test --report {out report \"cases.xml\"}`\n    report = \"report\"\n}",
    },
    FormInfo {
        name: "effect",
        builtin: Builtin::Effect,
        shape: CallShape::Braces,
        doc: "Something that is done when `nubrik run` asks for it, after what it uses is built: in the terminal, in the environment of the person who runs it, not confined, never kept.",
        fields: &[
            RUN,
            SAY,
            READS,
            ENV,
            field("dir", FieldType::Folder, false, "the source folder in which the commands run"),
            field(
                "lasting",
                FieldType::Bool,
                false,
                "whether it goes on until somebody stops it, so that an interrupt is no failure",
            ),
        ],
        gives: &[],
        example: "job publish = effect { run = `rsync -a {pages} {env(\"ALMANAC_HOST\")}:/srv/almanac/` }",
    },
    FormInfo {
        name: "serve",
        builtin: Builtin::Serve,
        shape: CallShape::Braces,
        doc: "Something that runs while others need it: a database, a server. Who uses its `address` or `port` gets one of its own, or shares one. Both are known only when it runs: they stand in no key, so that results of those who use it are kept. With `address` and `port` instead of `run` it is one that runs somewhere else.",
        fields: &[
            field(
                "run",
                FieldType::Commands,
                false,
                "the command that serves until it is stopped, at `self.address` and `self.port`",
            ),
            field(
                "prepare",
                FieldType::Commands,
                false,
                "commands before it is started, such as one that makes its data folder in {scratch \"data\"}",
            ),
            field(
                "ready",
                FieldType::Commands,
                false,
                "a command that ends well as soon as it is ready; without one it is when it accepts a connection",
            ),
            field("timeout", FieldType::Duration, false, "how long it may take until it is ready; 30s"),
            field("fill", FieldType::Commands, false, "commands when it is ready, before the first use"),
            field(
                "stop",
                FieldType::Commands,
                false,
                "the command that stops it, where a signal is not enough",
            ),
            field(
                "shared",
                FieldType::Bool,
                false,
                "whether all who need it use the same one; else each has a fresh one",
            ),
            READS,
            ENV,
            field("dir", FieldType::Folder, false, "the source folder in which the commands run"),
            field(
                "address",
                FieldType::Text,
                false,
                "the host of one that runs somewhere else; may be a `secret`",
            ),
            field("port", FieldType::Port, false, "its port; may be a `secret`"),
        ],
        gives: &[("address", "where it is: a host"), ("port", "its port there")],
        example: "service board = serve { run = `redis-server --bind {self.address} --port {self.port} --save \"\"` }\ntest counts = check { run = `redis-cli -h {board.address} -p {board.port} incr tides` }",
    },
    FormInfo {
        name: "glob",
        builtin: Builtin::Glob,
        shape: CallShape::Brackets,
        doc: "Files that match a pattern, sorted, without what is ignored, stopping at packages further down.",
        fields: &[
            field("except", FieldType::Texts, false, "patterns of files to leave out"),
            field("or_none", FieldType::Bool, false, "whether finding nothing is fine"),
        ],
        gives: &[],
        example: "let sources = glob(\"src/**/*.c\", except = \"src/old/*.c\")",
    },
    FormInfo {
        name: "write",
        builtin: Builtin::Write,
        shape: CallShape::Braces,
        doc: "A file with a text, written by the tool itself.",
        fields: &[
            field("path", FieldType::Text, true, "the name of the output"),
            field("text", FieldType::Text, true, "what it holds; a file in the text stands as its path"),
            field("executable", FieldType::Bool, false, "whether it may be executed"),
        ],
        gives: &[],
        example: "target version_header = write {\n    path = \"version.h\"\n    text = \"#define VERSION \\\"1.2\\\"\\n\"\n}",
    },
    FormInfo {
        name: "stage",
        builtin: Builtin::Stage,
        shape: CallShape::Map,
        doc: "A folder put together from files: one file goes to the path itself, several go below it by their names.",
        fields: &[],
        gives: &[],
        example: "target tree = stage {\n    \"bin/tidecast\": tidecast\n    \"share/doc\": glob(\"doc/*.md\")\n}",
    },
    FormInfo {
        name: "pack",
        builtin: Builtin::Pack,
        shape: CallShape::Braces,
        doc: "An archive, the same bytes on every machine: order, times and owners are fixed.",
        fields: &[
            field(
                "path",
                FieldType::Text,
                true,
                "the name of the archive; its ending says the format: .tar.gz, .tar.zst, .tar, .zip",
            ),
            field("files", FieldType::Places, true, "what goes where in the archive"),
            field("prefix", FieldType::Text, false, "a folder in the archive in which all of it stands"),
            field(
                "format",
                FieldType::Text,
                false,
                "\"tar.gz\", \"tar.zst\", \"tar\" or \"zip\", where the name does not say",
            ),
        ],
        gives: &[],
        example: "target release = pack {\n    path   = \"almanac-1.2.tar.gz\"\n    prefix = \"almanac-1.2\"\n    files  = { \"bin/tidecast\": tidecast }\n}",
    },
    FormInfo {
        name: "unpack",
        builtin: Builtin::Unpack,
        shape: CallShape::Braces,
        doc: "The folder that an archive holds.",
        fields: &[
            field("archive", FieldType::File, true, "a .tar, .tar.gz, .tar.zst or .zip"),
            field("strip", FieldType::Int, false, "how many leading folders of each name are dropped"),
            field(
                "path",
                FieldType::Text,
                false,
                "the name of the folder; the archive's without its ending by default",
            ),
        ],
        gives: &[],
        example: "target charts = unpack { archive = \"charts.tar.gz\", strip = 1 }",
    },
    FormInfo {
        name: "fetch",
        builtin: Builtin::Fetch,
        shape: CallShape::Braces,
        doc: "A file or folder from the network that never changes: its digest is part of the definition.",
        fields: &[
            field(
                "url",
                FieldType::Texts,
                true,
                "http://, https:// or file:// addresses: mirrors, tried in order",
            ),
            field("digest", FieldType::Text, true, "\"sha256:…\" or \"blake3:…\" of what is fetched"),
            field(
                "path",
                FieldType::Text,
                false,
                "the name of the output; the last part of the first address by default",
            ),
            field("unpack", FieldType::Bool, false, "whether it is an archive to unpack into a folder"),
            field(
                "strip",
                FieldType::Int,
                false,
                "how many leading folders of each name are dropped when it is unpacked",
            ),
            field("executable", FieldType::Bool, false, "whether it may be executed"),
        ],
        gives: &[],
        example: "target charts = fetch {\n    url    = [\"https://charts.example/2031.tar.gz\", \"https://mirror.example/2031.tar.gz\"]\n    digest = \"sha256:9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08\"\n    unpack = true\n}",
    },
    FormInfo {
        name: "tool",
        builtin: Builtin::Tool,
        shape: CallShape::Braces,
        doc: "A program of the machine, found once, checked for its version, and found again when the machine changed; `none` where it may be missing.",
        fields: &[
            field("names", FieldType::Texts, true, "names to look for, the best first"),
            field(
                "version",
                FieldType::Text,
                false,
                "the word that makes it print its version, `--version` by default",
            ),
            field("at_least", FieldType::Text, false, "the oldest version that will do, such as \"3.9\""),
            MAY_FAIL,
        ],
        gives: &[("name", "the name that was found"), ("version", "its version, such as \"3.11.7\"")],
        example: "let python = tool { names = [\"python3\", \"python\"], at_least = \"3.9\" }",
    },
    FormInfo {
        name: "system_library",
        builtin: Builtin::SystemLibrary,
        shape: CallShape::Braces,
        doc: "A library installed on the machine, by its .pc file; `none` where it may be missing.",
        fields: &[
            field(
                "names",
                FieldType::Texts,
                true,
                "names of .pc files to look for, without the ending, the best first",
            ),
            field("at_least", FieldType::Text, false, "the oldest version that will do"),
            field("static", FieldType::Bool, false, "whether the flags for static linking are wanted"),
            MAY_FAIL,
        ],
        gives: &[
            ("name", "the name that was found"),
            ("version", "its version"),
            ("offers", "compiler flags, a list"),
            ("links", "linker flags, a list"),
        ],
        example: "let zlib = system_library { names = \"zlib\", at_least = \"1.2.11\" }",
    },
    FormInfo {
        name: "probe",
        builtin: Builtin::Probe,
        shape: CallShape::Braces,
        doc: "A cheap command, run whenever a request reaches it: its answer counts as an input.",
        fields: &[RUN, ENV, TIMEOUT, MAY_FAIL],
        gives: &[
            ("ok", "whether it succeeded"),
            ("text", "what it printed, without the last line end"),
            ("lines", "the same, as lines"),
            ("json", "the same, read as JSON"),
        ],
        example: "let revision = probe { run = `git rev-parse --short HEAD`, may_fail = true }",
    },
    FormInfo {
        name: "scan",
        builtin: Builtin::Scan,
        shape: CallShape::Braces,
        doc: "A kept step whose answer the definitions may read: it decides words, edges and steps, but no declarations, keys of maps or values of options.",
        fields: &[
            RUN,
            field("say", FieldType::Text, false, "what it does, for people"),
            READS,
            ENV,
            DIR,
            TIMEOUT,
            MAY_FAIL,
        ],
        gives: &[
            ("ok", "whether it succeeded"),
            ("text", "what it printed, without the last line end"),
            ("lines", "the same, as lines"),
            ("json", "the same, read as JSON"),
        ],
        example: "let has_sincos = scan {\n    run      = `cc -c {in \"probes/sincos.c\"} -o {scratch \"sincos.o\"}`\n    may_fail = true\n}.ok",
    },
    FormInfo {
        name: "load_csv",
        builtin: Builtin::LoadCsv,
        shape: CallShape::Brackets,
        doc: "The rows of a CSV file with a header line, each a record of texts, or of the row type.",
        fields: &[field("row", FieldType::Text, false, "the name of a record type for each row")],
        gives: &[],
        example: "type station = { code: text, name: text, height: int }\nlet stations = load_csv(\"stations.csv\", row = station)",
    },
    FormInfo {
        name: "load_json",
        builtin: Builtin::LoadJson,
        shape: CallShape::Brackets,
        doc: "What a JSON file holds.",
        fields: &[field("type", FieldType::Text, false, "the name of the type that it is to have")],
        gives: &[],
        example: "let settings = load_json(\"settings.json\")\nlet depth = settings.charts.depth",
    },
    FormInfo {
        name: "load_toml",
        builtin: Builtin::LoadToml,
        shape: CallShape::Brackets,
        doc: "What a TOML file holds.",
        fields: &[field("type", FieldType::Text, false, "the name of the type that it is to have")],
        gives: &[],
        example: "let settings = load_toml(\"almanac.toml\")",
    },
    FormInfo {
        name: "load_lines",
        builtin: Builtin::LoadLines,
        shape: CallShape::Brackets,
        doc: "The lines of a text file that are not empty.",
        fields: &[],
        gives: &[],
        example: "let harbours = load_lines(\"harbours.txt\")",
    },
    FormInfo {
        name: "env",
        builtin: Builtin::Env,
        shape: CallShape::Brackets,
        doc: "A variable of the environment of the person who builds.",
        fields: &[field("default", FieldType::Text, false, "its value where it is not set")],
        gives: &[],
        example: "let channel = env(\"ALMANAC_CHANNEL\", default = \"draft\")",
    },
    FormInfo {
        name: "secret",
        builtin: Builtin::Secret,
        shape: CallShape::Brackets,
        doc: "A variable of the environment whose value only the commands of an `effect` get to see: it is in no key, message, store or history.",
        fields: &[],
        gives: &[],
        example: "job publish = effect {\n    run = `upload {pages}`\n    env = { \"UPLOAD_TOKEN\": secret(\"ALMANAC_TOKEN\") }\n}",
    },
    FormInfo {
        name: "host",
        builtin: Builtin::Host,
        shape: CallShape::Plain,
        doc: "The machine on which the build runs.",
        fields: &[],
        gives: &[("os", "\"linux\" or \"macos\""), ("cpu", "\"x86_64\", \"aarch64\", …")],
        example: "let threads = if host.os == \"linux\" then [\"-pthread\"] else []",
    },
    FormInfo {
        name: "beside",
        builtin: Builtin::Beside,
        shape: CallShape::Brackets,
        doc: "A file that lies beside the definition file in which this stands: what a kit brings along.",
        fields: &[],
        gives: &[],
        example: "private let scanner = beside(\"scan.py\")",
    },
];

/// The form of this name.
pub fn form(name: &str) -> Option<&'static FormInfo> {
    FORMS.iter().find(|f| f.name == name)
}

/// What there is to know of a form.
pub fn form_of(builtin: Builtin) -> &'static FormInfo {
    // The table has every form: a test says so.
    FORMS.iter().find(|f| f.builtin == builtin).unwrap_or(&FORMS[0])
}

/// Whether the language gives a name its meaning, so that it cannot be declared.
pub fn is_builtin_name(name: &str) -> bool {
    matches!(name, "self" | "sh") || form(name).is_some()
}

/// The meaning of a name of the language; `self` is handled where it may stand.
pub fn builtin(name: &str) -> Option<Builtin> {
    form(name).map(|form| form.builtin)
}

/// A method or property of values, the same for all types that have it.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
#[allow(missing_docs)] // [`METHODS`] says what each one gives.
pub enum Method {
    Path,
    Name,
    Stem,
    Ext,
    Dir,
    Below,
    Join,
    Split,
    Lines,
    Replace,
    StartsWith,
    EndsWith,
    Lower,
    Upper,
    Trim,
    ToInt,
    Len,
    Flat,
    Sorted,
    Unique,
    UniqueLast,
    Keys,
    Values,
}

/// What there is to know of a method.
#[derive(Clone, Copy, Debug)]
pub struct MethodInfo {
    /// Its name.
    pub name: &'static str,
    /// How many arguments it takes; none: it is a property and takes no brackets.
    pub args: usize,
    /// What it is.
    pub method: Method,
    /// What has it.
    pub of: &'static str,
    /// What it gives.
    pub doc: &'static str,
}

const fn method_info(
    name: &'static str,
    args: usize,
    method: Method,
    of: &'static str,
    doc: &'static str,
) -> MethodInfo {
    MethodInfo { name, args, method, of, doc }
}

/// All methods and properties.
pub const METHODS: [MethodInfo; 23] = [
    method_info("path", 0, Method::Path, "files", "the whole path from the workspace's root"),
    method_info("name", 0, Method::Name, "files", "the last part of the path: `fit.c`"),
    method_info("stem", 0, Method::Stem, "files", "the name without its last ending: `fit`"),
    method_info("ext", 0, Method::Ext, "files", "the last ending without its dot: `c`"),
    method_info("dir", 0, Method::Dir, "files", "the folder's path"),
    method_info(
        "below",
        1,
        Method::Below,
        "files",
        "the path below a folder; of an output, the name that it was given",
    ),
    method_info("join", 1, Method::Join, "lists", "one text of all items, with a text between them"),
    method_info("split", 1, Method::Split, "texts", "the parts between occurrences of a text"),
    method_info("lines", 0, Method::Lines, "texts", "the lines, without their ends"),
    method_info(
        "replace",
        2,
        Method::Replace,
        "texts",
        "the text with all occurrences of one text replaced by another",
    ),
    method_info("starts_with", 1, Method::StartsWith, "texts", "whether it begins with a text"),
    method_info("ends_with", 1, Method::EndsWith, "texts", "whether it ends with a text"),
    method_info("lower", 0, Method::Lower, "texts", "the text in small letters"),
    method_info("upper", 0, Method::Upper, "texts", "the text in capital letters"),
    method_info("trim", 0, Method::Trim, "texts", "the text without white space at its ends"),
    method_info("to_int", 0, Method::ToInt, "texts", "the number that the text is"),
    method_info("len", 0, Method::Len, "lists, maps, texts", "how many items or characters there are"),
    method_info("flat", 0, Method::Flat, "lists", "the items of lists in the list, one level up"),
    method_info("sorted", 0, Method::Sorted, "lists", "the items in order"),
    method_info("unique", 0, Method::Unique, "lists", "without repeats, the first one kept"),
    method_info(
        "unique_last",
        0,
        Method::UniqueLast,
        "lists",
        "without repeats, the last one kept, as in link order",
    ),
    method_info("keys", 0, Method::Keys, "maps", "the keys in order"),
    method_info("values", 0, Method::Values, "maps", "the values in order"),
];

/// The method of this name, with the number of its arguments.
pub fn method(name: &str) -> Option<(usize, Method)> {
    METHODS.iter().find(|m| m.name == name).map(|m| (m.args, m.method))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_and_method_is_told_apart() {
        for form in FORMS {
            assert_eq!(form_of(form.builtin).name, form.name);
            assert!(form.doc.ends_with('.'), "{}", form.name);
        }
        let mut names: Vec<&str> = METHODS.iter().map(|m| m.name).collect();
        names.sort_unstable();
        names.dedup();
        assert_eq!(names.len(), METHODS.len());
    }
}
