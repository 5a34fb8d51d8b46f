# fetch: redirects to file://, a mirror that stalls in the middle, an endless one, file:///dev/zero, digest tricks.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
cat > srv.py <<'P'
import http.server,sys,time,socketserver
class H(http.server.BaseHTTPRequestHandler):
    def do_GET(s):
        p=s.path
        open(sys.argv[1]+'/asked','a').write(p+'\n')
        if p.startswith('/tofile'): s.send_response(302); s.send_header('Location','file:///etc/hostname'); s.end_headers()
        elif p.startswith('/tolocal'): s.send_response(302); s.send_header('Location','http://127.0.0.1:%d/internal'%s.server.server_address[1]); s.end_headers()
        elif p.startswith('/loop'): s.send_response(302); s.send_header('Location','/loop'); s.end_headers()
        elif p.startswith('/stall'): s.send_response(200); s.send_header('Content-Length','100'); s.end_headers(); s.wfile.write(b'abc'); s.wfile.flush(); time.sleep(90)
        elif p.startswith('/drip'):
            s.send_response(200); s.send_header('Content-Length','100000'); s.end_headers()
            try:
                while True: s.wfile.write(b'a'); s.wfile.flush(); time.sleep(0.5)
            except OSError: pass
        elif p.startswith('/bighead'): s.wfile.write(b'HTTP/1.1 200 OK\r\n'+b'X-A: '+b'a'*50_000_000+b'\r\n\r\n')
        elif p.startswith('/esc'): s.wfile.write(b'HTTP/1.1 404 \x1b]0;pwned\x07\x1b[2J\r\n\r\n')
        else: s.send_response(200); s.end_headers(); s.wfile.write(b'x')
    def log_message(s,*a): pass
class S(socketserver.ThreadingMixIn,http.server.HTTPServer): daemon_threads=True
h=S(('127.0.0.1',0),H); open(sys.argv[1]+'/port','w').write(str(h.server_address[1])); h.serve_forever()
P
python3 srv.py $T & S=$!; while [ ! -s $T/port ]; do sleep .1; done; P=$(cat $T/port); unset http_proxy https_proxy HTTP_PROXY HTTPS_PROXY ALL_PROXY all_proxy
X=sha256:2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881   # of "x"
try() { rm -rf .nubrik out; export XDG_CACHE_HOME=$T/c$RANDOM; echo "target f = fetch { url = \"$2\", digest = \"$X\", path = \"o\" }" > targets.nub
 $NB build >$T/log 2>&1 & p=$!; for i in 1 2 3 4 5 6; do sleep 1; kill -0 $p 2>/dev/null || break; done
 if kill -0 $p 2>/dev/null; then sz=$(du -sm .nubrik | cut -f1); kill -INT $p; sleep 2; if kill -0 $p 2>/dev/null; then echo "  $1: still running after 6 s ($sz MB), a first SIGINT does not end it (a third signal does)"; v=1; kill -9 $p; else echo "  $1: still running after 6 s ($sz MB); SIGINT ends it"; fi; else wait $p; echo "  $1: exit $?: $(head -4 $T/log | tr '\n' ' ' | cut -c1-220 | cat -v)"; fi; }
try plain http://127.0.0.1:$P/x
try "redirect to file://" http://127.0.0.1:$P/tofile
try "redirect to another local address" http://127.0.0.1:$P/tolocal
try "redirect loop" http://127.0.0.1:$P/loop
try "stalls in the middle" http://127.0.0.1:$P/stall
try "one byte each half second" http://127.0.0.1:$P/drip
try "50 MB of header" http://127.0.0.1:$P/bighead
try "escape sequences in the status" http://127.0.0.1:$P/esc
try "file:///dev/zero" file:///dev/zero
mkfifo $T/p; try "file:// of a pipe" file://$T/p
try "file:// of a private file: digest told" file:///etc/shadow
kill $S; wait 2>/dev/null; verdict $v
