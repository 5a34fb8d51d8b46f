# A tool is replaced while a build runs, as an upgrade in the background does: what the new one makes is kept under the key of the old one, for this workspace and for all.
# (A source that changes meanwhile fails the step.) The same for programs that count with a tool.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir $T/bin; tool() { printf '#!/bin/sh\nsleep %s\necho %s\n' $2 $1 > $T/bin/.n; chmod +x $T/bin/.n; mv $T/bin/.n $T/bin/nbtool; }
tool old 0; export PATH=$T/bin:$PATH; echo 'jobs = 1' > nubrik.toml
cat > targets.nub <<N
target a = step { run = [\`nbtool > {out "o"}\`, \`sleep 2\`] }
target b = step { run = \`nbtool > {out "o"}\`, reads = a }
N
f() { find out/default/$1* -type f ! -name .gitignore -exec cat {} +; }
"$NB" build > $T/l 2>&1 & p=$!; sleep 1; tool new 0; wait $p; echo "built while the tool was replaced: exit $?, a: $(f a), b: $(f b)"
both "the next build, with the new tool"
tool old 0; both "the old tool is there again"
rm -rf .nubrik out; both "another workspace with the old tool and the same store"
end
