# Wrong result: a link to a folder, inside a declared folder, is pointed elsewhere: no part of the key, but steps see through it (also `current -> v1` beside the sources, and what `readlink` says).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
full() { rm -rf $T/w2; cp -a $T/ws $T/w2; rm -rf $T/w2/.nubrik $T/w2/out; (cd $T/w2; XDG_CACHE_HOME=$T/c-$RANDOM $NB build >$T/log2 2>&1; cat out/default/t/o); }
c() { $NB build >$T/log 2>&1 || sed 's/^/  /' $T/log; a=$(cat out/default/t/o | tr '\n' ' '); b=$(full| tr '\n' ' '); [ -n "$1" ] && { echo "  $1: incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] || v=1; }; }
mkdir -p d/v1 d/v2; echo one > d/v1/x; echo two > d/v2/x; ln -s v1 d/current
cat > targets.nub <<'N'
let d: folder = "d"
target t = step { run = `cat {d}/current/x > {out "o"}` }
N
c ""; ln -sfn v2 d/current; c "link to a folder inside a declared folder"
rm -rf .nubrik out; rm d/current; ln -s v1/x d/cur; printf 'readlink $1/cur > $2\n' > g.sh; cp d/v1/x d/v2/x
echo 'target t = step { run = `sh {in "g.sh"} {d} {out "o"}` }
let d: folder = "d"' > targets.nub
c ""; ln -sfn v2/x d/cur; c "text of a link, content equal"
# mode bits and empty folders of sources
rm -rf .nubrik out; rm d/cur; printf 'find $1 -type d | LC_ALL=C sort > $2\n' > g.sh
c ""; mkdir d/v3; c "empty folder appears in a declared folder"
printf 'stat -c %%a $1/v1/x > $2\n' > g.sh; chmod 644 d/v1/x; c ""; chmod 600 d/v1/x; c "mode 644 -> 600 of a source"; chmod 654 d/v1/x;  c "mode 600 -> 654"
echo ' (a nested package in a declared folder:)'; mkdir d/pk; echo 'target z = write { path = "q", text = "q" }' > d/pk/targets.nub; echo one > d/pk/f; printf 'cat $1/pk/f > $2\n' > g.sh; c ""; echo two > d/pk/f; c "file of a package below"
verdict $v
