# The kit of C: files that compilers read and do not list: `.incbin` in C (fonts, firmware, keys), `.include` and `.incbin` in assembly. An edit of them compiles nothing.
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir lib; printf '__asm__(".section .rodata\\n.globl blob\\nblob: .incbin \\"lib/data.bin\\"\\n.byte 0\\n.previous");\n' > lib/a.c; printf one > lib/data.bin
echo 'extern const char blob[]; extern const int n_asm;' > lib/l.h; printf '.section .rodata\n.globl n_asm\nn_asm: .include "lib/n.inc"\n' > lib/s.S; echo '.int 1' > lib/n.inc
printf '#include <stdio.h>\n#include "l.h"\nint main(void){ printf("%%s %%d\\n", blob, n_asm); return 0; }\n' > m.c
cat > targets.nub <<'N'
use "nub:c" as c
private target lib = c.library { sources = glob("lib/*.[cS]"), headers = glob("lib/*.h"), internal = ["lib/n.inc", "lib/data.bin"] }
private target prog = c.program { sources = "m.c", needs = lib }
target shown = step { run = `{prog} > {out "o"}` }
N
both first; printf two > lib/data.bin; both "a file that C takes by .incbin is edited"; echo '.int 2' > lib/n.inc; both "a file that assembly includes is edited"
end
