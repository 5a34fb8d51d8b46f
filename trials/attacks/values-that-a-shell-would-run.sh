# A value with quotes and commands in it, in holes of scripts: behind escapes, comments, patterns of `case`, here-documents.
. "$(cd "$(dirname "$0")" && pwd)/lib"
v=0
cat > targets.nub <<'N'
let v = "a$(touch $TMPDIR/ran; echo pwned)`echo pw`'\"\\ b"
target a = step { run = sh`printf '%s\n' "x$(printf '\101')" {v} "{v}" > {out "o"}` }
target b = step { run = sh`x="$(case $0 in a) echo no;; (b|*) printf '%s' "{v}";; esac)"; printf '%s\n' "$x" {v} > {out "o"}` }
target c = step { run = sh`: # it is "not" a "(b" )
printf '%s\n' {v} "{v}" > {out "o"}` }
target d = step { run = sh`cat << 'E N' - > {out "o"}
its here
E N
printf '%s\n' {v} "$(printf '%s' {v})" >> {out "o"}` }
target e = step { run = sh`if case a in esac; then :; fi; case x in
  x) printf '%s\n' {v} "{v}" > {out "o"};;
esac` }
target f = step { run = sh`printf '%s\n' 'a\' {v} "{v}" \' > {out "o"}` }
N
$NB build > $T/l 2>&1 || { v=1; tail -5 $T/l; }
printf '%s\n' "a\$(touch \$TMPDIR/ran; echo pwned)\`echo pw\`'\"\\ b" > $T/value
for t in a b c d e f; do
    [ "$(grep -cxFf $T/value out/default/$t/o)" = 2 ] || { v=1; echo "  $t: $(cat out/default/$t/o)"; }
done
printf 'let v = "x"\ntarget a = step { run = sh`cat << E > {out "o"}\n{v}\nE` }\n' > targets.nub
$NB build > $T/l 2>&1 && { v=1; echo "  a hole in a here-document is taken"; }
verdict $v
