//! Command lines of compilers, linkers and archivers, taken apart.

use crate::languages::{is_c_source, is_fortran_source};
use crate::tree::{ext_of, name_of, stem_of};

/// The language that a compiler is called for.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Debug)]
pub(super) enum Language {
    C,
    Cplusplus,
    Fortran,
}

/// What a call of a compiler makes.
#[derive(Clone, Copy, PartialEq, Eq, Debug)]
pub(super) enum CompilerResult {
    /// Objects, one of each source.
    Objects,
    /// A program.
    Program,
    /// A shared library.
    Shared,
}

/// What a linker is given, in order.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum LinkItem {
    /// A file, as it is written.
    File(String),
    /// A library by its name.
    Library(String),
    /// Another word.
    Word(String),
}

/// A call of a compiler.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) struct CompilerCall {
    pub language: Language,
    pub stage: CompilerResult,
    /// Sources, as they are written.
    pub sources: Vec<String>,
    /// Where the result goes, as it is written.
    pub output: Option<String>,
    /// Folders to search for headers, as they are written.
    pub include: Vec<String>,
    /// Flags for compiling, each with what belongs to it.
    pub flags: Vec<String>,
    /// Folders to search for libraries, as they are written.
    pub library_folders: Vec<String>,
    /// What is linked.
    pub links: Vec<LinkItem>,
}

/// What an archiver does.
#[derive(Clone, PartialEq, Eq, Debug)]
pub(super) enum ArchiverCall {
    /// Puts members into an archive.
    Adds {
        archive: String,
        members: Vec<String>,
    },
    /// Takes all members out of an archive, into the folder where it runs.
    Extracts { archive: String },
}

/// The language of a program that is a compiler, by its name.
fn compiler_of(program: &str) -> Option<Language> {
    let name = name_of(program);
    // A name may end with a version, and begin with a machine.
    let plain = name
        .trim_end_matches(|c: char| c.is_ascii_digit() || c == '.')
        .trim_end_matches('-');
    [name, plain]
        .into_iter()
        .find_map(|name| language_of(name.rsplit('-').next()?))
}

/// The language of a compiler, by its plain name.
fn language_of(compiler: &str) -> Option<Language> {
    Some(match compiler {
        "cc" | "gcc" | "clang" | "c99" | "c89" | "c11" | "c17" | "icx" => Language::C,
        "c++" | "g++" | "clang++" | "icpx" | "CC" => Language::Cplusplus,
        "gfortran" | "flang" | "f95" | "f77" | "f90" | "ifx" => Language::Fortran,
        _ => return None,
    })
}

/// Options of compilers whose value is the next word.
const WITH_VALUE: [&str; 26] = [
    "-o",
    "-I",
    "-D",
    "-U",
    "-L",
    "-l",
    "-x",
    "-include",
    "-imacros",
    "-isystem",
    "-iquote",
    "-idirafter",
    "-isysroot",
    "-iprefix",
    "-MF",
    "-MT",
    "-MQ",
    "-Xlinker",
    "-Xassembler",
    "-Xpreprocessor",
    "-Xclang",
    "--param",
    "-u",
    "-z",
    "-T",
    "-J",
];

/// Words by which a call makes nothing that can be linked.
const ASKS: [&str; 12] = [
    "-E",
    "-S",
    "-M",
    "-MM",
    "-fsyntax-only",
    "--version",
    "-V",
    "-###",
    "--help",
    "-dumpversion",
    "-dumpmachine",
    "-qversion",
];

/// Flags for the linker alone, besides those that begin with one of `LINK_STARTS`.
const LINK_WORDS: [&str; 9] = [
    "-shared",
    "-rdynamic",
    "-static",
    "-static-libgcc",
    "-static-libstdc++",
    "-s",
    "-pie",
    "-no-pie",
    "-nostdlib",
];

const LINK_STARTS: [&str; 3] = ["-Wl,", "-fuse-ld", "-nostart"];

/// Flags of compiling that a linker needs, too, by how they begin.
const FOR_BOTH: [&str; 6] = [
    "-pthread",
    "-fsanitize",
    "-flto",
    "-m32",
    "-fopenmp",
    "--coverage",
];

