# Wrong result: a file inside a published folder is edited or deleted by mistake; `nubrik build` says "nothing to run" and leaves it so (a lone file is put back).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
echo 'target d = step { run = [`mkdir {outfolder "d"}/s`, `cp {in "x"} {outfolder "d"}/s/x`, `cp {in "x"} {outfolder "d"}/y`] }' > targets.nub
cat > targets.nub <<'N'
target d = step { run = `sh {in "g.sh"} {in "x"} {outfolder "d"}` }
target s = stage { "s/x": "x", "y": "x" }
N
echo 'mkdir $2/s; cp $1 $2/s/x; cp $1 $2/y' > g.sh; echo right > x
$NB build >$T/log 2>&1; find out -type f | sed 's/^/  /'
chk() { $NB build >$T/log 2>&1; $NB build >>$T/log 2>&1; b=$(cat "$2" 2>&1); echo "  $1: after two builds: $b ($(head -1 $T/log | cut -c1-60))"; [ "$b" = right ] || v=1; rm -rf out; $NB build >/dev/null 2>&1; }
echo wrong > out/default/d/y; chk "edited, d/y" out/default/d/y
rm out/default/d/s/x; chk "deleted, d/s/x" out/default/d/s/x
rm out/default/d/y; chk "deleted, d/y" out/default/d/y
f=$(find out/default/s -name y); echo wrong > $f; chk "edited, stage $f" $f
verdict $v
