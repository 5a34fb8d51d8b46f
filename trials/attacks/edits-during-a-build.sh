# Edits while a build runs: A is read and done, B is slow; A's source, a definition, a data file, a glob's folder change meanwhile. The next build must see it.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
mkdir src
reset() { rm -rf .nubrik out; echo one > a.txt; echo one > src/1.txt; rm -f src/2.txt; printf 'k,v\na,one\n' > d.csv
cat > targets.nub <<'N'
target a = step { run = `cp {in "a.txt"} {out "o"}` }
target g = step { run = `cat {glob("src/*.txt")} > {out "o"}` }
let rows = load_csv("d.csv")
target w = write { path = "w", text = [each r in rows give r.v].join(",") }
target t = write { path = "o", text = "one" }
target slow = step { run = `sleep 1.5`, makes = { "m": "m" } }
N
sed -i 's/target slow.*/target slow = step { run = [`sleep 1.5`, `touch {out "s"}`] }/' targets.nub; sleep 0.05; }
sum() { cat out/default/a/o out/default/g/o out/default/w/w out/default/t/o | tr '\n' ' '; }
for edit in 'echo two > a.txt' 'echo two > src/1.txt' 'echo two > src/2.txt' 'printf "k,v\na,two\n" > d.csv' 'sed -i s/\"one\"/\"two\"/ targets.nub' 'echo two > x && mv x a.txt' 'rm src/1.txt; echo three > src/3.txt'; do
 for state in cold warm; do
  reset; [ $state = warm ] && { $NB build >$T/log 2>&1; sed -i 's/sleep 1.5/sleep 1.6/' targets.nub; }
  $NB build >$T/log 2>&1 & p=$!; sleep 0.8; eval "$edit"; wait $p; $NB build >$T/log 2>&1; a=$(sum); rm -rf .nubrik out; XDG_CACHE_HOME=$T/c-$RANDOM$RANDOM $NB build >$T/log 2>&1; b=$(sum)
  echo "  $state, $edit: incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] || v=1
 done
done
verdict $v
