//! Words, states and variables that `nubrik explain` knows besides the language's own: name,
//! meaning, example.

pub(super) const STATES: [(&str, &str, &str); 6] = [
    (
        "ran",
        "Its commands ran in this build; the line says why they had to.",
        "ran       tide/harmonics   compile src/fit.c     0.41s  src/fit.c changed",
    ),
    (
        "current",
        "Its outputs are in place and correct: nothing that it depends on has changed.",
        "current   tide/harmonics   compile src/fit.c            nothing changed",
    ),
    (
        "reused",
        "Its outputs were taken from the results that are kept on this machine: the same inputs made them before, in this workspace or another one.",
        "reused    tide/harmonics   archive harmonics            not in this workspace yet",
    ),
    (
        "failed",
        "Its commands failed, did not make an output, or read what they do not declare; the lines below say more.",
        "failed    tide/tidecast    compile main.c        0.03s  exited with code 1",
    ),
    (
        "blocked",
        "It did not run because something that it needs failed.",
        "blocked   12 steps of tide/tidecast, tide/pages, almanac/contents, almanac/cover and 2 more",
    ),
    (
        "unstarted",
        "It did not start: the build was stopped, or a failure ended the build first. `--keep-going` continues with everything that can run.",
        "1 of 36 steps failed, 12 blocked, 4 unstarted, 19 current",
    ),
];

pub(super) const PLANS: [(&str, &str, &str); 4] = [
    (
        "run",
        "A step that would run its commands: its definition, an input or a tool changed, or it never ran.",
        "run       tide/harmonics   compile src/fit.c     0.08s  src/fit.c changed",
    ),
    (
        "maybe",
        "A step that depends on one that would run: if that one makes the same bytes as before, this one does not run.",
        "maybe     tide/tidecast    link tidecast         0.08s  if main.c.o of tide/tidecast changes",
    ),
    (
        "fail",
        "A step that cannot run: an input or a tool is not there. Steps that need it are `blocked`.",
        "fail      almanac/almanac   bind the almanac            ?  there is no tool catt on this machine",
    ),
    (
        "reuse",
        "A step whose result is kept on this machine for the same inputs: it would be put back.",
        "reuse     tide/tidecast    compile main.c            ?  failed last time",
    ),
];

pub(super) const WORDS: [(&str, &str, &str); 19] = [
    (
        "workspace",
        "The folder with a `nubrik.toml`, and all below it. Paths that begin with `/` begin there.",
        "nubrik init",
    ),
    (
        "package",
        "A folder with a `targets.nub`: its targets, and all files below it that belong to no other package.",
        "nubrik list tide",
    ),
    (
        "kit",
        "A file of definitions that other definition files use: one of the workspace, or one that ships with nubrik.",
        "use \"nub:c\" as c\nuse { ours } from \"/kit/flags.nub\"",
    ),
    (
        "target path",
        "How a target is named: its package and its name. On the command line it is relative to the current folder; in \
         definitions it has a `&` before it. `base/clock` is short for `base/clock/clock`.",
        "let needed = &tide/harmonics",
    ),
    (
        "targets.nub",
        "The file with the definitions of a package.",
        "nubrik fmt tide/targets.nub",
    ),
    (
        "nubrik.toml",
        "The file that makes a folder a workspace, with its settings.",
        "jobs = 4",
    ),
    (
        "out",
        "The folder of results: `out/default`, and `out/NAME` for the profile NAME. Results are copies: what steps read is below \
         `.nubrik/made`.",
        "nubrik build --profile ship   # results are in out/ship",
    ),
    (
        "operators",
        "`+` adds numbers and joins texts, lists, files and maps; `/` joins a folder and a text. `==`, `!=`, `<`, `<=`, `>` and `>=` \
         compare; `and`, `or` and `not` join conditions; `in` asks whether a list or map holds something.",
        "let wide = width > 80 and not plain",
    ),
    (
        "target",
        "Something that a definition gives a name. Tests, jobs and services are targets, too.",
        "nubrik list",
    ),
    (
        "key",
        "A digest of all that can decide a step's result: its command, the contents of its inputs, its tools with their parts, files of \
         the system. A result is current or reused only if its key is the same.",
        "nubrik why tide/tidecast",
    ),
    (
        "sandbox",
        "Where a step runs: it sees its inputs, its tools and the system's folders, and writes to its own folder. Where the kernel cannot \
         make one, path rules confine the step. `nubrik inside TARGET` opens a shell there.",
        "nubrik inside tide/tidecast",
    ),
    (
        "cache",
        "Results of all workspaces of this machine, by their keys. Going back to an earlier state runs nothing. `nubrik cache` shows its \
         size, `nubrik cache prune` makes it smaller.",
        "nubrik cache",
    ),
    (
        "shared cache",
        "A cache of results for a team: results that one machine made are downloaded by others. `[shared]` in nubrik.toml says where it is; each person trusts it \
         once.",
        "nubrik shared",
    ),
    (
        "variant",
        "What is made under other values of the options that it reads. Variants are kept beside each other, so that switching back runs \
         nothing.",
        "nubrik build --set mode=release",
    ),
    (
        "flaky",
        "A test that passed and failed with the same key: nothing that it depends on decides which. `quarantined` keeps its failures from \
         failing the build, and says why.",
        "nubrik test --repeat 20",
    ),
    (
        "dependency path",
        "The targets from one to another that it depends on.",
        "nubrik why tide/tidecast base/clock",
    ),
    (
        "worker",
        "A machine that runs steps for clients. `[workers]` in nubrik.toml names the server between them.",
        "nubrik workers serve",
    ),
    (
        "persistent worker",
        "A program that answers the commands of several steps: `answered_by`. It starts once instead of once per step.",
        "nubrik explain step",
    ),
    (
        "channel",
        "A named series of results in a shared cache, such as `main` or `stable`: `channels` in `[shared]` chooses the ones to use.",
        "export NUBRIK_SHARED_CHANNEL=stable",
    ),
];

