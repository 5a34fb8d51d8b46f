# `--since` in a foreign checkout runs the commands of its .git/config (core.fsmonitor, filters), unconfined, also for `list` and `plan`.
. "$(cd "$(dirname "$0")" && pwd)/lib"
git init -q . 2>/dev/null; git config user.email a@b; git config user.name a; echo 'target t = write { path = "t", text = "1" }' > targets.nub; git add -A; git commit -qm 1
printf '#!/bin/sh\necho pwned >> %s/pwned\nexit 1\n' $T > $T/ws/.git/fsm; chmod +x .git/fsm; git config core.fsmonitor .git/fsm
for c in "list --since HEAD" "plan --since HEAD"; do rm -f $T/pwned; $NB $c >$T/l 2>&1; echo "  nubrik $c: exit $?: command ran $(wc -l < $T/pwned 2>/dev/null || echo 0) times"; done
[ -s $T/pwned ] && verdict 1 || verdict 0
