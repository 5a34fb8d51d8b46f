# The server of a shared cache accepts connections and says nothing: each build with anything to do waits for the list of members, and for each head, one after another; nothing is remembered,
# so each edit of everybody costs that again. needs python3
. "$(cd "$(dirname "$0")" && pwd)/lib"
command -v python3 > /dev/null || { echo "skipped: there is no python3"; exit; }
cat > $T/server.py <<'P'
import http.server, os, sys, time
D, M, L = sys.argv[2], sys.argv[3], sys.argv[4]
class H(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"
    def log_message(self, *a): pass
    def hang(self):
        open(L, "a").write(self.command + "\n"); time.sleep(60)
    def do_GET(self):
        if os.path.exists(M + ".get"): return self.hang()
        p = D + self.path
        if not os.path.isfile(p): self.send_response(404); self.send_header("Content-Length", "0"); self.end_headers(); return
        b = open(p, "rb").read(); self.send_response(200); self.send_header("Content-Length", str(len(b))); self.end_headers(); self.wfile.write(b)
    def do_PUT(self):
        if os.path.exists(M + ".put"): return self.hang()
        p = D + self.path; os.makedirs(os.path.dirname(p), exist_ok=True); open(p, "wb").write(self.rfile.read(int(self.headers["Content-Length"])))
        self.send_response(201); self.send_header("Content-Length", "0"); self.end_headers()
s = http.server.ThreadingHTTPServer(("127.0.0.1", 0), H); open(sys.argv[1] + "~", "w").write(str(s.server_port)); os.rename(sys.argv[1] + "~", sys.argv[1]); s.serve_forever()
P
python3 $T/server.py $T/port $T/files $T/hang $T/hung & S=$!; trap 'kill $S; cleanup' EXIT; for _ in $(seq 100); do [ -s $T/port ] && break; sleep 0.1; done; at=http://127.0.0.1:$(cat $T/port)/t
mkdir $T/p; cd $T/p; root=$("$NB" shared create $at --root-key $T/root.key | grep -o 'ed25519:[^ "]*' | head -1); printf '[shared]\nat = "%s"\nroot_key = "%s"\n' $at "$root" > nubrik.toml; export NUBRIK_SHARED_ROOT_KEY=$root
echo 'target t = step { say = "t", run = `cat {in "i.txt"} > {out "o.txt"}` }' > targets.nub; echo 0 > i.txt
for n in 1 2; do "$NB" shared new-key $T/$n.key > $T/k; "$NB" shared add ci$n "$(grep -o 'ed25519:[^ ]*' $T/k | head -1)" --root-key $T/root.key > /dev/null; echo $n > i.txt; NUBRIK_SHARED_KEY=$T/$n.key "$NB" build -q > /dev/null; done
hung() { [ -e $T/hung ] && wc -l < $T/hung || echo 0; }
touch $T/hang.put; for i in a b c; do echo $i >> i.txt; NUBRIK_SHARED_KEY=$T/1.key "$NB" build > $T/l 2>&1; done; rm $T/hang.put
grep -q 'the shared cache at .* builds ask it again in' $T/l || { echo "it is not said since when: $(cat $T/l)"; bad=1; }
n=$(hung); echo "three builds that give waited $n times"; [ $n = 1 ] || bad=1
"$NB" shared > $T/l 2>&1 || { echo "shared does not ask anew: $(cat $T/l)"; bad=1; }
echo again >> i.txt; NUBRIK_SHARED_KEY=$T/1.key "$NB" build > $T/l 2>&1; grep -q '^shared.*uploaded' $T/l || { echo "afterwards nothing is given: $(cat $T/l)"; bad=1; }
touch $T/hang.get; for i in d e f; do echo $i >> i.txt; "$NB" build > $T/l 2>&1; done
grep -q 'the shared cache at .* builds ask it again in' $T/l || { echo "it is not said since when: $(cat $T/l)"; bad=1; }
n=$(($(hung) - n)); echo "three builds that take waited $n times"; [ $n = 1 ] || bad=1
end
