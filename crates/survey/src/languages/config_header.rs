//! A configuration header that is not in the tree: made from the questions that the sources ask
//! about the machine.

use std::collections::{BTreeMap, BTreeSet};

use regex::Regex;

use super::c_scan::SourceScan;
use super::c_system::other_system_of;
use super::holes::{HOLES, MANY, OPEN, asks_machine, leaves_many_open};
use crate::Survey;
use crate::proposal::{Body, Definition, DefinitionAddress, Keyword};
use crate::tree::{SourceTree, below, is_below, joined, name_of};
use crate::writing::quoted;

/// Functions that programs ask about, with a header that declares each.
const FUNCTIONS: &str = "\
    access:unistd.h alarm:unistd.h arc4random:stdlib.h asprintf:stdio.h atexit:stdlib.h basename:libgen.h bcopy:strings.h \
    bzero:strings.h chown:unistd.h clock_gettime:time.h copy_file_range:unistd.h dup2:unistd.h endpwent:pwd.h explicit_bzero:string.h \
    fallocate:fcntl.h fchdir:unistd.h fchmod:sys/stat.h fchown:unistd.h fcntl:fcntl.h fdatasync:unistd.h flock:sys/file.h fork:unistd.h \
    fseeko:stdio.h fsync:unistd.h ftruncate:unistd.h futimens:sys/stat.h getaddrinfo:netdb.h getcwd:unistd.h getdelim:stdio.h \
    geteuid:unistd.h gethostname:unistd.h getline:stdio.h getopt:unistd.h getopt_long:getopt.h getpagesize:unistd.h getpid:unistd.h \
    getppid:unistd.h getpwuid:pwd.h getrandom:sys/random.h getrlimit:sys/resource.h getrusage:sys/resource.h gettimeofday:sys/time.h \
    getuid:unistd.h gmtime_r:time.h iconv:iconv.h inet_ntop:arpa/inet.h inet_pton:arpa/inet.h isatty:unistd.h isblank:ctype.h \
    kill:signal.h link:unistd.h localeconv:locale.h localtime_r:time.h lstat:sys/stat.h madvise:sys/mman.h memchr:string.h \
    memcpy:string.h memmem:string.h memmove:string.h memset:string.h mkdir:sys/stat.h mkdtemp:stdlib.h mkfifo:sys/stat.h \
    mkstemp:stdlib.h mktime:time.h mmap:sys/mman.h mprotect:sys/mman.h munmap:sys/mman.h nanosleep:time.h nl_langinfo:langinfo.h \
    pipe:unistd.h pipe2:unistd.h poll:poll.h posix_fadvise:fcntl.h posix_fallocate:fcntl.h posix_memalign:stdlib.h pread:unistd.h \
    putenv:stdlib.h pwrite:unistd.h qsort_r:stdlib.h raise:signal.h random:stdlib.h readlink:unistd.h realpath:stdlib.h \
    reallocarray:stdlib.h regcomp:regex.h rename:stdio.h rmdir:unistd.h secure_getenv:stdlib.h select:sys/select.h setenv:stdlib.h \
    setlocale:locale.h setrlimit:sys/resource.h setsid:unistd.h setvbuf:stdio.h sigaction:signal.h sigprocmask:signal.h sleep:unistd.h \
    snprintf:stdio.h socket:sys/socket.h socketpair:sys/socket.h stpcpy:string.h strcasecmp:strings.h strcasestr:string.h strchr:string.h \
    strcoll:string.h strdup:string.h strerror:string.h strerror_r:string.h strftime:time.h strlcat:string.h strlcpy:string.h \
    strncasecmp:strings.h strndup:string.h strnlen:string.h strptime:time.h strrchr:string.h strsep:string.h strsignal:string.h \
    strspn:string.h strstr:string.h strtod:stdlib.h strtof:stdlib.h strtok_r:string.h strtol:stdlib.h strtoll:stdlib.h strtoul:stdlib.h \
    strtoull:stdlib.h symlink:unistd.h sysconf:unistd.h tcgetattr:termios.h timegm:time.h times:sys/times.h truncate:unistd.h \
    tzset:time.h uname:sys/utsname.h unsetenv:stdlib.h usleep:unistd.h utime:utime.h utimes:sys/time.h vasprintf:stdio.h vfork:unistd.h \
    vprintf:stdio.h vsnprintf:stdio.h wait4:sys/wait.h open:fcntl.h close:unistd.h read:unistd.h write:unistd.h sched_yield:sched.h waitpid:sys/wait.h writev:sys/uio.h";

