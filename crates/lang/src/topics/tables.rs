//! What there is to know of declarations, types, expressions, holes and errors: name, what it is,
//! and an example.

pub(super) const DECLARATIONS: [(&str, &str, &str); 13] = [
    (
        "use",
        "Imports a kit, or names of one: kits that ship with nubrik (\"nub:c\"), of the workspace (\"/kit/flags.nub\") or beside the file (\"./flags.nub\").",
        "use \"nub:c\" as c\nuse { strict } from \"/kit/flags.nub\"",
    ),
    (
        "let",
        "A value, or with parameters a function; a function may not call itself.",
        "let stations = glob(\"stations/*.csv\")\nlet page_of(station: file): text = \"{station.stem}.html\"",
    ),
    (
        "type_declaration",
        "A name for a type, usually a record that several kinds give: `type name = …`.",
        "type station = { code: text, height: int }",
    ),
    (
        "kind",
        "A template for targets: parameters with types, values inside, and what it gives.",
        "kind page(source: file): { files: files } {\n    let made = step { run = `render {source} > {out \"{self.name}.html\"}` }\n    give { files = made }\n}",
    ),
    (
        "option",
        "A typed setting that you can change with `--set` or a profile; its default may use literals, `host` and other options only.",
        "## How much the compiler optimises.\noption mode: \"debug\" | \"release\" = \"debug\"",
    ),
    (
        "target",
        "Something that makes files: one step, a record of results, or a map or list of them.",
        "target tidecast = c.program { sources = \"main.c\" }",
    ),
    (
        "test",
        "Something with a verdict: a `check`, or a record, map or list of them; `nubrik test` runs those whose results are out of date.",
        "test tables_are_sorted = check { run = `sort -c {tables}` }",
    ),
    (
        "job",
        "Something that `nubrik run` runs for its effect, after what it uses is built; several effects in a list run in order.",
        "job install = effect { run = `install -m 755 {tidecast} /usr/local/bin/tidecast` }",
    ),
    (
        "service",
        "Something that runs while other things need it, such as a database: a `serve`, or a map of them. It is started before its first user and stopped after its last one; `nubrik run` runs it until you stop it.",
        "service board = serve { run = `redis-server --bind {self.address} --port {self.port}` }",
    ),
    (
        "private",
        "Keeps a declaration inside its package; in a kit outside of packages, inside the kit.",
        "private let flags = [\"-O2\"]",
    ),
    (
        "within",
        "Opens a declaration to only a part of the workspace.",
        "target tables within \"/tide/**\" = step { run = `tabulate > {out \"tables\"}` }",
    ),
    (
        "tagged",
        "Gives a target, test or job tags, so that `--tag` can select it.",
        "target survey tagged slow, nightly = step { run = `survey > {out \"survey\"}` }",
    ),
    (
        "documentation",
        "`##` comments directly above a declaration, or after a parameter, say what it is for: `list`, `show`, `options` and `explain` show them.",
        "## The printed almanac.\ntarget almanac = step { run = `bind > {out \"almanac.html\"}` }",
    ),
];

