# A listing of a compiler names a header with white space that is not ASCII (the wide space of Japanese, the space that does not break, which some keyboards write), a vertical tab, `\\`
# or `\:`: it is split there, what comes of it "was only tried", and an edit of the header compiles nothing.
. "$(cd "$(dirname "$0")" && pwd)/lib"
python3 - <<'P' > $T/names
for n in ['plain','a b','a\u3000b','a\u00a0b','a\u2003b','a\u2028b','a\u1680b','a\u0085b','a\x0bb','a\x0cb','a\\\\b','a\\:b']: print(ascii(n))
P
while IFS= read -r q; do
  n=$(python3 -c "import sys; sys.stdout.write($q)"); rm -rf inc .nubrik out; mkdir inc; echo one > "inc/$n.h"; printf '#include "%s.h"\n' "$n" > m.c
  echo 'target o = step { run = `gcc -E -P -Iinc -MD -MF {depfile "o.d"} {in "m.c"} -o {out "o"}`, reads = glob("inc/*") }' > targets.nub
  "$NB" build > $T/l 2>&1 || { echo "$q: does not build: $(head -1 $T/l)"; continue; }; echo two > "inc/$n.h"; both "a header named $q.h is edited"
done < $T/names
end
