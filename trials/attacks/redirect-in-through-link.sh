# A confined step reads undeclared files: the redirect `<` is opened by nubrik itself, through a link that an earlier command left.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p $T/home; echo 'private-key-1' > $T/home/key
cat > targets.nub <<N
target a = step { run = [\`ln -s $T/home/key {scratch "s"}\`, \`cat < {scratch "s"} > {out "o"}\`] }
N
$NB build >$T/log 2>&1; sed 's/^/  /' $T/log | head -20
grep -qs private-key-1 out/default/a/o && verdict 1 || verdict 0
