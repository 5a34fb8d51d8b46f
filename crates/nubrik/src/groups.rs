//! The page of `nubrik --help`.

/// The commands by what they are for. A test compares them with those that there are.
pub const GROUPS: &str = "\
{about}

{usage-heading} {usage}

Build
  build    Build targets
  test     Run tests whose results are out of date, after building what they need
  run      Build a program, job or service and run it in this terminal
  watch    Build, test or run again whenever a file changes
  clean    Remove results; never needed for a correct build

Look
  list     List targets, tests and jobs by package
  show     Show all about one target
  tree     Show what a target depends on
  graph    Draw what depends on what
  explore  Browse targets, graphs, builds and tests in a web browser
  sbom     Write a bill of materials (SBOM) of a target: the third-party packages in it
  options  List the options that can be set, and who reads them

Understand
  plan     Say what a build would run, and why, without building
  why      Say why a target would run now or why it last ran, or how one depends on another
  history  List the last builds, or the steps of one of them
  report   Write a report of a build or of all tests: a page, Markdown, JUnit XML, a trace
  inside   Open a shell in a step's folder, environment and sandbox
  explain  Explain a form, a kind, an error, a setting, a command, a word
  doctor   Say which tools and libraries are installed, and what to install

Write
  init     Write a first `nubrik.toml` and `targets.nub` in this folder
  adopt    Look at a folder of sources, propose definitions for it, and try them
  demo     Unpack the demo workspace, build it, run it, and say what to try
  pins     List third-party packages with their exact versions, and change them
  image    Push an image to a registry
  fmt      Format definition files
  lint     Check all definitions, without building
  lsp      Answer an editor over the language server protocol
  setup    Print shell completions, or write manual pages

Keep
  cache    Show the size of this machine's cache, verify or prune it
  agree    Say what this workspace asks to use and to send where, and agree to it
  shared   Show, trust and manage the team's shared cache
  workers  List the workers of this workspace, or make this machine one

Everywhere
{options}

A TARGET is written as its package and name (tide/tidecast), or as a glob of these (tide/**).
`nubrik COMMAND --help` explains a command.
";
