# A confined step writes outside of its folder: the redirect `>` is opened by nubrik itself, through a link that an earlier command of the step left.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p $T/home; echo 'precious' > $T/home/.profile
cat > targets.nub <<N
target a = step { run = [\`ln -s $T/home/.profile {scratch "s"}\`, \`echo evil > {scratch "s"}\`, \`touch {out "o"}\`] }
N
$NB build >$T/log 2>&1; cat $T/log | sed 's/^/  /' | head -20
echo "  victim now: $(cat $T/home/.profile)"
grep -q evil $T/home/.profile && verdict 1 || verdict 0
