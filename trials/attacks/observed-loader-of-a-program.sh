# An `observed` step starts a program of the workspace whose loader (PT_INTERP) is in the workspace, too: the kernel opens it itself,
# and it does not count (interpreters after #! do).
. "$(cd "$(dirname "$0")" && pwd)/lib"
mkdir src; echo 1 > src/n; L=$(readlink -f /lib64/ld-linux-x86-64.so.2); cp "$L" src/ld.so
echo 'int puts(const char*); int main(void){puts("by the loader");return 0;}' > $T/m.c; gcc -o src/prog $T/m.c -Wl,--dynamic-linker=/nubrik/src/ld.so || exit 2
cat > $T/state.c <<'C'
static long c(long n,long a,long b,long d){long r;__asm__ volatile("syscall":"=a"(r):"a"(n),"D"(a),"S"(b),"d"(d):"rcx","r11","memory");return r;}
void _start(void){c(1,1,(long)"by another loader\n",18);c(60,0,0,0);}
C
echo 'cat src/n; src/prog' > t.sh
echo 'target t = step { run = `sh {in "t.sh"} > {out "o"}`, reads = [glob("src/*")], observed = true }' > targets.nub
both first; echo 2 > src/n; both "n is edited"; gcc -static -nostdlib -o src/ld.so $T/state.c || exit 2; both "the loader is another one"
end