/// Types whose sizes programs ask about.
const SIZES: [(&str, &str, &str); 12] = [
    ("SIZEOF_CHAR", "char", ""),
    ("SIZEOF_DOUBLE", "double", ""),
    ("SIZEOF_FLOAT", "float", ""),
    ("SIZEOF_INT", "int", ""),
    ("SIZEOF_LONG", "long", ""),
    ("SIZEOF_LONG_LONG", "long long", ""),
    ("SIZEOF_OFF_T", "off_t", "sys/types.h"),
    ("SIZEOF_SHORT", "short", ""),
    ("SIZEOF_SIZE_T", "size_t", "stddef.h"),
    ("SIZEOF_TIME_T", "time_t", "time.h"),
    ("SIZEOF_VOIDP", "void *", ""),
    ("SIZEOF_VOID_P", "void *", ""),
];

/// What has a system declare all variants of its functions.
const ON_DEMAND: &str = "_GNU_SOURCE";

/// Where questions are asked: what sources say, to which component each belongs, and whether they
/// want such a header.
type ConfigQuestions<'q> = (
    &'q BTreeMap<&'q str, SourceScan>,
    &'q BTreeMap<&'q str, String>,
    bool,
);

/// A definition of a configuration header, if a header is one. What is asked about and is no
/// header, function or size that is known stays undefined.
pub(super) fn propose(
    survey: &mut Survey<'_>,
    (scans, owners, is_wanted): ConfigQuestions<'_>,
    component: &str,
    header: &str,
) -> Option<DefinitionAddress> {
    let Template {
        names: templates,
        includes,
        whole,
        leaves_many_open,
    } = Template::of(survey.tree, name_of(header));
    let is_known = is_wanted || name_of(header) == "config.h" || !templates.is_empty();
    if !((name_of(header).contains("conf") && is_known) || leaves_many_open) {
        return None;
    }
    let mine = scans.iter().filter(|(file, _)| owners[**file] == component);
    let mut asked: BTreeSet<String> = mine
        .flat_map(|(_, scan)| scan.asked.iter().cloned())
        .collect();
    asked.extend(templates.keys().cloned());
    let version = version_of(survey.tree, &survey.tree.name());
    let project = crate::without_version(&survey.tree.name()).to_owned();
    let mut rows = BTreeMap::from([(ON_DEMAND.to_owned(), "\"1\"".to_owned())]);
    let mut left = Vec::new();
    let says_template = |name: &str| {
        let whole = whole.as_ref();
        whole.is_some_and(|whole| whole.says(name, &templates))
    };
    for name in asked {
        if name == "HAVE_CONFIG_H" || says_template(&name) {
            continue;
        }
        let written = templates.get(&name).map_or("", String::as_str);
        let known = answer(&name).or_else(|| version_answer(&name, &project, &version));
        match known.or_else(|| written_answer(survey.tree, &name, written)) {
            Some(code) => drop(rows.insert(name, code)),
            None => left.push(name),
        }
    }
    rows.extend(whole.iter().flat_map(|whole| whole.filled.clone()));
    let address = survey.names.give(component, "config", "header");
    let mut reasons = Vec::new();
    if !left.is_empty() {
        left.truncate(12);
        let (left, only) = (left.join(", "), "since only a person knows what they mean");
        reasons.push(format!("Left undefined, {only}: {left}."));
    }
    let name = name_of(header);
    let template = whole.map(|whole| whole.file);
    let from = template
        .as_deref()
        .map(|file| match is_below(file, component) {
            true => below(file, component).to_owned(),
            false => format!("/{}", joined(survey.top, file).unwrap_or_default()),
        });
    let code = code_of(name, from.as_deref(), &includes, &rows);
    let documentation = format!("What this machine has, as {name} says it to the sources.");
    let body = Body::Code(code, template.into_iter().collect());
    let definition = Definition::new(Keyword::Target, &address, documentation, body);
    survey.define(definition.private().because(reasons));
    Some(address)
}

