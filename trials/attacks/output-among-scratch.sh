# An output below `.scratch` is accepted and thrown away after the step.
. "$(cd "$(dirname "$0")" && pwd)/lib"
touch f; printf 'target t = step { run = [`touch {scratch "y"}`, `cp {in "f"} {out ".scratch/x"}`] }\n' > targets.nub
$NB build >$T/l 2>&1; r=$?; echo "  exit $r: $(head -1 $T/l)"
[ $r = 3 ] || [ -e out/default/t/.scratch/x ] && verdict 0 || verdict 1
