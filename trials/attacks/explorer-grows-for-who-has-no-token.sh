# Another user of the machine (or anything that reaches the port) needs no token to make `nubrik explore` grow: a request whose header never ends is kept in memory, and a connection that says
# nothing keeps a thread for good. needs python3
. "$(cd "$(dirname "$0")" && pwd)/lib"
command -v python3 > /dev/null || { echo "skipped: there is no python3"; exit; }
: > targets.nub
cat > $T/grow.py <<'P'
import os, re, signal, socket, subprocess, sys, time
p = subprocess.Popen([os.environ["NB"], "explore"], stdout=subprocess.PIPE, text=True)
port = int(re.search(r":(\d+)/", p.stdout.readline())[1])
rss = lambda: int(re.search(r"VmRSS:\s+(\d+)", open(f"/proc/{p.pid}/status").read())[1]) >> 10
before = rss(); s = socket.create_connection(("127.0.0.1", port)); s.sendall(b"GET / HTTP/1.1\r\nX: ")
try:
    for _ in range(200): s.sendall(b"a" * (1 << 20))
except OSError: pass
time.sleep(0.5); grown = rss() - before
quiet = [socket.create_connection(("127.0.0.1", port)) for _ in range(500)]; time.sleep(0.5); threads = len(os.listdir(f"/proc/{p.pid}/task"))
time.sleep(6); later = len(os.listdir(f"/proc/{p.pid}/task"))
print(f"grew by {grown} MiB for 200 MiB of one header; {threads} threads with 500 connections that say nothing, {later} of them 6 s later")
p.send_signal(signal.SIGINT); p.wait(10); sys.exit(grown >= 50 or threads > 200 or later > 30)
P
export NB; python3 $T/grow.py || bad=1
end