/// How a configuration header is written, with what is known of names.
pub(super) fn code_of(
    name: &str,
    template: Option<&str>,
    includes: &[String],
    known: &BTreeMap<String, String>,
) -> String {
    let mut code = format!("c.config_header {{\n    path = \"{name}\"\n");
    match template {
        // A template that is taken as a whole includes them itself.
        Some(file) => code.push_str(&format!("    template = load_lines({})\n", quoted(file))),
        None if includes.is_empty() => {}
        None => {
            let list: Vec<String> = includes.iter().map(|one| format!("\"{one}\"")).collect();
            code.push_str(&format!("    includes = [{}]\n", list.join(", ")));
        }
    }
    let (on_demand, rest): (Vec<_>, Vec<_>) =
        known.iter().partition(|(name, _)| *name == ON_DEMAND);
    if !on_demand.is_empty() {
        code.push_str("    # Variants of functions that a system declares on demand.\n");
    }
    code.push_str("    defines = {\n");
    for (name, value) in on_demand.into_iter().chain(rest) {
        code.push_str(&format!("        \"{name}\": {value}\n"));
    }
    code + "    }\n}"
}

/// What is in templates of a header: files of its name with a further ending, or the one file of
/// the tree that is only to be one.
#[derive(Default)]
struct Template {
    /// Names that are defined or not, with what is written behind them.
    names: BTreeMap<String, String>,
    /// Headers of the system that it includes, whatever is defined.
    includes: Vec<String>,
    /// A template that says more than names: the header is made of all of it.
    whole: Option<WholeTemplate>,
    /// Whether one leaves so many names open that it is a configuration header, whatever it is
    /// called.
    leaves_many_open: bool,
}

/// A template of which a header is made as a whole.
struct WholeTemplate {
    file: String,
    /// The names that it leaves open.
    open: BTreeSet<String>,
    /// What is filled in elsewhere in it, with expressions.
    filled: BTreeMap<String, String>,
}

impl WholeTemplate {
    /// The template that a file is, if nothing but names is left open in it, and it decides
    /// something itself.
    fn of(tree: &SourceTree, file: &str) -> Option<WholeTemplate> {
        let text = tree.text(file)?;
        let (is_open, holes) = (Regex::new(OPEN).ok()?, Regex::new(HOLES).ok()?);
        let (mut open, mut filled): (BTreeSet<String>, BTreeMap<String, String>) =
            Default::default();
        let (mut conditions, mut is_guarded) = (0, false);
        for line in text.lines() {
            if let Some(found) = is_open.captures(line) {
                open.extend(
                    found
                        .get(2)
                        .or(found.get(3))
                        .map(|name| name.as_str().to_owned()),
                );
            } else if asks_machine(line) {
                return None;
            } else if holes.is_match(line) {
                for hole in holes.captures_iter(line) {
                    let name = hole.get(1).or(hole.get(2))?.as_str();
                    filled.insert(name.to_owned(), hole_answer(tree, name)?);
                }
            } else if line.trim_start().starts_with('#') {
                let word = line.trim_start().trim_start_matches('#').trim_start();
                is_guarded |= open.is_empty() && word.starts_with("ifndef");
                conditions += usize::from(word.starts_with("if"));
            }
        }
        let decides = conditions > usize::from(is_guarded);
        (decides && !open.is_empty()).then(|| WholeTemplate {
            file: file.to_owned(),
            open,
            filled,
        })
    }

    /// Whether it says itself what a name is.
    fn says(&self, name: &str, names: &BTreeMap<String, String>) -> bool {
        names.contains_key(name) && !self.open.contains(name)
    }
}

