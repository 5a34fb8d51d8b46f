# Values of options stand in names of folders: slashes, `..`, long values, control characters, values that look like one another.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; printf 'option o: text = "d"\noption p: text = "d"\ntarget t = write { path = "x", text = "o={o} p={p}" }\n' > targets.nub
for val in "../../../../../escape" "/abs" "a/b" "a+p=b" "a b" "%2F" "@x" "~y" "" "." ".." "$(printf 'x%.0s' $(seq 1 300))" "$(printf 'n\nl')" "é" "$(printf 'e\xcc\x81')" "D"; do $NB build --set "o=$val" >$T/l 2>&1; r=$?; c=$(cat out/default/t 2>/dev/null || cat out/default/t/x); [ "$c" = "o=$val p=d" ] && k=right || { k="WRONG: $c"; v=1; }; echo "  o=$(printf %s "$val" | cut -c1-30 | tr '\n' '?'): exit $r, result $k, $(head -1 $T/l | cut -c1-100)"; done
find .nubrik/made -name '@*' | sed 's/x\{50,\}/x…/' | sort | head -30 | sed 's/^/    /'
find $T -name '*escape*' -not -path '*/made/*' | head; a=$($NB build --set o=a --set p=b >/dev/null 2>&1; cat out/default/t*/x 2>/dev/null || cat out/default/t); b=$($NB build --set 'o=a+p=b' >/dev/null 2>&1; cat out/default/t*/x 2>/dev/null || cat out/default/t); echo "  '$a' '$b'"
verdict $v
