# Misleading: when the reader of the output goes away, the build is given up in the middle and the exit code is 0.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > targets.nub <<'N'
target a = {each n in ["1","2","3","4","5","6"] give n: step { run = [`sleep 0.3`, `touch {out "o"}`] }}
target z = step { run = `false {out "o"}`, reads = a }
N
$NB build -j1 2>&1 | head -1 >/dev/null; r=${PIPESTATUS[0]}
echo "  exit code $r, results there: $(ls out/default/a 2>/dev/null | wc -l) of 6; a full build: exit $($NB build >/dev/null 2>&1; echo $?)"
[ $r = 0 ] && verdict 1 || verdict 0
