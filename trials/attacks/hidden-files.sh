# hide_undeclared = true: calls by which a step still learns that an undeclared file is there.
. "$(cd "$(dirname "$0")" && pwd)/lib"
echo 'hide_undeclared = true' > nubrik.toml; echo x > und.txt; mkdir undd; echo y > undd/f
cat > p.py <<'P'
import os,ctypes,sys,errno,threading
l=ctypes.CDLL(None,use_errno=True); out=open(sys.argv[1],'w')
def sysc(n,*a):
    r=l.syscall(n,*a); return r if r>=0 else -ctypes.get_errno()
B=ctypes.create_string_buffer(4096)
calls={'open':(2,0,0),'stat':(4,B),'lstat':(6,B),'access':(21,0),'readlink':(89,B,100),'chmod':(90,0o644),'chown':(92,-1,-1),'truncate':(76,0),'statfs':(137,B),'chdir':(80,),'getxattr':(191,b'user.a',B,100),'lgetxattr':(192,b'user.a',B,100),'listxattr':(194,B,100),'llistxattr':(195,B,100),'setxattr':(188,b'user.a',b'1',1,0),'removexattr':(197,b'user.a'),'utime':(132,None),'utimes':(235,None),'mkdir':(83,0o755),'rmdir':(84,),'unlink':(87,),'mknod':(133,0o100644,0),'chroot':(161,),'creat':(85,0o644),'execve':(59,None,None),'uselib':(134,),'swapon':(167,0),'acct':(163,)}
at={'openat':(257,0,0),'openat O_PATH':(257,0o10000000,0),'newfstatat':(262,B,0),'statx':(332,0,0x7ff,B),'faccessat':(269,0),'faccessat2':(439,0,0),'readlinkat':(267,B,100),'fchmodat':(268,0o644),'fchmodat2':(452,0o644,0),'fchownat':(260,-1,-1,0),'utimensat':(280,None,0),'name_to_handle_at':(303,B,ctypes.byref(ctypes.c_int()),0),'openat2':(437,ctypes.create_string_buffer(24),24),'execveat':(322,None,None,0),'unlinkat':(263,0),'mkdirat':(258,0o755),'mknodat':(259,0o100644,0),'open_tree':(428,0),'getxattrat':(464,0,b'user.a',B,16),'file_getattr':(468,B,24,0)}
def both(f):
    a=f(b'und.txt'); b=f(b'no-such.txt'); return a,b
for n,(k,*r) in calls.items():
    if n in('unlink','rmdir','chroot','acct','swapon'): continue
    a,b=both(lambda p: sysc(k,p,*r))
    if a!=b: print('ESCAPE',n,errno.errorcode.get(-a,a),errno.errorcode.get(-b,b),file=out)
for n,(k,*r) in at.items():
    if n=='unlinkat': continue
    if n=='name_to_handle_at': B[0:4]=b'\x80\0\0\0'
    a,b=both(lambda p: sysc(k,-100,p,*r))
    if a!=b: print('ESCAPE',n,errno.errorcode.get(-a,a),errno.errorcode.get(-b,b),file=out)
i=l.inotify_init(); a,b=both(lambda p: l.inotify_add_watch(i,p,0xfff)>0)
if a!=b: print('ESCAPE inotify_add_watch',a,b,file=out)
a,b=both(lambda p: sysc(86,p,os.path.dirname(sys.argv[1]).encode()+b'/l'))
if a!=b: print('ESCAPE link',errno.errorcode.get(-a,a),errno.errorcode.get(-b,b),file=out)
a,b=both(lambda p: sysc(82,p,os.path.dirname(sys.argv[1]).encode()+b'/l'))
if a!=b: print('ESCAPE rename',errno.errorcode.get(-a,a),errno.errorcode.get(-b,b),file=out)
# a race: another thread changes the name between the look and the call
buf=ctypes.create_string_buffer(b'p.py\0\0\0\0\0\0',16); stop=False; won=0
def flip():
    while not stop:
        buf.value=b'und.txt'; buf.value=b'zzz.txt'
t=threading.Thread(target=flip); t.start()
res=set()
for _ in range(3000): res.add(sysc(4,buf,B))
stop=True; t.join()
if 0 in res: print('ESCAPE stat, name changed by a thread meanwhile',res,file=out)
print('done',file=out)
P
echo 'target t = step { run = `python3 {in "p.py"} {out "o"}`, timeout = 60s }' > targets.nub
$NB build >$T/l 2>&1; head -3 $T/l | sed 's/^/  /'; sed 's/^/  /' out/default/t/o; grep -q ESCAPE out/default/t/o && verdict 1 || verdict 0