impl Template {
    fn of(tree: &SourceTree, name: &str) -> Template {
        let is_of_name = |file: &&String| {
            // Its ending may be what says that it is for another system.
            other_system_of(&format!("{file}.")).is_none()
                && name_of(file)
                    .strip_prefix(name)
                    .is_some_and(|rest| rest.len() > 1 && rest.starts_with('.'))
        };
        let mut templates: Vec<&String> = tree.files().iter().filter(is_of_name).collect();
        if templates.is_empty() {
            let is_to_be_filled = |file: &&String| {
                // One that is called after a header becomes that one.
                file.strip_suffix(".in")
                    .is_some_and(|stem| !stem.ends_with(".h"))
                    && WholeTemplate::of(tree, file).is_some_and(|whole| whole.open.len() >= MANY)
            };
            templates = tree.files().iter().filter(is_to_be_filled).collect();
            if templates.len() > 1 {
                templates.clear();
            }
        }
        let mut template = Template::default();
        let is_open = |file: &&String| tree.text(file).is_some_and(|text| leaves_many_open(&text));
        template.leaves_many_open = templates.iter().any(is_open);
        // Of several, which are for one way to configure each, the plainest is taken.
        let plainest = || {
            templates
                .iter()
                .find(|file| name_of(file) == format!("{name}.in"))
        };
        let one = if let [file] = &*templates {
            Some(file)
        } else {
            plainest()
        };
        if let Some(file) = one {
            template.whole = WholeTemplate::of(tree, file);
        }
        for text in templates.into_iter().filter_map(|file| tree.text(file)) {
            let scan = super::c_scan::scan(name, &text);
            let always = scan
                .includes
                .into_iter()
                .filter(|one| !one.is_quoted && !one.is_conditional);
            template.includes.extend(always.map(|one| one.path));
            template.add(&text);
        }
        template
    }

    /// Takes the directives of a template.
    fn add(&mut self, text: &str) {
        let directives: Vec<(&str, &str, String)> = text
            .lines()
            .filter_map(|line| line.trim_start().strip_prefix('#'))
            .map(|line| {
                let mut words = line.split_whitespace();
                // Generators have directives of their own, such as a prefix or a number around
                // `define`.
                let directive = words
                    .next()
                    .unwrap_or_default()
                    .trim_end_matches(|c: char| c.is_ascii_digit());
                (
                    directive,
                    words.next().unwrap_or_default(),
                    words.collect::<Vec<_>>().join(" "),
                )
            })
            .collect();
        // What keeps a header from being read twice is no condition.
        let guard = match directives.as_slice() {
            [("ifndef", name, _), ("define", same, _), ..] if name == same => Some(*name),
            _ => None,
        };
        // What is below a condition is not so everywhere.
        let mut depth = if guard.is_some() { -1 } else { 0 };
        for (directive, name, written) in directives {
            match directive {
                "if" | "ifdef" | "ifndef" => depth += 1,
                "endif" => depth -= 1,
                _ => {}
            }
            let is_name =
                name.chars().all(|c| c.is_ascii_alphanumeric() || c == '_') && !name.is_empty();
            let is_asked = directive.ends_with("define") || directive.ends_with("undef");
            if !is_asked || !is_name || name.starts_with('_') || guard == Some(name) {
                continue;
            }
            let is_filled = written.contains('@');
            let is_so = directive == "define" && (depth == 0 || is_filled);
            let written = if is_so { written } else { String::new() };
            let known = self.names.entry(name.to_owned()).or_default();
            if known.is_empty() || is_filled {
                *known = written;
            }
        }
    }
}

/// The version of the project: behind its folder's name, or in a file that says nothing else.
fn version_of(tree: &SourceTree, name: &str) -> Option<String> {
    let is_version = |text: &str| {
        text.contains('.') && text.starts_with(|c: char| c.is_ascii_digit()) && text.len() < 20
    };
    let behind = name
        .rsplit_once('-')
        .map(|(_, version)| version.to_owned())
        .filter(|text| is_version(text));
    let in_file = || {
        let text = ["VERSION", "version", "version.txt"]
            .iter()
            .find_map(|file| tree.text(file))?;
        Some(text.trim().to_owned()).filter(|text| is_version(text))
    };
    behind.or_else(in_file).or_else(|| newest_in_notes(tree))
}

