# Not the superuser: a step whose words name a file of the system that this user cannot read fails each time, as if the file changed while it ran.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; chmod 755 $HERE $SCRATCH
echo 'target a = step { run = sh`cat /etc/shadow > {out "o"} 2>&1 || true` }' > targets.nub
chown -R 12345:12345 $T; U="setpriv --reuid 12345 --regid 12345 --clear-groups env HOME=$T XDG_CACHE_HOME=$XDG_CACHE_HOME XDG_STATE_HOME=$XDG_STATE_HOME"
for time in first second; do
    $U $NB build > $T/l 2>&1; r=$?; echo "  $time build: exit $r $(tail -n 1 $T/l | cut -c1-100)"; [ $r = 0 ] || v=1
done
verdict $v
