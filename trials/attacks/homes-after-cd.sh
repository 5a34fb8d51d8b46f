# HOME and TMPDIR of a step are `/proc/self/cwd/…`: they break as soon as a program changes its folder (also inside `mkdir -p`).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; mkdir sub; echo 'int main(void){return 0;}' > sub/m.c
t() { rm -rf .nubrik out; echo "target t = step { run = $2, reads = \"sub/m.c\" }" > targets.nub; $NB build >$T/l 2>&1; r=$?; echo "  $1: exit $r $([ $r = 0 ] || sed -n '/printed/,$p' $T/l | sed -n 2p | cut -c1-150)"; [ $r = 0 ] || v=1; }
t 'mkdir -p $TMPDIR/a/b' 'sh`mkdir -p "$TMPDIR/a/b"; touch {out "o"}`'
t 'mkdir -p $HOME/.cache/x' 'sh`mkdir -p "$HOME/.cache/x"; touch {out "o"}`'
t 'cd sub; mktemp' 'sh`touch {out "o"}; cd sub; mktemp`'
t 'cd sub; cc m.c (its temporary files)' 'sh`touch {out "o"}; cd sub; cc -c m.c -o /dev/null`'
t 'sort that needs temporary files, in another folder' 'sh`touch {out "o"}; cd sub; seq 300000 | sort -S 1M > /dev/null`'
verdict $v
