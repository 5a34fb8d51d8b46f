# Memory without bound, or a hang, before anything is built: definition, settings, data or ignore file that is a link to a device or a named pipe (a checkout can hold such links).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
try() { # label, command
  ( ulimit -v 4000000; exec timeout -k 1 10 $NB $2 >$T/log 2>&1 ); r=$?
  case $r in 124|137) echo "  $1: hangs ($r)"; v=1;; 134|101) echo "  $1: crash, 4 GB were not enough ($r): $(grep -v '^$' $T/log | head -1 | cut -c1-120)"; v=1;; *) echo "  $1: $r $(head -1 $T/log | cut -c1-100)";; esac
}
echo 'target a = write { path = "x", text = "y" }' > ok.nub
ln -sf /dev/zero targets.nub; try "targets.nub -> /dev/zero, list" list
rm targets.nub; mkfifo targets.nub; try "targets.nub is a pipe, list" list
rm targets.nub; cp ok.nub targets.nub
rm nubrik.toml; ln -s /dev/zero nubrik.toml; try "nubrik.toml -> /dev/zero, list" list; rm nubrik.toml
touch nubrik.toml; ln -s /dev/zero .gitignore; try ".gitignore -> /dev/zero, list" list; rm .gitignore
mkfifo .gitignore; try ".gitignore is a pipe, list" list; rm .gitignore
ln -s /dev/zero d.json; echo 'target a = write { path = "x", text = "{load_json("d.json").a}" }' > targets.nub; try "load_json of a link to /dev/zero, list" list; try "load_json of a link to /dev/zero, build" build
echo 'target a = write { path = "x", text = load_lines("d.json").join(",") }' > targets.nub; try "load_lines of a link to /dev/zero, build" build
rm d.json; mkfifo d.json;  try "load_lines of a pipe, build" build
rm d.json; mkfifo d.json; echo 'target a = step { run = `cp {in "d.json"} {out "x"}` }' > targets.nub;  try "source is a pipe, build" build
verdict $v
