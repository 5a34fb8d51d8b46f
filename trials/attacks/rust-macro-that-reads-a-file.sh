# The kit of Rust: a procedural macro that reads a file of the crate, or lists a folder, as many do (templates, queries, translations, grammars). The compiler does not list it,
# so an edit of it compiles nothing; nothing is said, though the file is declared and was read.
. "$(cd "$(dirname "$0")" && pwd)/lib"
command -v rustc > /dev/null || { echo "skipped: there is no rustc"; exit; }
mkdir -p mac/src mid/src prog/src prog/words; cat > mac/src/lib.rs <<'R'
extern crate proc_macro; use proc_macro::TokenStream;
fn own(name: &str) -> String { format!("{}/{name}", std::env::var("CARGO_MANIFEST_DIR").unwrap()) }
#[proc_macro] pub fn read(_: TokenStream) -> TokenStream { format!("{:?}", std::fs::read_to_string(own("table.txt")).unwrap()).parse().unwrap() }
#[proc_macro] pub fn list(_: TokenStream) -> TokenStream { let mut all: Vec<_> = std::fs::read_dir(own("words")).unwrap().map(|e| e.unwrap().file_name().into_string().unwrap()).collect(); all.sort(); format!("{:?}", all.join(" ")).parse().unwrap() }
R
echo 'pub use mac::{list, read};' > mid/src/lib.rs; echo 'fn main() { print!("{} {} {}", mid::read!(), mid::list!(), include_str!("../../notes.txt")); }' > prog/src/main.rs; echo one > prog/table.txt; echo > prog/words/a; echo calm > notes.txt
cat > targets.nub <<'N'
use "nub:rust" as rust
target mac = rust.library { source = "mac", macros = true }
target mid = rust.library { source = "mid", needs = mac }
private target prog = rust.program { source = "prog", needs = mid, included = "notes.txt" }
target shown = step { run = `{prog} > {out "o"}` }
N
printf '[profiles]\nquick = { incremental = true }\n' > nubrik.toml
# The libraries hold the path of the workspace: what is shown is compared.
for profile in "" "--profile quick"; do
  echo one > prog/table.txt; rm -f prog/words/b
  out=out/default/shown/o; [ -z "$profile" ] || out=out/quick/shown/o
  check() { "$NB" build $profile -q shown > $T/l 2>&1 || { cat $T/l; echo "the build fails: no verdict"; exit 2; }; [ "$(tr '\n' ' ' < $out)" = "$1" ] && echo "same     $2 $profile" || { echo "WRONG    $2 $profile: $(cat $out)"; bad=1; }; }
  check "one  a calm " "first"; echo two > prog/table.txt; check "two  a calm " "the file that the macro reads is edited"; echo > prog/words/b; check "two  a b calm " "a file more in the folder that it lists"; echo storm > notes.txt; check "two  a b storm " "a file outside of the crate is edited"; echo calm > notes.txt
done
end
