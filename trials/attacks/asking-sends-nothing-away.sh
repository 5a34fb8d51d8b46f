# A foreign checkout sends private files away at `nubrik list`, `plan`, `lint`, `show`, `options`: a sample reads them, a `fetch` (or a step with `network = true`) that a probe needs sends them.
. "$(cd "$(dirname "$0")" && pwd)/lib"
unset http_proxy https_proxy HTTP_PROXY HTTPS_PROXY ALL_PROXY all_proxy
mkdir $T/home; export HOME=$T/home; mkdir $T/home/.ssh; echo PRIVATE-KEY-1 > $T/home/.ssh/id
python3 -c "
import http.server,sys
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(s):
        open('$T/heard','a').write(s.path+'\n'); s.send_response(200); s.end_headers(); s.wfile.write(b'x')
    def log_message(s,*a): pass
h=http.server.HTTPServer(('127.0.0.1',0),H); open('$T/port','w').write(str(h.server_address[1])); h.serve_forever()" & S=$!
while [ ! -s $T/port ]; do sleep .1; done; P=$(cat $T/port)
cat > targets.nub <<N
let key = sample { run = \`cat $T/home/.ssh/id\` }
let sent = fetch { url = "http://127.0.0.1:$P/fetched-{key.text}", digest = "sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881", path = "o" }
let asked = probe { run = \`cat {sent}\` }
target t = write { path = "t", text = asked.text }
N
for c in list plan lint "show t" options doctor "tree t" graph "why t"; do : > $T/heard; rm -rf .nubrik $T/cache; $NB $c >$T/l 2>&1; echo "  $c: the network heard: $(cat $T/heard)"; grep -q PRIVATE $T/heard && v=1; done
cat > targets.nub <<N
let key = sample { run = \`cat $T/home/.ssh/id\` }
let sent = step { run = \`python3 -c "import urllib.request,sys; urllib.request.urlopen(sys.argv[1])" http://127.0.0.1:$P/step-{key.text} > {out "o"}\`, network = true }
let asked = probe { run = \`cat {sent}\` }
target t = write { path = "t", text = asked.text }
N
: > $T/heard; rm -rf .nubrik; $NB list >$T/l 2>&1; echo "  list, step with network: $(cat $T/heard)"; grep -q PRIVATE $T/heard && v=1
kill $S; wait 2>/dev/null; verdict ${v:-0}
