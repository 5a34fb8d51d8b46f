# More writes and deletes through links that a confined step leaves in its own folder: the verdict of a check, the exit code of a probe, an output that is taken (`makes`).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; reset() { rm -rf .nubrik out; echo precious > $T/victim; mkdir -p $T/vd; echo precious > $T/vd/f; }
reset; echo 'test t = check { run = `sh {in "l.sh"} {out "o"}` }' > targets.nub; echo 'touch $1' > l.sh; $NB test >$T/l 2>&1; find .nubrik/made -type f | sed 's/^/    /' 
V=$(find .nubrik/made -type f | grep -v '/o$' | head -1 | xargs basename); echo 'touch $1; ln -s '$T'/victim $(dirname $1)/'$V > l.sh; reset; $NB test >$T/l 2>&1; echo "  verdict of a check: victim holds '$(cat $T/victim)'"; grep -q precious $T/victim || v=1
reset; echo 'let s = probe { run = `sh {in "l.sh"}`, may_fail = true }
target w = write { path = "w", text = if s.ok then "y" else "n" }' > targets.nub; echo 'true' > l.sh; $NB build >$T/l 2>&1; find .nubrik/made -type f | sed 's/^/    /'
V=$(find .nubrik/made -type f -path '*s/*' | grep -v answer | head -1); echo 'ln -s '$T'/victim '$V'; exit 3' > l.sh; reset; $NB build >$T/l 2>&1; echo "  exit code of a probe: victim holds '$(cat $T/victim)'"; grep -q precious $T/victim || v=1
reset; echo 'target t = step { run = `sh {in "/l.sh"}`, makes = { "o": "o" } }' > targets.nub; echo 'ln -s '$T'/victim o' > l.sh; $NB build >$T/l 2>&1; echo "  makes: exit $?, $(cat out/default/t/o 2>/dev/null || cat out/default/t 2>/dev/null) (the victim's content as a result), victim mode $(stat -c %a $T/victim)"
verdict $v
