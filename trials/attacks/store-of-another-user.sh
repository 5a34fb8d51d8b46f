# A store or workspace folder of another user, writable by all: is it trusted without a word?
. "$(cd "$(dirname "$0")" && pwd)/lib"
chown -R 12345 $T/cache; chmod -R 777 $T/cache; printf 'target a = write { path = "a", text = "A" }\ntarget b = write { path = "b", text = "B" }\n' > targets.nub
$NB build >$T/l 2>&1; rm -rf .nubrik out; chown -R 12345 $T/cache
# the other user plants a record
set -- $(find $T/cache/nubrik/store/v1/records -type f); setpriv --reuid 12345 --clear-groups sh -c "rm -f $2; cp $1 $2" 2>/dev/null
$NB build >$T/l 2>&1; echo "  results: a=$(cat out/default/a) b=$(cat out/default/b); said: $(grep -c -i -e owner -e notice $T/l)"
[ "$(cat out/default/a)" = A -a "$(cat out/default/b)" = B ] && verdict 0 || verdict 1
