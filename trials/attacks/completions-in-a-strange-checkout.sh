# Pressing TAB in a stranger's checkout. (a) bash: names of folders are put on the line as they are: `nubrik build a<TAB><Enter>` runs what the name says.
# (b) `targets.nub` that is a pipe hangs the shell, one that leads to /dev/zero takes all memory (`list` refuses both): it is read without looking.
. "$(cd "$(dirname "$0")" && pwd)/lib"
: > nubrik.toml; mkdir 'a;touch${IFS}pwned;#'; echo 'target t = write { path = "t", text = "t" }' > 'a;touch${IFS}pwned;#/targets.nub'
cat > $T/d.py <<'P'
import os,sys,time,select,pty
pid,fd=pty.fork()
if pid==0:
    os.environ.update(PS1='$ ',TERM='dumb',PATH=sys.argv[1]+':/usr/bin:/bin')
    os.execvp('bash',['bash','--norc','--noprofile','-i'])
def rd(t):
    o=b''; e=time.time()+t
    while time.time()<e:
        if select.select([fd],[],[],0.1)[0]:
            try: o+=os.read(fd,9999)
            except OSError: break
    return o.decode(errors='replace')
rd(.6); os.write(fd,b'nubrik setup completions bash > $TMPDIR/c.sh; . $TMPDIR/c.sh\n'); rd(1)
os.write(fd,b'nubrik build a\t'); print('the line after TAB:',rd(2)); os.write(fd,b'\n'); rd(1); os.write(fd,b'exit\n'); rd(.3)
P
mkdir $T/bin; ln -s "$(command -v "$NB")" $T/bin/nubrik; TMPDIR=$T timeout 30 python3 $T/d.py $T/bin; [ -e pwned ] && { echo "RAN the name of a folder"; bad=1; } || echo "ran nothing"
asks() { env _CLAP_IFS=$'\013' _CLAP_COMPLETE_INDEX=2 NUBRIK_COMPLETE=bash "$@" "$NB" -- nubrik build ''; }
rm -rf *; : > nubrik.toml; mkfifo targets.nub; asks timeout 5 >/dev/null 2>&1; [ $? = 124 ] && { echo "HANGS with a pipe"; bad=1; } || echo "goes on with a pipe"
rm targets.nub; ln -s /dev/zero targets.nub; (ulimit -v 3000000; asks /usr/bin/env python3 -c 'import resource,subprocess,sys; subprocess.run(sys.argv[1:],stdout=subprocess.DEVNULL,stderr=subprocess.DEVNULL,timeout=30); print(resource.getrusage(resource.RUSAGE_CHILDREN).ru_maxrss)') > $T/kb 2>/dev/null
k=$(tail -1 $T/kb); echo "memory with /dev/zero, of 3,000,000 KB that are allowed: ${k:-?} KB"; [ "${k:-0}" -gt 300000 ] && bad=1
end
