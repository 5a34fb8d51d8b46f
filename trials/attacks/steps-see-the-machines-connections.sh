# A step without the network reads /proc/net/tcp, unix, route and arp of the machine: who listens, who is connected to whom, paths of sockets. A job on a worker, too. needs python3
. "$(cd "$(dirname "$0")" && pwd)/lib"
command -v python3 > /dev/null || { echo "skipped: there is no python3"; exit; }
python3 -c 'import socket, time; s = socket.create_server(("127.0.0.1", 0)); print("%04X" % s.getsockname()[1], flush=True); time.sleep(60)' > $T/port & S=$!; trap 'kill $S; cleanup' EXIT
for _ in $(seq 100); do [ -s $T/port ] && break; sleep 0.1; done
echo 'target n = step { run = sh`cat /proc/net/tcp > {out "tcp"}; cat /proc/net/route > {out "route"}; cat /proc/net/unix > {out "unix"}` }' > targets.nub
"$NB" build > $T/l 2>&1 || { cat $T/l; echo "the build fails: no verdict"; exit 2; }
grep -q ":$(cat $T/port) " out/default/n/tcp && { echo "who listens is seen"; bad=1; }
[ "$(cat out/default/n/route out/default/n/unix | grep -vc '^Num\|^Iface')" = 0 ] || { echo "routes or sockets are seen: $(head -3 out/default/n/route out/default/n/unix)"; bad=1; }
end
