# An `observed` step that points a link of its own elsewhere and reads through it again: what it reads the second time is not noted,
# since the path was noted once as it was written.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src; echo a1 > src/a; echo b1 > src/b; echo 1 > src/n
echo 'cat src/n; for f in a b; do rm -f $TMPDIR/cur; ln -s $PWD/src/$f $TMPDIR/cur; cat $TMPDIR/cur; done' > t.sh
echo 'target t = step { run = `sh {in "t.sh"} > {out "o"}`, reads = [glob("src/*")], observed = true }' > targets.nub
both first; echo 2 > src/n; both "n is edited"; echo a2 > src/a; both "what the link led to first is edited"; echo b2 > src/b; both "what the link led to then is edited"
end