/// The newest version that the project's notes about changes name: the first of a short line near
/// their beginning.
fn newest_in_notes(tree: &SourceTree) -> Option<String> {
    let is_notes = |file: &&String| {
        let stem = file
            .split_once('.')
            .map_or(file.as_str(), |(stem, _)| stem)
            .to_ascii_lowercase();
        ["changelog", "changes", "history", "news", "releases"].contains(&&*stem)
            && !file.contains('/')
    };
    let version = Regex::new(r"(?:^|[\s\[(v])(\d{1,3}\.\d+(?:\.\d+)?)(?:[\s\]),:]|$)").ok()?;
    let text = tree.text(tree.files().iter().find(is_notes)?)?;
    let short = text
        .lines()
        .take(30)
        .filter(|line| line.split_whitespace().count() <= 8);
    short
        .filter_map(|line| version.captures(line))
        .map(|found| found[1].to_owned())
        .next()
}

/// What a name of a version represents in the sources of a tree.
pub(crate) fn version_value(tree: &SourceTree, name: &str) -> Option<String> {
    let code = version_answer(
        name,
        crate::without_version(&tree.name()),
        &version_of(tree, &tree.name()),
    )?;
    Some(code.trim_matches('\'').to_owned()).map(|text| {
        match text
            .strip_prefix('"')
            .and_then(|rest| rest.strip_suffix('"'))
        {
            // A number is written without quotes, a text with them.
            Some(number) if number.bytes().all(|byte| byte.is_ascii_digit()) => number.to_owned(),
            _ => text,
        }
    })
}

/// What a name of a version is defined as.
fn version_answer(name: &str, project: &str, version: &Option<String>) -> Option<String> {
    let version = version.as_ref()?;
    let number = |at: usize| version.split('.').nth(at).map(|part| format!("\"{part}\""));
    let ends = |words: [&str; 2]| words.iter().any(|word| name.ends_with(word));
    match name {
        _ if ends(["VERSION_MAJOR", "MAJOR_VERSION"]) => number(0),
        _ if ends(["VERSION_MINOR", "MINOR_VERSION"]) => number(1),
        _ if ends(["VERSION_PATCH", "PATCH_VERSION"])
            || ends(["VERSION_MICRO", "MICRO_VERSION"]) =>
        {
            number(2).or_else(|| Some("\"0\"".to_owned()))
        }
        "PACKAGE_NAME" | "PACKAGE" | "PACKAGE_TARNAME" => Some(format!("'\"{project}\"'")),
        "PACKAGE_STRING" => Some(format!("'\"{project} {version}\"'")),
        "PACKAGE_BUGREPORT" | "PACKAGE_URL" => Some("'\"\"'".to_owned()),
        "VERSION" | "PACKAGE_VERSION" => Some(format!("'\"{version}\"'")),
        _ if name.ends_with("VERSION_STRING") || name.ends_with("_VERSION") => {
            Some(format!("'\"{version}\"'"))
        }
        _ => None,
    }
}

