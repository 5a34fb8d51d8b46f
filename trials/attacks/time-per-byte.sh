# Time grows with the square of the size: comment lines, errors, columns of a table (16 MiB are allowed).
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0; T1() { /usr/bin/time -f %e -o $T/tm timeout 100 $NB $1 >/dev/null 2>&1; cat $T/tm | tail -1; }
for k in 10000 20000 40000; do python3 -c "print('# comment\n'*$k+'target t = write { path = \"x\", text = \"1\" }')" > targets.nub; a=$(T1 list); python3 -c "print('let = =\n'*($k//4))" > targets.nub; b=$(T1 list);  python3 -c "
n=$k; open('d.csv','w').write(','.join('c%d'%i for i in range(n))+'\n'+','.join(['1']*n)+'\n')
print('type r = { c1: text }\nlet d = load_csv(\"d.csv\", row = r)\ntarget t = write { path = \"x\", text = \"{d.len}\" }')" > targets.nub; c=$(T1 list); echo "  $k comment lines: $a s; $((k/4)) errors: $b s; $k columns: $c s"; done
python3 -c "import sys; sys.exit(0 if $a>4 else 1)" && v=1; verdict $v
