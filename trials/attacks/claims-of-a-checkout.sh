# A foreign checkout ends processes of the user at `nubrik list`: `.nubrik/serve/x.claim` is believed whoever wrote it; it may name as many process groups and start times as it likes, so that they need only be guessed roughly (early processes of a machine start at nearly the same tick each time).
. "$(cd "$(dirname "$0")" && pwd)/lib"
setsid sleep 300 & sleep 0.3; V=$(pgrep -fx 'sleep 300' -n); S=$(sed 's/.*) //' /proc/$V/stat | cut -d' ' -f20)
mkdir -p .nubrik/serve; python3 -c "
for i in range($S-20000,$S+20000): print($V,i)" > .nubrik/serve/x.claim
echo 'target t = write { path = "x", text = "1" }' > targets.nub
ls -l .nubrik/serve/x.claim | awk '{print "  claim of " $5 " bytes"}'; $NB list >$T/l 2>&1; sleep 0.2
if kill -0 $V 2>/dev/null; then kill $V; verdict 0; else echo "  a process of the user that has nothing to do with nubrik was ended by \`nubrik list\`"; verdict 1; fi
