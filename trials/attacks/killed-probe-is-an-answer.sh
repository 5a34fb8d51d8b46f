# A probe with `may_fail = true` that is killed (out of memory, by a person) counts as one that failed: "no, there is none" is kept in the workspace and in the store for good.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 1 > src
cat > targets.nub <<'N'
let has = probe { run = `sh -c "sleep 4; test -s {in "src"}"`, may_fail = true }.ok
target t = write { path = "o", text = if has then "yes\n" else "no\n" }
N
# Other attacks go on beside it: it is found when it is there.
"$NB" build > $T/l 2>&1 & p=$!; q=; for _ in $(seq 100); do for d in /proc/[0-9]*; do [ "$(tr '\0' ' ' < $d/cmdline 2>/dev/null)" = "sleep 4 " ] || continue; s=$(awk '/^PPid/{print $2}' $d/status); tr '\0' ' ' < /proc/$s/cmdline | grep -q 'test -s src' && q="$q $s"; done; [ -z "$q" ] || break; sleep .1; done
[ -n "$q" ] || { echo "the probe was not found"; kill $p; exit 2; }
kill -9 $q; wait $p; f() { find out/default -type f ! -name .gitignore -exec cat {} +; }
echo "exit $?; killed once: $(f)"; "$NB" build > $T/l 2>&1; echo "built again: $(f), $(tail -3 $T/l | head -1)"; a=$(f); rm -rf .nubrik out; "$NB" build > $T/l 2>&1; b=$(f); echo "in another workspace, by the store: $b"
[ "$a" = yes ] && [ "$b" = yes ] || bad=1
end