/// What a name is defined as, as an expression.
fn answer(name: &str) -> Option<String> {
    if let Some((_, size, header)) = SIZES.iter().find(|(known, _, _)| *known == name) {
        let headers = if header.is_empty() {
            "[]".to_owned()
        } else {
            format!("[\"{header}\"]")
        };
        return Some(format!("\"{{c.type_size(\"{size}\", {headers})}}\""));
    }
    // What every system of today has: headers of the standard, both headers of times at once, and
    // files of any size.
    if matches!(name, "STDC_HEADERS" | "TIME_WITH_SYS_TIME") || name.ends_with("ENABLE_LARGEFILE") {
        return Some("\"1\"".to_owned());
    }
    let rest = name.strip_prefix("HAVE_")?.to_lowercase();
    let rest = rest.strip_prefix("decl_").unwrap_or(&rest);
    let function = FUNCTIONS
        .split_whitespace()
        .filter_map(|row| row.split_once(':'))
        .find(|(function, _)| *function == rest);
    if let Some((function, header)) = function {
        return Some(format!(
            "if c.function_exists(\"{function}\", [\"{header}\"], [\"-D_GNU_SOURCE\"]) then \"1\" else none"
        ));
    }
    Some(match header_named(rest) {
        Some(header) => format!("if c.header_exists(\"{header}\") then \"1\" else none"),
        // What may be a function is one if it can be linked.
        None => format!("if c.symbol_links(\"{rest}\") then \"1\" else none"),
    })
}

/// What is filled in for a name in a template: a version of the project, or a number that says
/// whether the machine has something.
pub(super) fn hole_answer(tree: &SourceTree, name: &str) -> Option<String> {
    let project = without_punctuation(crate::without_version(&tree.name()));
    let known = |rest: &str| {
        rest.is_empty()
            || ["PACKAGE", "PROJECT"].contains(&rest)
            || without_punctuation(rest) == project
    };
    let is_version = VERSIONS.iter().any(|version| {
        name.strip_suffix(version)
            .is_some_and(|rest| known(rest.strip_suffix('_').unwrap_or(rest)))
    });
    if is_version {
        let value = version_value(tree, name)?;
        return Some(quoted(value.trim_matches('"')));
    }
    let asked = name.strip_suffix("_01").unwrap_or(name);
    let code = answer(asked.starts_with("HAVE_").then_some(asked)?)?;
    Some(code.replace("else none", "else \"0\""))
}

/// Letters and digits, in lower case: how names of projects are compared.
fn without_punctuation(name: &str) -> String {
    name.chars()
        .filter(char::is_ascii_alphanumeric)
        .map(|letter| letter.to_ascii_lowercase())
        .collect()
}

/// How names of versions end, the longer ones first.
const VERSIONS: [&str; 8] = [
    "VERSION_MAJOR",
    "VERSION_MINOR",
    "VERSION_PATCH",
    "VERSION_MICRO",
    "MAJOR_VERSION",
    "MINOR_VERSION",
    "PATCH_VERSION",
    "VERSION",
];

/// What a template defines a name as: what it says itself, or what is usually filled in.
fn written_answer(tree: &SourceTree, name: &str, written: &str) -> Option<String> {
    let is_filled = written.contains('@') || written.contains("${");
    if !is_filled {
        // What follows a comment or goes on in the next line is more than a value.
        let is_value = !written.is_empty() && !written.contains("/*") && !written.ends_with('\\');
        return is_value.then(|| quoted(written));
    }
    if name.ends_with("INLINE") {
        return Some("\"inline\"".to_owned());
    }
    if name.ends_with("LONG_LONG") {
        return Some("\"1\"".to_owned());
    }
    // All of it is one hole, which has a name of its own.
    let plain = written.trim_matches('"');
    if let Some(hole) = Regex::new(HOLES).ok()?.captures(plain)
        && hole[0] == *plain
        && let Some(code) = hole
            .get(1)
            .or(hole.get(2))
            .and_then(|name| hole_answer(tree, name.as_str()))
        && (plain == written || code.starts_with('"'))
    {
        return Some(if plain == written {
            code
        } else {
            quoted(&format!("\"{}\"", code.trim_matches('"')))
        });
    }
    let (_, rest) = name.split_once("HAVE_")?;
    Some(answer(&format!("HAVE_{rest}"))?.replace("else none", "else \"0\""))
}

