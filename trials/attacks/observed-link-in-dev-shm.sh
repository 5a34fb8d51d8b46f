# An `observed` step that reads through a link in /dev/shm, which leads to its own temporary folder: all below /dev is passed over as
# far from the workspace, but for the step's first run, which is watched.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src; echo a1 > src/a; echo 1 > src/n
echo 'cat src/n; ln -s $PWD/src/a /dev/shm/x; cat /dev/shm/x' > t.sh
echo 'target t = step { run = `sh {in "t.sh"} > {out "o"}`, reads = [glob("src/*")], observed = true }' > targets.nub
both first; echo 2 > src/n; both "n is edited"; echo a2 > src/a; both "a is edited"
end
