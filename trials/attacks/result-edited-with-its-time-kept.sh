# A result, or something that a step made, is changed in place by a program that keeps size and time (`touch -r`, tools with -p, a restored copy written over it): the time of the last
# change of metadata, which tells, is not compared for what nubrik made itself. "Nothing to run", and it stays wrong; steps behind take the wrong bytes under the right key.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo right > src; cat > targets.nub <<'N'
target a = step { run = `cp {in "src"} {out "o"}` }
target b = step { run = sh`cat {a} {in "more"} > {out "o"}` }
N
echo 1 > more
ed() { touch -r "$1" $T/ref; chmod u+w "$1"; printf 'wrong\n' | dd of="$1" conv=notrunc status=none; [ -n "$2" ] && chmod "$2" "$1"; touch -r $T/ref "$1"; }
both first; o=$(find out/default/a* -type f ! -name .gitignore | head -1); m=$(stat -c %a "$o"); sleep .1; ed "$o" $m; both "a published result is changed, its time kept"
rm -rf .nubrik out; both "again"; sleep .1; f=$(find .nubrik/made/a -name o -type f); m=$(stat -c %a "$f"); ed "$f" $m; echo 2 > more; both "something made is changed, its time kept, and a step behind it runs"
rm -rf .nubrik out; "$NB" build > $T/l 2>&1; echo "another workspace, from the store: $(find out/default/b* -type f ! -name .gitignore -exec cat {} + | tr '\n' ' ')"
end
