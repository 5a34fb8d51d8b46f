# What an `observed` step reads by way of /proc/self/cwd, /proc/self/fd/N, /dev/fd/N or /proc/self/root is not noted: edits of it run nothing.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src; echo a1 > src/a; echo 1 > src/n
for how in /proc/self/cwd/src/a /proc/self/root/nubrik/src/a /dev/fd/5/a /proc/self/fd/5/a '/proc/$$/cwd/src/a'; do
  echo "cat src/n; exec 5< src; cat $how" > t.sh; echo "a1" > src/a; echo 1 > src/n
  echo 'target t = step { run = `sh {in "t.sh"} > {out "o"}`, reads = [glob("src/*")], observed = true }' > targets.nub
  both "$how: first"; echo 2 > src/n; both "$how: a file that it reads by its name is edited"
  echo a2 > src/a; both "$how: the file behind it is edited"
done
end