pub(super) const TYPES: [(&str, &str, &str); 18] = [
    ("bool", "`true` or `false`.", "let quick: bool = true"),
    (
        "int",
        "A whole number, from -9223372036854775808 to 9223372036854775807.",
        "let depth: int = 1_200",
    ),
    (
        "text",
        "Characters. A text that was made from files carries them, and can be used only with `+`, holes and `join`.",
        "let title: text = \"Tides\"",
    ),
    (
        "duration",
        "A length of time, written 250ms, 30s, 5min or 2h.",
        "let patience: duration = 30s",
    ),
    (
        "file",
        "A source file or an output; a text is taken as a path, relative to the package of the file in which it is written.",
        "let table: file = \"stations.csv\"",
    ),
    (
        "folder",
        "A source folder or one that a step makes.",
        "let charts: folder = \"charts\"",
    ),
    (
        "files",
        "Files in order without duplicates, the first one kept; a text with `*`, `?` or `[` is a glob.",
        "let sources: files = [\"src/*.c\", \"main.c\"]",
    ),
    (
        "list",
        "Items of one type, in order: `list[T]`. Any list but `list[text]` also takes a single item.",
        "let flags: list[text] = [\"-O2\", \"-g\"]",
    ),
    (
        "map",
        "Values by keys that are texts, in order: `map[T]`. An entry may use other entries.",
        "let depths: map[int] = { \"ardle\": 12 }",
    ),
    (
        "record",
        "Named fields, each of a type: `{ a: T, b: U }`. Records are compared by structure; more fields are allowed.",
        "let place: { code: text, depth: int } = { code = \"ardle\", depth = 12 }",
    ),
    (
        "alternatives",
        "One of some texts: `\"a\" | \"b\"`. A `match` over them must have a case for each.",
        "let mode: \"debug\" | \"release\" = \"debug\"",
    ),
    (
        "optional",
        "A value or `none`: `T?`. A parameter of such a type can be left out.",
        "let note: text? = none",
    ),
    (
        "command",
        "A command between backticks, as a value.",
        "let show: command = `cat {in \"a.txt\"}`",
    ),
    (
        "step_type",
        "A step, as a value of type `step`: its outputs are its files.",
        "let copy: step = step { run = `cp {in \"a\"} {out \"b\"}` }",
    ),
    (
        "check_type",
        "A check, as a value of type `check`: it gives a verdict, and its outputs are its files.",
        "let good: check = check { run = `sort -c {tables}` }",
    ),
    (
        "any",
        "Whatever a data file holds; only for values that were loaded.",
        "let settings: any = load_json(\"settings.json\")",
    ),
    (
        "declared_type",
        "A type that has a name from `type name = …`, in this file or in a kit: `station`, `c.linked`.",
        "let needs: list[c.linked] = []",
    ),
    (
        "coercion",
        "Values are converted where a type is written: parameters, fields of forms, annotated `let`s, results of functions and kinds. Only there does a text become a path, a step its one file, and a single item a list.",
        "let headers: files = \"include/*.h\"",
    ),
];

pub(super) const EXPRESSIONS: [(&str, &str, &str); 10] = [
    (
        "if",
        "One of two values; both `then` and `else` are needed.",
        "let flags = if quick then [\"-O0\"] else [\"-O2\"]",
    ),
    (
        "match",
        "The value of the first case that fits; alternatives are checked for completeness.",
        "let flags = match mode { \"debug\": [\"-g\"], \"release\": [\"-O2\"] }",
    ),
    (
        "each",
        "A list or a map made from the items of another one: from all of them, or from those that pass a test.",
        "let names = [each s in sources where s.ext == \"c\" give s.stem]\nlet pages = {each s in stations give s.code: page { source = s.table }}",
    ),
    (
        "with",
        "A copy of a record with some fields changed.",
        "let loud = quiet with { level = 3 }",
    ),
    (
        "under",
        "The same declaration or call with options set. Several variants can be part of one build; `under defaults` sets no options.",
        "target tools = tidecast under { mode = \"release\" }\ntarget generator = tidecast under defaults",
    ),
    (
        "in",
        "Whether a list has an item, a map a key, a text a part; `not in` is the opposite.",
        "let has_main = \"main.c\" in names",
    ),
    (
        "reference",
        "A target of another package: `&base/clock`, or `&\"odd.folder/x\"` where the path holds other characters.",
        "target tidecast = c.program { sources = \"main.c\", needs = &base/clock }",
    ),
    (
        "self",
        "In a kind: `self.name` is the last key or field on the way to the value, or else the target's name; `self.folder` is the package that uses the kind. In `serve`: `self.address` and `self.port` say where the service must listen.",
        "let made = step { run = `render > {out \"{self.name}.html\"}` }",
    ),
    (
        "sh",
        "A command for `/bin/sh -eu`, with every hole quoted; for what needs a shell. Tools that it starts count only if they are in holes.",
        "step { run = sh`for s in {stations}; do cat \"$s\"; done > {out \"all.csv\"}` }",
    ),
    (
        "path_join",
        "A file or folder below a folder: `folder / \"path\"`.",
        "let table = self.folder / \"table.csv\"",
    ),
];

