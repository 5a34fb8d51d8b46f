# Long names: a result of 251 to 254 bytes is published once and can never be replaced.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
for n in 240 249 250 251 252 253 254 255; do rm -rf .nubrik out; name=$(printf 'x%.0s' $(seq 1 $n))
 echo "target t = write { path = \"$name\", text = \"1\" }" > targets.nub; $NB build >$T/l 2>&1; r1=$?; sed -i 's/text = "1"/text = "2"/' targets.nub; $NB build >$T/l 2>&1; r2=$?; c=$(cat out/default/t/$name 2>/dev/null); echo "  name of $n bytes: first build exit $r1, second exit $r2, result '$c' $([ $r2 != 0 ] && grep -m1 -e notice -e cannot $T/l | sed 's/x\{20,\}/x…/g' | cut -c1-150)"; [ $r1 = 0 -a "$c" != 2 ] && v=1; done
# Paths of thousands of bytes
p=d; while [ ${#p} -lt 1900 ]; do p=$p/dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd; done
rm -rf .nubrik out targets.nub; mkdir -p $p; echo 'target t = step { run = `cp {in "f"} {out "o"}` }' > $p/targets.nub; echo hi > $p/f; $NB build >$T/l 2>&1; echo "  package at a path of 1,900 bytes: exit $? $(head -c 300 $T/l | tr '\n' ' ' | sed 's/d\{20,\}/d…/g;s/\(d…\/\)\{3,\}/d…\//g' | cut -c1-200)"
while [ ${#p} -lt 3800 ]; do p=$p/dddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddddd; done
rm -rf .nubrik out; rm -rf d; mkdir -p $p 2>/dev/null; (cd $p && echo 'target t = step { run = `cp {in "f"} {out "o"}` }' > targets.nub; echo hi > f);  $NB build >$T/l 2>&1; echo "  package at a path of 3,800 bytes: exit $? $(head -c 3000 $T/l | tr '\n' ' ' | sed 's/d\{20,\}/d…/g;s/\(d…\/\)\{3,\}/d…\//g' | cut -c1-200)"; $NB build >$T/l 2>&1; echo "     again: $?"
python3 - <<'P'
import os
d=os.open('.',os.O_RDONLY)
for i in range(80):
    os.mkdir('q'*60,dir_fd=d); d=os.open('q'*60,os.O_RDONLY,dir_fd=d)
f=os.open('targets.nub',os.O_CREAT|os.O_WRONLY,dir_fd=d); os.write(f,b'target t = write { path = "x", text = "y" }\n')
P
timeout 20 $NB list >$T/l 2>&1; echo "  package at a path of 4,900 bytes: list exit $? $(head -c 300 $T/l | cut -c1-150)"
timeout 20 $NB lint >$T/l 2>&1; echo "     lint exit $? $(head -1 $T/l | cut -c1-150)"
verdict $v
