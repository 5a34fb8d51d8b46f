# Two origins of one registry: the company's own, then the public one. A server of packages that answers 404 to who has no right to see (a token that has expired) makes nubrik take the company's
# names from the public one, where anybody may register them. needs python3
. "$(cd "$(dirname "$0")" && pwd)/lib"
command -v python3 > /dev/null || { echo "skipped: there is no python3"; exit; }
cat > $T/registries.py <<'E'
import http.server, hashlib, io, sys, zipfile
def wheel(v):
    b = io.BytesIO()
    with zipfile.ZipFile(b, "w") as w:
        w.writestr("tidelib.py", "x = 1\n"); w.writestr(f"tidelib-{v}.dist-info/METADATA", f"Metadata-Version: 2.1\nName: tidelib\nVersion: {v}\n")
    return b.getvalue()
W = {"own": ("1.0", wheel("1.0")), "public": ("99.0", wheel("99.0"))}
class H(http.server.BaseHTTPRequestHandler):
    def log_message(self, *a): pass
    def do_GET(self):
        p = self.path.strip("/").split("/")
        if p[0] == "own" and self.headers.get("Authorization") != "Bearer good": return self.send_error(404)
        v, w = W[p[0]]; f = f"tidelib-{v}-py3-none-any.whl"
        body = w if p[-1] == f else f'<a href="/{p[0]}/tidelib/{f}#sha256={hashlib.sha256(w).hexdigest()}">{f}</a>'.encode() if p[-1] == "tidelib" else None
        if body is None: return self.send_error(404)
        self.send_response(200); self.send_header("Content-Type", "text/html"); self.send_header("Content-Length", str(len(body))); self.end_headers(); self.wfile.write(body)
s = http.server.ThreadingHTTPServer(("127.0.0.1", 0), H); open(sys.argv[1], "w").write(str(s.server_port)); s.serve_forever()
E
python3 $T/registries.py $T/port & S=$!; trap 'kill $S; cleanup' EXIT
for _ in $(seq 100); do [ -s $T/port ] && break; sleep 0.1; done
A=http://127.0.0.1:$(cat $T/port); : > targets.nub
printf '[origins]\npython = [{ url = "%s/own", secret = "OWN" }, "%s/public"]\n' "$A" "$A" > nubrik.toml
export OWN=good; "$NB" agree --yes > /dev/null; "$NB" pins add python tidelib > $T/l 2>&1 || { cat $T/l; bad=1; }; cp pins.toml $T/before
export OWN=expired; for how in newer update; do "$NB" pins $how > $T/l 2>&1 && { echo "pins $how says nothing: $(cat $T/l)"; bad=1; }; grep -q 'no other one is asked' $T/l || { cat $T/l; bad=1; }; done
cmp -s pins.toml $T/before || { echo "another origin gives it now: $(grep origin pins.toml)"; bad=1; }
printf '[origins]\npython = ["%s/public"]\n' "$A" > nubrik.toml; "$NB" pins update > $T/l 2>&1 && { echo "it is taken from another origin without a word"; bad=1; }
cmp -s pins.toml $T/before || { echo "another origin gives it now: $(grep origin pins.toml)"; bad=1; }
sed -i '/^origin = /d' pins.toml; "$NB" pins update > $T/l 2>&1; grep -q '"tidelib@99.0"' pins.toml || { echo "a person cannot let another origin give it: $(cat $T/l)"; bad=1; }
end
