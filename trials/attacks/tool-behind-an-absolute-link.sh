# A tool that is not in the system's folders and whose folder is reached by an absolute link (`rustup toolchain link`, profiles of package managers, ~/sdk/current -> /home/me/sdk/1.22)
# cannot be used at all: the link is followed in the sandbox's own view of the machine. The message names the step's folder.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir -p $T/sdk/v1/bin; printf '#!/bin/sh\necho tool\n' > $T/sdk/v1/bin/nbtool; chmod +x $T/sdk/v1/bin/nbtool
echo 'target t = step { run = `nbtool > {out "o"}` }' > targets.nub
for how in "no link" "a relative link" "an absolute link"; do
  case $how in no*) p=$T/sdk/v1/bin;; a\ r*) ln -sfn v1 $T/sdk/rel; p=$T/sdk/rel/bin;; *) ln -sfn $T/sdk/v1 $T/sdk/abs; p=$T/sdk/abs/bin;; esac
  rm -rf .nubrik out; PATH=$p:$PATH "$NB" build --no-cache > $T/l 2>&1; r=$?; echo "$how: exit $r; $(head -1 $T/l)"; [ $r = 0 ] || bad=1
done
end