/// A call of a compiler that makes something; nothing for other programs, and for questions.
pub(super) fn compiler_call(words: &[String]) -> Option<CompilerCall> {
    let (program, words) = words.split_first()?;
    let language = compiler_of(program)?;
    let is_question = |word: &String| ASKS.contains(&word.as_str()) || word.starts_with("-print-");
    if words.iter().any(is_question) {
        return None;
    }
    let mut call = CompilerCall {
        language,
        stage: CompilerResult::Program,
        sources: Vec::new(),
        output: None,
        include: Vec::new(),
        flags: Vec::new(),
        library_folders: Vec::new(),
        links: Vec::new(),
    };
    let mut words = words.iter();
    while let Some(word) = words.next() {
        let takes_next = WITH_VALUE.contains(&word.as_str());
        let value = takes_next.then(|| words.next().cloned()).flatten();
        call.take(word, value);
    }
    let makes_something = !call.sources.is_empty()
        || (call.stage != CompilerResult::Objects && !call.links.is_empty());
    makes_something.then_some(call)
}

impl CompilerCall {
    /// Takes a word, with its value where that is another one.
    fn take(&mut self, word: &str, value: Option<String>) {
        // An option and its value in one word, too.
        let joined = |option: &str| match (&value, word.strip_prefix(option)) {
            (Some(value), Some("")) => Some(value.clone()),
            (None, Some(rest)) if !rest.is_empty() => Some(rest.to_owned()),
            _ => None,
        };
        if let Some(value) = &value
            && self.take_with_value(word, value)
        {
            return;
        }
        match word {
            "-c" => return self.stage = CompilerResult::Objects,
            "-shared" => return self.stage = CompilerResult::Shared,
            "-pipe" | "-v" | "-" => return,
            _ => {}
        }
        if let Some(folder) =
            joined("-I").or_else(|| word.strip_prefix("-isystem").map(str::to_owned))
        {
            self.include.push(folder);
        } else if let Some(folder) = joined("-L") {
            self.library_folders.push(folder);
        } else if let Some(name) = joined("-l") {
            self.links.push(LinkItem::Library(name));
        } else if let Some(name) = joined("-D") {
            self.flags.push(format!("-D{name}"));
        } else if let Some(name) = joined("-U") {
            self.flags.push(format!("-U{name}"));
        } else if let Some(list) = word.strip_prefix("-Wl,") {
            if !is_about_places(list) {
                self.links.push(LinkItem::Word(word.to_owned()));
            }
        } else if LINK_WORDS.contains(&word)
            || LINK_STARTS.iter().any(|start| word.starts_with(start))
        {
            self.links.push(LinkItem::Word(word.to_owned()));
        } else if word.starts_with("-M") || word.starts_with("-J") || is_of_the_place(word) {
            // What is noted on the way, and where it was.
        } else if word.starts_with('-') {
            self.flags.push(word.to_owned());
            if FOR_BOTH.iter().any(|start| word.starts_with(start)) {
                self.links.push(LinkItem::Word(word.to_owned()));
            }
        } else if is_c_source(word) || is_fortran_source(word) || is_assembly(word) {
            self.sources.push(word.to_owned());
        } else if !word.starts_with('@') {
            self.links.push(LinkItem::File(word.to_owned()));
        }
    }

    /// Takes an option whose value is another word; says whether it is one.
    fn take_with_value(&mut self, word: &str, value: &str) -> bool {
        let value = value.to_owned();
        match word {
            "-o" => self.output = Some(value),
            "-isystem" | "-iquote" | "-idirafter" => self.include.push(value),
            "-include" | "-imacros" | "--param" | "-Xclang" | "-Xpreprocessor" | "-Xassembler" => {
                self.flags.extend([word.to_owned(), value]);
            }
            "-Xlinker" | "-u" | "-z" | "-T" => {
                self.links
                    .extend([word.to_owned(), value].map(LinkItem::Word));
            }
            "-MF" | "-MT" | "-MQ" | "-x" | "-J" | "-isysroot" | "-iprefix" => {}
            _ => return false,
        }
        true
    }

