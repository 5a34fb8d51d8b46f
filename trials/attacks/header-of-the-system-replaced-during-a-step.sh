# A header of the system that a command lists is replaced while the command runs, after it was read (a package is upgraded): the result of the old one is kept with the digest of the new
# one, and stays. (Headers of the workspace are held against the time when the step began; needs the superuser: a /usr/local of its own.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > $T/in <<'S'
mount -t tmpfs none /usr/local; mkdir -p /usr/local/include; H=/usr/local/include/nbx.h
echo 'old' > $H; echo '#include <nbx.h>' > m.c
echo 'target listed = step { run = [`gcc -E -P -MD -MF {depfile "o.d"} {in "m.c"} -o {out "o"}`, `sleep 1.5`] }' > targets.nub
f() { find out/default -type f ! -name .gitignore -exec cat {} +; }
"$NB" build > $T/l 2>&1 & p=$!; sleep 1; echo 'new' > $H; wait $p; echo "built while the header was replaced: exit $?, $(f)"
sleep .1; "$NB" build > $T/l 2>&1; a="$(f)"; echo "built again: $a; it said: $(grep -v '^$' $T/l | head -1)"
rm -rf .nubrik out; "$NB" build > $T/l 2>&1; echo "in another workspace, from the store: $(f)"
rm -rf .nubrik out; XDG_CACHE_HOME=$T/fx "$NB" build > $T/l 2>&1; b="$(f)"; echo "from nothing: $b"; [ "$a" = "$b" ]
S
export T NB; unshare -m bash $T/in || bad=1
end