/// Variables of the environment. A test compares them with those that the sources name.
pub(super) const VARIABLES: [(&str, &str, &str); 13] = [
    (
        "NUBRIK_AGREED",
        "What this machine agrees to, for machines without a person: the rows that `nubrik agree` prints, with `;` between them.",
        "export NUBRIK_AGREED=\"use the shared cache /store of ed25519:…\"",
    ),
    (
        "NUBRIK_ASK_CLIENTS",
        "`off`: no client of a registry is asked where it goes. Then addresses of registries come from settings alone.",
        "export NUBRIK_ASK_CLIENTS=off",
    ),
    (
        "NUBRIK_BELL",
        "`off`: no terminal title and no bell. By default, the title shows the progress of a build after 2 s, and the bell rings \
         after builds longer than 20 s.",
        "export NUBRIK_BELL=off",
    ),
    (
        "NUBRIK_CLIENT_CERTIFICATE",
        "The PEM file with the certificate of this machine and its key, for a shared cache and a server of workers that ask for \
         one; registries do not get it.",
        "export NUBRIK_CLIENT_CERTIFICATE=$HOME/.certificates/me.pem",
    ),
    (
        "NUBRIK_COLORS",
        "`terminal`: the 16 colours of your terminal. By default, colours that can be read on black and on white.",
        "export NUBRIK_COLORS=terminal",
    ),
    (
        "NUBRIK_COUNTS",
        "In steps, set by nubrik: the folder for counts of lines, by its path from the workspace's root (`counted_by`).",
        "nubrik test --coverage",
    ),
    (
        "NUBRIK_JOBS_KEY",
        "The file with the secret key of this machine as a client. Without it, nothing is sent to workers.",
        "export NUBRIK_JOBS_KEY=$HOME/mine.key",
    ),
    (
        "NUBRIK_LABELS",
        "Labels that steps can request with `machine`, separated by blanks.",
        "export NUBRIK_LABELS=tide-board",
    ),
    (
        "NUBRIK_SANDBOX",
        "`off` makes no sandboxes: path rules confine steps, as on a machine whose kernel cannot make sandboxes.",
        "NUBRIK_SANDBOX=off nubrik build",
    ),
    (
        "NUBRIK_SHARED_KEY",
        "The file with the secret key of this machine as a writer. Without it, results are only downloaded.",
        "export NUBRIK_SHARED_KEY=/run/keys/ci.key",
    ),
    (
        "NUBRIK_SHARED_CHANNEL",
        "The channel that results are uploaded to; by default `main`.",
        "export NUBRIK_SHARED_CHANNEL=stable",
    ),
    (
        "NUBRIK_SHARED_ROOT_KEY",
        "The root key of a shared cache that this machine trusts, for machines without a person.",
        "export NUBRIK_SHARED_ROOT_KEY=ed25519:47HhKluE8bw1TPpEvWLq3rdAO5GjzXer1VTXs7MA0zw",
    ),
    (
        "NUBRIK_WORKER_KEY",
        "The file with the secret key of a worker, which signs the results of its steps.",
        "NUBRIK_WORKER_KEY=worker.key nubrik workers serve",
    ),
];
