# /dev/shm: another user takes the folder's name first (folder, link, file): must not be used.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; echo 'target t = step { run = sh`pwd -P > {out "o"}; cd "$TMPDIR"; pwd -P >> /proc/self/fd/1` }' > targets.nub
$NB build >$T/l 2>&1; ls -d /dev/shm/nubrik-0-* 2>/dev/null | head -2
# find the name by watching
echo 'target t = step { run = [`sleep 0.7`, `touch {out "o"}`] }' > targets.nub; rm -rf .nubrik; $NB build >$T/l 2>&1 & sleep 0.4; D=$(readlink .nubrik/tmp); wait; rm -rf .nubrik out
for how in "mkdir $D" "ln -s $T/ws $D" "touch $D"; do setpriv --reuid 12345 --clear-groups sh -c "$how"; echo "target t = step { run = [\`sleep 0.5\`, \`touch {out \"o$RANDOM\"}\`] }" > targets.nub; $NB build >$T/l 2>&1 & sleep 0.35; L=$(readlink .nubrik/tmp || echo "no link"); wait; echo "  $how by another user: .nubrik/tmp is: $L"; [ "$L" = "$D" ] && v=1; rm -rf $D .nubrik; done
verdict $v
