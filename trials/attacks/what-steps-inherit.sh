# What a step inherits from the shell that nubrik is started in, and that is in no key: limits (ulimit), ignored signals (a job in the background of a script ignores SIGINT, nohup SIGHUP),
# the personality (setarch), niceness. A result differs from one from nothing in another terminal, and nothing tells.
. "$(cd "$(dirname "$0")" && pwd)/lib"
cat > t.sh <<'S'
case $1 in
limits) ulimit -n; ulimit -s; ulimit -f; ulimit -v ;;
signals) grep SigIgn /proc/self/status ;;
machine) uname -m ;;
nice) nice ;;
randomised) cat /proc/self/personality 2>/dev/null || true ;;
oom) cat /proc/self/oom_score_adj ;;
python-int) python3 -c 'import signal; print(signal.getsignal(signal.SIGINT))' ;;
esac
S
cat > targets.nub <<'N'
target t = {each w in ["limits", "signals", "machine", "nice", "randomised", "oom", "python-int"] give w: step { run = `sh {in "t.sh"} {w} > {out "o"}` }}
N
cat > $T/other <<'S'
trap '' INT HUP USR1; ulimit -n 300; ulimit -s 4096; ulimit -f 1000000; renice -n 5 $$ >/dev/null; echo 300 > /proc/self/oom_score_adj
exec setarch linux32 -R "$NB" build
S
# Built here, then in the other terminal over that, then in the other one from nothing. A limit that cannot be raised again differs from the
# first, but then it is in the key: the last two are the same.
keep() { mkdir -p $T/o/$1; cp -r out/default/t/. $T/o/$1 || exit 2; }
"$NB" build > $T/l 2>&1; keep one; bash $T/other > $T/l 2>&1; keep over
rm -rf .nubrik out $T/cache; bash $T/other > $T/l 2>&1; keep two
for w in limits signals machine nice randomised oom python-int; do
  of() { find $T/o/$1/$w -type f ! -name .gitignore -exec cat {} + | tr '\n' ' '; }
  [ -n "$(of two)" ] || [ $w = randomised ] || bad=1
  if [ "$(of over)" != "$(of two)" ]; then echo "DIFFERS $w: $(of over)| $(of two)"; bad=1; fi
  if [ "$(of one)" = "$(of two)" ]; then echo "same    $w: $(of one)"; elif [ $w = limits ]; then echo "in key  $w: $(of one)| $(of two)"; else echo "DIFFERS $w: $(of one)| $(of two)"; bad=1; fi
done
end
