# A library is installed that the linker finds before the one it took: libX.so beside libX.a, or one in an earlier folder. Links are not made anew (headers of the system that shadow
# others are noticed since the last time). Needs the superuser: a /usr/local of its own.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > $T/in <<'S'
mount -t tmpfs none /usr/local; mkdir -p /usr/local/lib /usr/local/include
lib() { echo "const char *nbq(void) { return \"$1\"; }" > $T/q.c; case $2 in *.a) gcc -c -o $T/q.o $T/q.c; rm -f $2; ar rcs $2 $T/q.o;; *) gcc -shared -fPIC -o $2 $T/q.c;; esac; }
lib "the static one" /usr/local/lib/libnbq.a
printf '#include <stdio.h>\nconst char *nbq(void); int main(void){ puts(nbq()); return 0; }\n' > m.c
cat > targets.nub <<'N'
use "nub:c" as c
private target prog = c.program { sources = "m.c", link_flags = ["-L/usr/local/lib", "-lnbq"] }
target shown = step { run = sh`{prog} > {out "o"} 2>&1 || true`, env = { "LD_LIBRARY_PATH": "/usr/local/lib" } }
N
f() { find out/default/shown* -type f ! -name .gitignore -exec cat {} +; }
"$NB" build > $T/l 2>&1 || { cat $T/l; exit 2; }; echo "first: $(f)"
lib "the shared one" /usr/local/lib/libnbq.so; "$NB" build > $T/l 2>&1; a=$(f); echo "libnbq.so is installed beside libnbq.a: $a; it said: $(grep -v '^$' $T/l | head -1)"
rm -rf .nubrik out; XDG_CACHE_HOME=$T/fx "$NB" build > $T/l 2>&1; b=$(f); echo "from nothing: $b"; [ "$a" = "$b" ]
S
export T NB; unshare -m bash $T/in; r=$?; [ $r = 2 ] && exit 2; [ $r = 0 ] || bad=1
end