    /// Where the object of a source goes, as the compiler would write it.
    pub fn object_of(&self, source: &str) -> String {
        match (&self.output, self.stage) {
            (Some(output), CompilerResult::Objects) => output.clone(),
            _ => format!("{}.o", stem_of(source)),
        }
    }

    /// Where what is linked goes, as the compiler would write it.
    pub fn linked(&self) -> &str {
        self.output.as_deref().unwrap_or("a.out")
    }

    /// The words for the linker that name no file.
    pub fn link_words(&self) -> Vec<String> {
        let words = self.links.iter().filter_map(|item| match item {
            LinkItem::Word(word) => Some(word.clone()),
            LinkItem::File(_) | LinkItem::Library(_) => None,
        });
        words.collect()
    }
}

/// Whether words for the linker say only where libraries are, or what notes are written.
fn is_about_places(list: &str) -> bool {
    let words = [
        "-rpath",
        "-rpath-link",
        "--rpath",
        "-Map",
        "--dependency-file",
        "-soname",
        "-h",
        "--out-implib",
    ];
    let first = list.split([',', '=']).next().unwrap_or_default();
    words.contains(&first)
}

/// Whether a flag says where something is built, or how messages look.
fn is_of_the_place(word: &str) -> bool {
    let starts = [
        "-fdiagnostics-",
        "-fdebug-prefix-map",
        "-ffile-prefix-map",
        "-fmacro-prefix-map",
        "-Wp,-M",
    ];
    starts.iter().any(|start| word.starts_with(start))
}

fn is_assembly(word: &str) -> bool {
    !word.starts_with('-') && ["s", "S"].contains(&ext_of(word))
}

/// What an archiver does; nothing for other programs.
pub(super) fn archiver_call(words: &[String]) -> Option<ArchiverCall> {
    let (program, words) = words.split_first()?;
    let name =
        name_of(program).trim_end_matches(|c: char| c.is_ascii_digit() || matches!(c, '.' | '-'));
    if name.rsplit('-').next()? != "ar" {
        return None;
    }
    let mut words = words.iter().filter(|word| !word.starts_with("--"));
    let operation = words.next()?.trim_start_matches('-');
    let archive = words.next()?.clone();
    let members: Vec<String> = words.cloned().collect();
    match operation {
        _ if operation.contains('x') => Some(ArchiverCall::Extracts { archive }),
        _ if operation.contains(['r', 'q']) && !members.is_empty() => {
            Some(ArchiverCall::Adds { archive, members })
        }
        _ => None,
    }
}

/// What two flags must share so that the later one of them counts.
pub(super) fn family(flag: &str) -> String {
    let name = |rest: &str| rest.split('=').next().unwrap_or_default().to_owned();
    if let Some(rest) = flag.strip_prefix("-D").or_else(|| flag.strip_prefix("-U")) {
        return format!("-D{}", name(rest));
    }
    for group in ["-O", "-std=", "-g"] {
        if flag.starts_with(group) {
            return group.to_owned();
        }
    }
    for group in ["-W", "-f", "-m"] {
        if let Some(rest) = flag.strip_prefix(group) {
            return format!("{group}{}", name(rest.strip_prefix("no-").unwrap_or(rest)));
        }
    }
    flag.to_owned()
}

/// A flag in which the folder of the build is named from the workspace's root.
pub(super) fn without_root(root: &str, flag: &str) -> String {
    let (mut plain, mut rest) = (String::new(), flag);
    while let Some(at) = rest.find(root).filter(|_| !root.is_empty()) {
        let (before, behind) = (&rest[..at], &rest[at + root.len()..]);
        plain.push_str(before);
        rest = match behind.chars().next() {
            Some('/') => &behind[1..],
            // Another folder whose name begins like this one's.
            Some(c) if c.is_alphanumeric() || "._+-".contains(c) => {
                plain.push_str(root);
                behind
            }
            _ => {
                plain.push('.');
                behind
            }
        };
    }
    plain + rest
}

