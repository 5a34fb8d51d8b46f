# An undeclared header appears in an earlier include folder (ignored by git, or not matched by the glob): the incremental build is content, a build from nothing fails. And a system header that shadows another.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; mkdir inc1 inc2; echo '#define V "2"' > inc2/x.h; printf '#include <stdio.h>\n#include "x.h"\n#include <nbattack.h>\nint main(void){puts(V);puts(S);return 0;}\n' > m.c
cat > $T/i.sh <<S
mount -t tmpfs none /usr/local/include; mkdir -p $T/sys; echo '#define S "old"' > $T/sys/nbattack.h
mount -t overlay overlay -o lowerdir=/usr/include,upperdir=$T/up,workdir=$T/wk /usr/include 2>/dev/null || echo no overlay
cp $T/sys/nbattack.h /usr/include/
echo 'target p = step { run = \`cc -Iinc1 -Iinc2 -MD -MF {depfile "m.d"} {in "m.c"} -o {out "p"}\`, reads = "inc2/*.h" }' > targets.nub
$NB build >$T/l 2>&1; out/default/p | tr '\n' ' '
echo '#define S "new"' > /usr/local/include/nbattack.h
$NB build >$T/l 2>&1; a=\$(out/default/p | tr '\n' ' '); rm -rf .nubrik out; XDG_CACHE_HOME=$T/c2 $NB build >$T/l 2>&1; b=\$(out/default/p| tr '\n' ' '); echo; echo "  a system header that shadows another appears: incremental '\$a' from nothing '\$b'"; [ "\$a" = "\$b" ] || touch $T/bad
printf '#if __has_include(<nbother.h>)\nint has=1;\n#else\nint has=0;\n#endif\n#include <stdio.h>\nint main(void){puts(has?"has":"has not");}\n' > m.c; sed -i 's/, reads = "inc2.*.h"//' targets.nub
XDG_CACHE_HOME=$T/c4 $NB build >$T/l 2>&1; echo > /usr/local/include/nbother.h; XDG_CACHE_HOME=$T/c4 $NB build >$T/l 2>&1; a=\$(out/default/p); rm -rf .nubrik out; XDG_CACHE_HOME=$T/c5 $NB build >$T/l 2>&1; b=\$(out/default/p); echo "  __has_include(<system header>), package installed later: incremental '\$a' from nothing '\$b'"; [ "\$a" = "\$b" ] || touch $T/bad
printf '#include <stdio.h>\n#include "x.h"\nint main(void){puts(V);return 0;}\n' > m.c; sed -i 's/ }\$/, reads = "inc2\/*.h" }/' targets.nub; $NB build >$T/l 2>&1
echo '#define V "1"' > inc1/x.h;  $NB build >$T/l 2>&1; r1=\$?; rm -rf .nubrik out; XDG_CACHE_HOME=$T/c3 $NB build >$T/l 2>&1; r2=\$?; echo "  undeclared header in front: incremental exit \$r1, from nothing exit \$r2"; [ \$r1 = \$r2 ] || touch $T/bad
S
mkdir $T/up $T/wk; unshare -m bash $T/i.sh; [ -e $T/bad ] && v=1; verdict $v
