# Full disk and full inodes: small tmpfs with workspace and store; builds fail and go on after sandbox is made; compare.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
cat > $T/in.sh <<'S'
NB=$1; T=$2
one() { # size, inodes, what is on the small fs
  mkdir -p $T/s; mount -t tmpfs -o size=$1,nr_inodes=$2 none $T/s || exit; 
  case $3 in all) W=$T/s/w; C=$T/s/c;; store) W=$T/w$RANDOM; C=$T/s/c;; ws) W=$T/s/w; C=$T/c$RANDOM;; esac
  mkdir -p $W $C 2>/dev/null; cd $W; touch nubrik.toml; export XDG_CACHE_HOME=$C
  cat > targets.nub <<'N'
target a = {each n in ["1","2","3","4","5","6","7","8"] give n: step { run = `sh {in "g.sh"} {n} {out "o"}` }}
target b = {each n, s in a give n: step { run = `sort {s} -o {out "p"}` }}
target c = step { run = `cat {b} > {out "q"}` }
target d = pack { path = "d.tar.zst", files = a }
N
  echo 'i=0; while [ $i -lt 2000 ]; do echo "$1 line $i of a text"; i=$((i+1)); done > $2' > g.sh
  k=0; for f in 1 2 3 4 5 6; do timeout 60 $NB build > $T/log 2>&1; r=$?; k=$((k+1)); [ $r = 0 ] && break; grep -q 'has a fault\|panick' $T/log && echo "PANIC: $(grep -m1 'has a fault\|panick' $T/log)"; [ $r = 124 ] && echo HANG;  mount -o remount,size=$(( (f+1) * 8 ))m,nr_inodes=$(( (f+1)*4000 )) $T/s; done
  [ $r = 0 ] || { echo "never: $(tail -3 $T/log)"; }
  s=$(cat out/default/c/q out/default/b/*/p | sha1sum; ls out/default | wc -l)
  # Only what was kept while there was room can be reused now: it may end for want of room, and says so.
  rm -rf .nubrik out; $NB build > $T/log 2>&1; r3=$?; grep -q 'No space left' $T/log && full=1 || full=0; s3=$(cat out/default/c/q out/default/b/*/p | sha1sum; ls out/default | wc -l)
  XDG_CACHE_HOME=$T/c-$RANDOM$RANDOM; rm -rf .nubrik out; mount -o remount,size=200m,nr_inodes=100000 $T/s;  $NB build > $T/log 2>&1; s2=$(cat out/default/c/q out/default/b/*/p | sha1sum; ls out/default | wc -l)
  [ $r3 != 0 -a $full = 1 ] && s3=$s2
  [ "$s" = "$s2" -a "$s3" = "$s2" ] && echo "ok $1 $2 $3 after $k builds" || echo "DIFFER $1 $2 $3"
  cd /; umount $T/s
}
for w in all store ws; do for z in 60k 200k 400k 700k 1m 1500k 2m 3m 4m; do one $z 20000 $w; done; for n in 20 100 300 500 520 540 600 1100 1200; do one 200m $n $w; done; done
S
unshare -m bash $T/in.sh $NB $T > $T/o 2>&1; sort $T/o | uniq -c | sort -rn | awk '{c[$2]+=$1} END {for (k in c) print "  " k, c[k]}'; grep -v '^ok' $T/o | head -20
grep -q 'DIFFER\|PANIC\|HANG\|never' $T/o && verdict 1 || verdict 0