/// The header behind a name such as `sys_time_h`.
fn header_named(name: &str) -> Option<String> {
    let stem = name.strip_suffix("_h")?;
    let folders = ["sys", "net", "netinet", "arpa", "linux", "asm"];
    Some(match stem.split_once('_') {
        Some((folder, rest)) if folders.contains(&folder) => format!("{folder}/{rest}.h"),
        _ => format!("{stem}.h"),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn templates_say_what_is_asked_and_what_is_so() {
        let mut template = Template::default();
        template.add(
            "#ifndef TIDE_H\n#define TIDE_H\n#define DEPTH 2048\n#define TIDE_INLINE @inline@\n#undef HAVE_FORK\n\
            #perhapsdefine HAVE_PIPE 1\n#ifdef FAST\n#define MODE 1\n#endif\n#define MY_HAVE_FORK @fork@\n#endif\n",
        );
        let tree = SourceTree::of(&[]);
        let answers: Vec<String> = template
            .names
            .iter()
            .filter_map(|(name, written)| {
                Some(format!("{name} {}", written_answer(&tree, name, written)?))
            })
            .collect();
        let fork = "MY_HAVE_FORK if c.function_exists(\"fork\", [\"unistd.h\"], [\"-D_GNU_SOURCE\"]) then \"1\" else \"0\"";
        assert_eq!(answers, ["DEPTH \"2048\"", fork, "TIDE_INLINE \"inline\""]);
        // Without a guard the first condition is one, too.
        let mut bare = Template::default();
        bare.add(
            "#undef HAVE_DUP\n#ifndef HAVE_DUP\n#  define dup own_dup\n#endif\n#define LAST 1\n",
        );
        assert_eq!(
            (bare.names["dup"].as_str(), bare.names["LAST"].as_str()),
            ("", "1")
        );
        assert!(template.names.contains_key("HAVE_PIPE") && template.names.contains_key("MODE"));
        assert!(!template.names.contains_key("TIDE_H"));
    }

    #[test]
    fn holes_are_filled_with_versions_of_the_project_and_answers_of_the_machine() {
        let notes = "Notes, for those who need 21.5 metres of rope or more, and for all others\n\n## [3.2] (May 4th)\n\n* 9.9\n";
        let tree = SourceTree::of(&[("CHANGELOG.md", notes)]);
        let of = |name: &str| hole_answer(&tree, name);
        assert_eq!(of("PROJECT_VERSION").as_deref(), Some("\"3.2\""));
        assert_eq!(of("SAMPLE_VERSION_MINOR").as_deref(), Some("\"2\""));
        assert_eq!(of("VERSION_PATCH").as_deref(), Some("\"0\""));
        // Another project's version, and a word that may mean anything.
        assert_eq!(
            (of("BOTTLE_VERSION"), of("WORD"), of("INVERSION")),
            (None, None, None)
        );
        let asked = "if c.header_exists(\"sys/uio.h\") then \"1\" else \"0\"";
        assert_eq!(of("HAVE_SYS_UIO_H_01").as_deref(), Some(asked));
        assert_eq!(
            written_answer(&tree, "X", "\"@VERSION@\"").as_deref(),
            Some("'\"3.2\"'")
        );
        assert_eq!(
            written_answer(&tree, "X", "${VERSION_MAJOR}").as_deref(),
            Some("\"3\"")
        );
        assert_eq!(written_answer(&tree, "X", "@VERSION@ or so"), None);
    }

    #[test]
    fn names_become_questions() {
        assert_eq!(
            answer("HAVE_SYS_TIME_H").as_deref(),
            Some("if c.header_exists(\"sys/time.h\") then \"1\" else none")
        );
        assert_eq!(
            answer("HAVE_STRLCPY").as_deref(),
            Some(
                "if c.function_exists(\"strlcpy\", [\"string.h\"], [\"-D_GNU_SOURCE\"]) then \"1\" else none"
            )
        );
        assert_eq!(
            answer("SIZEOF_LONG").as_deref(),
            Some("\"{c.type_size(\"long\", [])}\"")
        );
        assert_eq!(
            answer("HAVE_SETUID").as_deref(),
            Some("if c.symbol_links(\"setuid\") then \"1\" else none")
        );
        assert_eq!(answer("ENABLE_TIDES"), None);
        assert_eq!(answer("STDC_HEADERS").as_deref(), Some("\"1\""));
    }
}