pub(super) const HOLES: [(&str, &str, &str); 11] = [
    (
        "{in …}",
        "The path of a source file, or of all files that match a glob: inputs.",
        "`sort {in \"stations.csv\"}`",
    ),
    (
        "{out …}",
        "The path of an output; with a name where there are several: `{out page \"a.html\"}` is `x.page`.",
        "`render {out \"almanac.html\"}`",
    ),
    (
        "{outfolder …}",
        "The path of an output folder: everything that the command writes in it is the output.",
        "`unfold {outfolder \"pages\"}`",
    ),
    (
        "{early …}",
        "The path of an output file that others may use as soon as it is whole, while the step still runs: an interface that a compiler writes before it makes code. The step fails if it changes the file afterwards.",
        "`compile {source} --interface {early interface \"fit.if\"} -o {out object \"fit.o\"}`",
    ),
    (
        "{depfile …}",
        "The path of a file in which the command lists what it read, as compilers do: `reads` and folders in holes are then only candidates, and the listed files are the exact inputs.",
        "`cc -MD -MF {depfile \"main.d\"} -c {in \"main.c\"} -o {out \"main.o\"}`",
    ),
    (
        "{argfile …}",
        "The path of a file with one path per line, for commands with too many words; each file in it is an input.",
        "`ar rcs {out \"lib.a\"} @{argfile objects}`",
    ),
    (
        "{textfile …}",
        "The path of a file that holds a text: a name, then the text. What the text carries is an input.",
        "`render --settings {textfile \"settings.json\" settings.to_json} {out \"almanac.html\"}`",
    ),
    (
        "{scratch …}",
        "A path whose content is removed afterwards; it is the same for all commands of the step.",
        "`cc {source} -o {scratch \"tried\"}`",
    ),
    (
        "{scratchfolder …}",
        "The path of a folder that is there and empty, and is removed afterwards.",
        "`render --work {scratchfolder \"work\"} {out \"almanac.html\"}`",
    ),
    (
        "{keptfolder …}",
        "The path of a folder that the step finds again as it left it, when it runs the next time with the same command and tools; empty at first. For what a compiler keeps to be faster: it must not change results, and `nubrik build --observe` tells if it does.",
        "`check-types --cache {keptfolder \"cache\"} {sources} > {out \"types.txt\"}`",
    ),
    (
        "{value}",
        "A text, number, path or tool; a list becomes one word per item, an empty list or `none` becomes no word, and a list in the middle of a word repeats the word.",
        "`cc -I{folders} {flags} {sources} -o {out \"tidecast\"}`",
    ),
];

