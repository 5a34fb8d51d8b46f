# The disk is full while a step runs and not any more when it ends (other builds' temporary files, its own): commands that do not look whether they could write end well with half of
# their output, and it is kept. Whether it is full is looked at before and after each step only. (Superuser: a small file system in memory.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir $T/m; mount -t tmpfs -o size=12m none $T/m || exit 2; trap 'cd /; umount $T/m; cleanup' EXIT; mkdir $T/m/w; cd $T/m/w; : > nubrik.toml; echo 1 > src
cat > s.sh <<'S'
head -c $(cat src)000000 /dev/zero > $1 2>/dev/null
for i in 1 2 3 4 5; do echo line $i >> $2; done 2>/dev/null
rm -f $1; echo end >> $2
S
echo 'target t = step { run = `sh {in "s.sh"} {scratch "big"} {out "o"}`, reads = "src" }' > targets.nub
for mb in 1 50; do echo $mb > src; "$NB" build > $T/l 2>&1; echo "with $mb MB in between: exit $?, $(find out -type f ! -name .gitignore -exec cat {} + | wc -l) lines of 6"; done
[ "$(find out -type f ! -name .gitignore -exec cat {} + | wc -l)" = 6 ] || bad=1
end
