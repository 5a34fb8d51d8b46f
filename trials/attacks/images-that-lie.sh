# Images that reach out of themselves, are not what their digests say, fill the disk, or are changed by the steps in them; commands that change
# an image, and try to change more.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir $T/w $T/victim; cd $T/w; touch nubrik.toml; echo secret > $T/victim/secret; export XDG_CACHE_HOME=$T/c
cat > $T/make.py <<'P'
import gzip, hashlib, io, json, os, re, shutil, subprocess, sys, tarfile
kind, at, victim = sys.argv[1:]
shutil.rmtree(at, ignore_errors=True); os.makedirs(at + "/blobs/sha256")
def blob(data, media):
    digest = hashlib.sha256(data).hexdigest()
    open(f"{at}/blobs/sha256/{digest}", "wb").write(data)
    return {"mediaType": "application/vnd.oci.image." + media, "digest": "sha256:" + digest, "size": len(data)}
out = io.BytesIO(); tar = tarfile.open(fileobj=out, mode="w")
def put(name, data=b"", type=tarfile.REGTYPE, to="", mode=0o755):
    info = tarfile.TarInfo(name); info.type, info.linkname, info.mode, info.size = type, to, mode, len(data)
    tar.addfile(info, io.BytesIO(data) if data else None)
for program in ("sh", "cat", "ln", "chmod"):
    path = shutil.which(program)
    put("bin/" + program, open(path, "rb").read())
    for library in sorted(set(re.findall(r"/\S+", subprocess.run(["ldd", path], capture_output=True, text=True).stdout.replace(path + ":", "")))):
        put(library.lstrip("/"), open(library, "rb").read())
if kind == "link": put("d", type=tarfile.SYMTYPE, to=victim); put("d/in", b"in")
if kind == "hard": put("h", type=tarfile.LNKTYPE, to="../" * 12 + victim.lstrip("/") + "/secret")
if kind == "seen": put("h", type=tarfile.SYMTYPE, to=victim + "/secret")
if kind == "dots": put("../" * 12 + victim.lstrip("/") + "/in", b"in")
if kind == "device": put("dev0", type=tarfile.BLKTYPE)
if kind == "white": put("../" * 12 + victim.lstrip("/") + "/.wh.secret")
if kind == "owner": put("bin/owner", open(shutil.which("cat"), "rb").read(), mode=0o6755)
if kind in ("other", "bomb"): put("new-" + kind, b"never unpacked before")
if kind == "bomb":
    info = tarfile.TarInfo("bomb"); info.size = 3 << 30
tar.close(); data = out.getvalue(); unpacked = hashlib.sha256(data).hexdigest()
packed = gzip.compress(data, 1)
if kind == "bomb":
    z = io.BytesIO(); g = gzip.GzipFile(fileobj=z, mode="wb"); g.write(info.tobuf())
    for _ in range(3 << 10): g.write(bytes(1 << 20))
    g.close(); packed = z.getvalue()
layer = blob(packed, "layer.v1.tar+gzip")
if kind == "other": open(f"{at}/blobs/sha256/{layer['digest'][7:]}", "r+b").write(packed[:-20] + bytes(20))
machine = {"x86_64": "amd64", "aarch64": "arm64"}[os.uname().machine]
config = {"os": "linux", "architecture": machine, "rootfs": {"type": "layers", "diff_ids": ["sha256:" + unpacked]}}
manifest = {"schemaVersion": 2, "config": blob(json.dumps(config).encode(), "config.v1+json"), "layers": [layer]}
index = {"schemaVersion": 2, "manifests": [blob(json.dumps(manifest).encode(), "manifest.v1+json")]}
json.dump(index, open(at + "/index.json", "w")); json.dump({"imageLayoutVersion": "1.0.0"}, open(at + "/oci-layout", "w"))
P
cat > targets.nub <<'N'
target s = step {
    run = sh`
        cat /h > {out "s"} 2>&1 || true
        echo broken 2>/dev/null >> /bin/cat && echo changed >> {out "s"} || true
        [ ! -u /bin/owner ] || echo owned >> {out "s"}
    `
    root = image { layout = "l" }
}
N
bad=0
for kind in plain link hard seen dots device white owner other bomb; do
    python3 $T/make.py $kind l $T/victim
    timeout 100 $NB build > $T/log 2>&1; code=$?
    echo "  $kind: exit $code: $(grep -hE 'failed|error' $T/log | head -1)"
    [ $kind != plain ] || [ $code = 0 ] || bad=1
    [ "$(ls $T/victim)" = secret ] || { echo "  it wrote outside"; bad=1; }
    grep -q 'secret' out/default/s 2>/dev/null && { echo "  it read outside"; bad=1; }
    grep -qE 'changed|owned' out/default/s 2>/dev/null && { echo "  $(grep -E 'changed|owned' out/default/s)"; bad=1; }
    case $kind in other|bomb) [ $code = 0 ] && { echo "  it was used"; bad=1; };; esac
done
# Commands that change an image: what they leave is read without a link being followed, and nobody else sees what they did.
python3 $T/make.py plain l $T/victim
cat > targets.nub <<N
let base = image { layout = "l" }
target made = image_of {
    path = "made.tar"
    base = base
    run = sh\`
        echo broken > /bin/cat.new; ln -s $T/victim /out; ln -s $T/victim/secret /file; ln -s / /self
        ( echo x > /out/in ) 2>/dev/null || true
        ( echo x > /proc/1/root$T/victim/in ) 2>/dev/null || true
        for place in /.all /.in /.none /proc/1/root /proc/self/root; do
            [ ! -e \$place$T/victim/secret ] || echo "seen by \$place" >> /log
        done
        chmod 4755 /bin/cat 2>/dev/null && echo "runs as its owner" >> /log || true
        chmod 777 /bin/ln; echo changed >> /bin/ln
        ( echo x > $T/w/nubrik.toml ) 2>/dev/null || true
        echo x > /nubrik/x 2>/dev/null && echo "wrote to the workspace" >> /log || true
    \`
}
target seen = step {
    run = sh\`cat /log > {out "log"} 2>/dev/null || true; cat /out/secret /file >> {out "log"} 2>/dev/null || true\`
    root = image { archive = made }
}
target before = step { run = sh\`cat /bin/ln > {out "ln"}; [ ! -e /out ] || echo changed >> {out "ln"}\`, root = base }
N
timeout 100 $NB build > $T/log 2>&1 || { cat $T/log; bad=1; }
[ "$(ls $T/victim)" = secret ] && [ ! -s nubrik.toml ] || { echo "  commands wrote outside of their copy"; bad=1; }
[ ! -s out/default/log ] || { echo "  $(cat out/default/log)"; bad=1; }
tail -c 200 out/default/before/ln out/default/ln 2>/dev/null | grep -aq changed && { echo "  the image of others was changed"; bad=1; }
tar xOf out/default/made.tar 2>/dev/null | grep -aq secret && { echo "  the image holds what a link leads to"; bad=1; }
$NB cache verify > $T/log 2>&1 || { cat $T/log; bad=1; }
[ "$(du -sm $T/c | cut -f1)" -lt 1500 ] || { echo "  the cache is full"; bad=1; }
chmod -R u+w $T/c
verdict $bad
