# `list` (and TAB, and an editor) in a stranger's checkout: what a regular expression takes to be made ready is not counted. 10,000 of 20 letters each take minutes; a loop that makes more
# of them takes hours, within the limits for evaluation. Lists read from JSON: 300 bytes of definitions take more than 4 GB of memory.
. "$(cd "$(dirname "$0")" && pwd)/lib"
h='let digits = ["0","1","2","3","4","5","6","7","8","9"]
let h = [each a in digits give [each b in digits give [each c in digits give [each d in digits give "{a}{b}{c}{d}"]]]].flat.flat.flat'
cat > targets.nub <<N
$h
let n = [each k in h where k.matches('(\w{20}){5}' + k) give k].len
target t = write { path = "o", text = "{n}" }
N
s=$(date +%s); timeout -k 2 60 "$NB" list > $T/l 2>&1; r=$?; echo "10,000 regular expressions: exit $r after $(( $(date +%s) - s )) s (124: it was ended after 60 s)"; [ $r = 124 -o $r = 137 ] && bad=1
cat > targets.nub <<N
$h
let one = h.to_json
let all = [each k in h.slice(0, 6500) give one.from_json]
target t = write { path = "o", text = "{all.len}" }
N
( ulimit -v 12000000; timeout -k 2 100 python3 -c 'import resource,subprocess,sys; r=subprocess.run(sys.argv[1:],stdout=subprocess.DEVNULL,stderr=subprocess.DEVNULL).returncode; print(r,resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss//1024)' "$NB" list ) > $T/m; echo "lists from JSON: exit code and memory in MB: $(cat $T/m)"; [ $(cut -d' ' -f2 $T/m) -gt 2000 ] && bad=1
end