/// Why flags that name places need a look, where they do.
pub(super) fn about_places(flags: &[String], whose: &str) -> Vec<String> {
    let is_place = |flag: &&String| {
        let places = ["/usr/", "/opt/", "/home/", "/var/", "/etc/"];
        (flag.starts_with("-I/") || flag.starts_with("-L/"))
            && places.iter().any(|place| flag.contains(place))
    };
    let places: Vec<&str> = flags.iter().filter(is_place).map(String::as_str).collect();
    if places.is_empty() {
        return Vec::new();
    }
    let places = places.join(", ");
    vec![format!(
        "{places}: as {whose} has it. It may be elsewhere on other machines: `system_library` finds it."
    )]
}

#[cfg(test)]
#[allow(clippy::unwrap_used)] // A test that panics has failed, which is right.
mod tests {
    use super::*;

    fn words(line: &str) -> Vec<String> {
        line.split_whitespace().map(str::to_owned).collect()
    }

    fn call(line: &str) -> CompilerCall {
        compiler_call(&words(line)).unwrap()
    }

    #[test]
    fn calls_of_compilers_are_taken_apart() {
        let one = call(
            "x86_64-linux-gnu-gcc-14 -DTIDE=3 -D EBB -I include -Isrc -O2 -MD -MF .d/a.d -c -o a.o src/a.c",
        );
        assert_eq!(
            (one.language, one.stage),
            (Language::C, CompilerResult::Objects)
        );
        assert_eq!(one.sources, ["src/a.c"]);
        assert_eq!(one.flags, ["-DTIDE=3", "-DEBB", "-O2"]);
        assert_eq!(one.include, ["include", "src"]);
        assert_eq!(one.object_of("src/a.c"), "a.o");
        let one = call(
            "g++ -pthread -o show main.o -L lib -ltides -Wl,-rpath,/x -Wl,--as-needed libebb.a -lm",
        );
        assert_eq!(
            (one.language, one.stage),
            (Language::Cplusplus, CompilerResult::Program)
        );
        assert_eq!(one.link_words(), ["-pthread", "-Wl,--as-needed"]);
        let files = one
            .links
            .iter()
            .filter(|item| matches!(item, LinkItem::File(_)))
            .count();
        assert_eq!((files, one.linked()), (2, "show"));
        assert_eq!(call("cc a.c").linked(), "a.out");
        assert_eq!(call("cc -c x/a.c b.c").object_of("x/a.c"), "a.o");
        assert_eq!(
            call("cc -shared -fPIC -o libt.so a.c -Wl,-soname,libt.so.1").stage,
            CompilerResult::Shared
        );
        assert_eq!(
            call("gfortran -J mod -c tide.f90").language,
            Language::Fortran
        );
        assert_eq!(call("c99 -o t t.c").language, Language::C);
    }

    #[test]
    fn what_makes_nothing_to_link_is_no_call() {
        for line in [
            "gcc --version",
            "cc -E a.c",
            "cc -MM a.c",
            "cc",
            "cc -c",
            "cat a.c",
            "c a.c",
            "make cc",
        ] {
            assert_eq!(compiler_call(&words(line)), None, "{line}");
        }
    }

    #[test]
    fn archives_are_filled_and_emptied() {
        let adds = |archive: &str, members: &[&str]| ArchiverCall::Adds {
            archive: archive.to_owned(),
            members: members.iter().map(|m| (*m).to_owned()).collect(),
        };
        assert_eq!(
            archiver_call(&words("ar cru libt.a a.o b.o")),
            Some(adds("libt.a", &["a.o", "b.o"]))
        );
        assert_eq!(
            archiver_call(&words("gcc-ar -rcs libt.a a.o")),
            Some(adds("libt.a", &["a.o"]))
        );
        let extracts = ArchiverCall::Extracts {
            archive: "libt.a".to_owned(),
        };
        assert_eq!(archiver_call(&words("ar x libt.a")), Some(extracts));
        assert_eq!(archiver_call(&words("ar t libt.a")), None);
        assert_eq!(archiver_call(&words("tar x libt.a")), None);
    }

    #[test]
    fn of_flags_of_one_family_the_later_one_counts() {
        assert_eq!(family("-O2"), family("-Os"));
        assert_eq!(family("-DA=1"), family("-UA"));
        assert_eq!(family("-Wno-unused"), family("-Wunused"));
        assert_ne!(family("-DA"), family("-DAB"));
        assert_ne!(family("-Wall"), family("-Wextra"));
    }
}
