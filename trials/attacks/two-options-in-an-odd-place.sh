# Programs in C, C++, Fortran and Rust cannot be compiled, linked or started with two options set, in a folder with a blank, a comma, a quote, `;`, `%`, `@` and
# `=`, or where a key of a target holds signs that linkers give a meaning.
. "$(cd "$(dirname "$0")" && pwd)/lib"
for tool in g++ gfortran rustc; do command -v $tool > /dev/null || { echo "skipped: there is no $tool"; exit; }; done
odd="$T/ws/@it's a,b=c;d %e"; mkdir -p "$odd/pack"; mv nubrik.toml "$odd"; cd "$odd"
cat > pack/targets.nub <<'N'
use "nub:c" as c
use "nub:fortran" as fortran
use "nub:rust" as rust
target libs = {each n in ["a,b", "c=d"] give n: c.shared_library { name = "low", sources = "low.c", headers = "low.h" }}
target tide = c.program { sources = "tide.cc", needs = libs["a,b"] }
test ebb = c.test_program { sources = "tide.cc", needs = libs["a,b"] }
target salt = fortran.program { sources = "salt.f90" }
target swell = rust.library { source = "swell" }
target wave = rust.program { source = "wave", needs = swell }
N
echo 'int low(void);' > pack/low.h; echo 'int low(void) { return 7; }' > pack/low.c
printf '#include <cstdio>\nextern "C" {\n#include "low.h"\n}\nint main() { printf("%%d\\n", low()); }\n' > pack/tide.cc
printf 'program salt\nprint *, 35\nend program\n' > pack/salt.f90
mkdir -p pack/wave/src pack/swell/src; echo 'pub fn high() -> i32 { 3 }' > pack/swell/src/lib.rs; echo 'fn main() { println!("{}", swell::high()) }' > pack/wave/src/main.rs
set_options() { { "$NB" build "$@" && "$NB" test "$@"; } > $T/log 2>&1 || { echo "with $*:"; cat $T/log; bad=1; }; }
for sandboxes in on off; do
  export NUBRIK_SANDBOX=$sandboxes; [ $sandboxes = on ] && unset NUBRIK_SANDBOX
  set_options; set_options --set c.tuning=debug --set sanitize=undefined --set c.lto=true
  set_options --set rust.tuning=release --set rust.incremental=true; set_options --set rust.lto=true --set rust.incremental=true; set_options --set c.tuning=release --set c.coverage=true
done
find .nubrik/made -name '*[,=:;%" ]*' | grep . && { echo "odd names are left"; bad=1; }
end
