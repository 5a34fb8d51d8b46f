# The same on a file system whose times are whole seconds: whether a file is so young that it may change again without a trace is asked by this machine's clock. Where that differs from the
# one that stamps files by more than 2 s, an edit of the same size in the second of the build is never noticed. (Superuser: a file system in a file; package faketime.)
. "$(cd "$(dirname "$0")" && pwd)/lib"
L=$(ls /usr/lib/*/faketime/libfaketime.so.1 2>/dev/null | head -1); [ -n "$L" ] || { echo "skipped: there is no faketime"; exit; }
truncate -s 24M $T/img; mkfs.ext4 -q -I 128 $T/img 2>/dev/null; mkdir $T/m; mount -o loop $T/img $T/m || exit 2; trap 'cd /; umount $T/m; cleanup' EXIT
mkdir $T/m/w; cd $T/m/w; : > nubrik.toml; echo 'target t = step { run = `cp {in "src"} {out "o"}` }' > targets.nub
for ahead in +0s +10s -10s; do
  rm -rf .nubrik out $T/cache; echo aaa > src; sleep 1.2; while [ $(date +%N | cut -c1) -gt 1 ]; do sleep .02; done
  echo one > src; LD_PRELOAD=$L FAKETIME="$ahead" "$NB" build >/dev/null 2>&1; echo two > src; sleep 3; LD_PRELOAD=$L FAKETIME="$ahead" "$NB" build > $T/l 2>&1
  a=$(find out/default -type f ! -name .gitignore -exec cat {} +); echo "nubrik's clock $ahead: $a, expected two ($(head -1 $T/l))"; [ "$a" = two ] || bad=1
done
end