pub(super) const ERRORS: [(&str, &str, &str); 58] = [
    (
        "bad-data",
        "A data file does not fit its format or its declared type. The place shown is in the data file.",
        "a column `height: int` with the cell \"high\"",
    ),
    (
        "bad-glob",
        "A pattern cannot be read: `*` means a part of a name, `**` folders, `?` one character, `[ab]` one of several.",
        "\"src/[a.c\"",
    ),
    (
        "bad-key",
        "A key that is part of a target's path cannot be empty, hold `..`, or begin with `@` or `~`. Other keys can.",
        "{ \"../x\": … }",
    ),
    (
        "bad-name",
        "Names of declarations are small letters, digits and `_`, and begin with a letter.",
        "let TideTable = 1",
    ),
    (
        "bad-path",
        "A path leaves the workspace, has nothing to start from (in a kit), or names a result.",
        "{in \"../../secret\"}",
    ),
    (
        "builtin-name",
        "This name has a meaning in the language, so it cannot be declared.",
        "let step = 1",
    ),
    (
        "chained-comparison",
        "Comparisons cannot be chained: join two of them with `and`.",
        "1 < x < 3",
    ),
    (
        "bad-pattern",
        "A text is no regular expression. Groups, classes, repetitions and anchors are known; what would need going back in the text, such as a reference to a group, is not.",
        "name.matches('(unclosed')",
    ),
    (
        "cycle",
        "Something depends on itself, directly or through others. Each reference is shown once, with its line.",
        "target a = f(b), target b = f(a)",
    ),
    (
        "declared-twice",
        "Two declarations, fields, keys or options have one name.",
        "let a = 1, let a = 2",
    ),
    (
        "empty-command",
        "A command needs a program to start.",
        "run = ` `",
    ),
    (
        "demanded",
        "A kind or function demands something of what it is given, and says what.",
        "demand(stations.len > 0, \"a chart needs a station\", stations)   with no station",
    ),
    (
        "kept-observed",
        "A step that is `observed` cannot keep a folder: what its commands know from the last time they do not read again, and what they are not seen to read would not count.",
        "check { run = `check-types --cache {keptfolder \"cache\"} {sources}`, observed = true }",
    ),
    (
        "made-twice",
        "Two steps make the same path, or two results would have the same place in `out`.",
        "[each n in [1, 2] give step { run = `x > {out \"same\"}` }]",
    ),
    (
        "hole-in-document",
        "A hole is in a here-document of a shell, the text between `<<` and its end. The shell reads that text without quotes, and \
         would start commands that a value contains.",
        "a line `{place}` between `cat << END` and `END`",
    ),
    (
        "missing-field",
        "A field or parameter without a default was not given.",
        "c.program { }",
    ),
    (
        "shell-not-needed",
        "A warning of `nubrik lint`: words, holes, quotes, pipes and redirects need no shell, and without a shell each tool is known.",
        "sh`sort {stations} > {out \"x\"}`",
    ),
    (
        "dangling-link",
        "A warning of `nubrik lint`: a glob would mean a link that leads nowhere, and leaves it out.",
        "glob(\"*.txt\") beside a link `old.txt` to a file that is gone",
    ),
    (
        "odd-hole",
        "A warning of `nubrik lint`: a name in braces that is no hole, since the text is in single quotes, or a hole behind a `$`.",
        "'{mode}' and \"${mode}\" in place of \"{mode}\"",
    ),
    (
        "shared-files",
        "A warning of `nubrik lint`: globs of two targets share many files, but not all.",
        "glob(\"src/*.c\") in one target and glob(\"src/f*.c\") in another",
    ),
    (
        "unused",
        "A warning of `nubrik lint`: nothing uses a name, or no target reads an option.",
        "private let old_flags = [\"-O1\"]",
    ),
    (
        "no-case",
        "A `match` has no case for some value.",
        "match mode { \"debug\": 1 }",
    ),
    (
        "no-give",
        "A kind must give something.",
        "kind page(source: file) { }",
    ),
    (
        "no-library",
        "A library is not installed, or its .pc file cannot be used.",
        "system_library { names = \"zlib\" }",
    ),
    (
        "no-match",
        "A glob finds nothing. `or_none = true` allows that.",
        "glob(\"scr/*.c\")",
    ),
    (
        "no-output",
        "A step is run for its outputs, and this one names none.",
        "step { run = `echo x` }",
    ),
    (
        "no-pins",
        "`pins.toml` has nothing of a registry, or not for this system.",
        "pins_of(\"python\")",
    ),
    (
        "no-such-file",
        "A file or folder is not there.",
        "{in \"statoins.csv\"}",
    ),
    (
        "no-targets",
        "The workspace has no `targets.nub`.",
        "nubrik build in an empty workspace",
    ),
    (
        "no-tool",
        "A program is in no folder of the search path.",
        "tool { names = \"python9\" }",
    ),
    (
        "no-variable",
        "A variable of the environment is not set, and has no default.",
        "env(\"ALMANAC_HOST\")",
    ),
    (
        "no-version",
        "The version of a tool is known only if it was asked for.",
        "tool { names = \"cc\" }.version",
    ),
    (
        "no-files",
        "The files of a record are those of its field `files`, and this one has none.",
        "`cat {settings}`",
    ),
    (
        "not-here",
        "A form is used where it has no meaning.",
        "`self` outside of a kind",
    ),
    (
        "old-library",
        "A library is older than `at_least`.",
        "system_library { names = \"zlib\", at_least = \"99\" }",
    ),
    (
        "old-tool",
        "A tool is older than `at_least`.",
        "tool { names = \"python3\", at_least = \"9\" }",
    ),
    (
        "option-value",
        "A value from outside does not fit an option's type.",
        "--set mode=fast",
    ),
    (
        "out-of-range",
        "A list has no item of this number, or a number is too small or too large.",
        "[1, 2][5]",
    ),
    (
        "private",
        "A declaration is kept inside its package, or open to a part of the workspace only.",
        "&tide/hidden from another package",
    ),
    (
        "sample-failed",
        "A sample's command failed. `may_fail = true` makes a failure an answer.",
        "sample { run = `git rev-parse HEAD` } where there is no repository",
    ),
    (
        "reserved-word",
        "A word of the language cannot be a name.",
        "let give = 1",
    ),
    (
        "probe-in-key",
        "All targets must be known without running anything, so the answer of a probe cannot decide keys.",
        "{each m in probe { … }.lines give m: …}",
    ),
    (
        "shadowed",
        "The name is already defined here: a name has one meaning.",
        "let a = 1, let f(a: int): int = a",
    ),
    (
        "shell-syntax",
        "Commands run without a shell: what only a shell understands is an error that says what to write instead.",
        "`a && b`",
    ),
    ("syntax", "The text does not fit the grammar.", "target = 1"),
    (
        "too-deep",
        "Definitions nest, or depend on one another, too deeply.",
        "((((((…))))))",
    ),
    (
        "too-large",
        "A text, list or number grows beyond the fixed limits: 16 MiB per text, 4 million items per list.",
        "a text that doubles itself 30 times",
    ),
    (
        "too-much-work",
        "Evaluation always ends: definitions that take too long are stopped.",
        "lists in lists in lists, a million items each",
    ),
    (
        "two-lists",
        "Two lists are in one word of a command: it is not clear which items belong together.",
        "`-I{folders}/{names}`",
    ),
    (
        "two-meanings",
        "The path of a target, or the name of an option, has two meanings: write the longer one.",
        "&base/clock with a package base/clock and a target clock in base",
    ),
    (
        "unclosed",
        "A text, command, hole or bracket is never closed. The place shown is where it was opened.",
        "let a = \"x",
    ),
    (
        "undeclared-made",
        "A command contains the path of what another step makes as plain text. A text carries no file: whether the command \
         finds anything there would depend on what was built before. Name the file itself, or declare it in `reads`.",
        "step { run = `cc -I{made.folder} …` } without `reads = made`",
    ),
    (
        "unknown-target",
        "There is no target with this path.",
        "nubrik build tide/tidcast",
    ),
    (
        "unknown-field",
        "A record, form, kind or function has no field or parameter of this name.",
        "c.program { source = \"main.c\" }",
    ),
    (
        "unknown-kit",
        "There is no kit at this path.",
        "use \"nub:fortran77\" as f",
    ),
    (
        "unknown-name",
        "This name is not defined here.",
        "target a = strcit",
    ),
    (
        "unknown-option",
        "No option has this name.",
        "--set mdoe=release",
    ),
    (
        "wrong-call",
        "Something is called with the wrong kind of brackets: kinds and forms take braces, functions round brackets.",
        "c.program(\"main.c\")",
    ),
];
