# Wrong result: what a tool loads or starts, what runs a script of the workspace, and what a script between backticks starts, are no part of the key.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; P=$T/px; mkdir -p $P/bin $P/lib; export PATH=$P/bin:$PATH
tool() { printf '#!/bin/sh\n%s\n' "$2" > $P/bin/$1; chmod +x $P/bin/$1; }
cmp2() { $NB build >$T/log 2>&1 || sed 's/^/  /' $T/log; a=$(cat out/default/t/o); rm -rf $T/w2; mkdir $T/w2; cp -r $(ls -A | grep -v -e '^out$' -e '^.nubrik$') $T/w2; b=$(cd $T/w2; XDG_CACHE_HOME=$T/c-$RANDOM $NB build >$T/log2 2>&1; cat out/default/t/o); [ -n "${2:-}" ] && { echo "  $1: incremental '$a' from nothing '$b'"; [ "$a" = "$b" ] || v=1; }; }
# a) a shared library of a tool
printf 'int f(void){return 1;}\n' > $T/f.c; cc -shared -fPIC -o $P/lib/libf.so $T/f.c
printf '#include <stdio.h>\nint f(void);int main(void){printf("%%d\\n",f());return 0;}\n' > $T/m.c; cc -o $P/bin/ftool $T/m.c -L$P/lib -lf -Wl,-rpath,$P/lib
echo 'target t = step { run = `ftool > {out "o"}` }' > targets.nub
cmp2 ""; sed -i s/1/2/ $T/f.c; cc -shared -fPIC -o $P/lib/libf.so $T/f.c; cmp2 "shared library of a tool" 1
# b) a helper that a tool (a script) starts
rm -rf .nubrik out; tool helper 'echo one'; tool front "exec $P/bin/helper"
echo 'target t = step { run = `front > {out "o"}` }' > targets.nub
cmp2 ""; tool helper 'echo two'; cmp2 "program that a tool starts" 1
# c) a module of an interpreter's tool
rm -rf .nubrik out; echo 'V="one"' > $P/lib/mod.py; printf '#!/usr/bin/python3\nimport sys; sys.path.insert(0,"%s"); sys.dont_write_bytecode=True; import mod; print(mod.V)\n' $P/lib > $P/bin/pt; chmod +x $P/bin/pt
echo 'target t = step { run = `pt > {out "o"}` }' > targets.nub
cmp2 ""; echo 'V="two"' > $P/lib/mod.py; cmp2 "module that a tool loads" 1
# d), e), f) need /usr/local to be ours: a mount namespace
cat > $T/inner.sh <<'S'
mount -t tmpfs none /usr/local; mkdir /usr/local/bin
tl() { printf '#!/bin/sh\n%s\n' "$2" > /usr/local/bin/$1; chmod +x /usr/local/bin/$1; }
S
cat > $T/d.sh <<S
. $T/inner.sh
cd $T/ws; rm -rf .nubrik out
one() { \$(:); XDG_CACHE_HOME=\$1 $NB build >$T/log 2>&1 || cat $T/log; cat out/default/t/o; }
printf '#!/usr/local/bin/interp\nx\n' > s; chmod +x s
tl interp 'echo one'
echo 'target t = step { run = \`{in "s"} > {out "o"}\` }' > targets.nub
one $T/cd >/dev/null; tl interp 'echo two'; i=\$(one $T/cd); rm -rf .nubrik out; f=\$(one $T/cd2); echo "  interpreter of a script of the workspace: incremental '\$i' from nothing '\$f'"
rm -rf .nubrik out; tl mytool 'echo one'
echo 'target t = step { run = sh\`mytool > {out "o"}\` }' > targets.nub
one $T/ce >/dev/null; tl mytool 'echo two'; i=\$(one $T/ce); rm -rf .nubrik out; f=\$(one $T/ce2); echo "  tool named in sh\`…\`: incremental '\$i' from nothing '\$f'"
S
unshare -m bash $T/d.sh > $T/dout; cat $T/dout; grep -q "'one' from nothing 'two'" $T/dout && v=1
verdict $v
