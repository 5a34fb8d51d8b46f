# A record of the store under another key's name is taken for that key's (nothing in it names the key): the wrong result, with a right digest.
. "$(cd "$(dirname "$0")" && pwd)/lib"
printf 'target a = write { path = "a", text = "A" }\ntarget b = write { path = "b", text = "B" }\n' > targets.nub
$NB build >$T/log 2>&1; set -- $(find $T/cache/nubrik/store/v1/records -type f); cp -f $1 $2; rm -rf .nubrik out; $NB build >$T/log 2>&1; echo "  a: $(cat out/default/a) b: $(cat out/default/b); $($NB cache verify 2>&1| tail -2 | tr '\n' ' ')"
[ "$(cat out/default/a)" = A -a "$(cat out/default/b)" = B ] && verdict 0 || verdict 1
