"""Changes files of all kinds in a folder for a while, then lets the kernel drop the volume below it."""
import os,random,sys,threading,time,ctypes,fcntl
root=sys.argv[1]; seconds=float(sys.argv[2]); seed=int(sys.argv[3])
libc=ctypes.CDLL(None,use_errno=True)
stop=time.time()+seconds
often=int(os.environ.get('SYNC_EVERY','60'))
FICLONE=0x40049409
def worker(n):
    r=random.Random(seed*100+n); base=f"{root}/w{n}"; os.makedirs(base,exist_ok=True)
    names=[]
    while time.time()<stop:
        try:
            k=r.randrange(12); name=f"{base}/{r.choice('abcdef')}{r.randrange(60)}" + "n"*r.randrange(60)
            if k<3:
                with open(name,'wb') as f: f.write(os.urandom(r.randrange(1,200000)))
                names.append(name)
            elif k==3 and names:
                p=r.choice(names)
                with open(p,'r+b') as f:
                    f.seek(r.randrange(0,1<<22)); f.write(os.urandom(r.randrange(1,50000)))
            elif k==4 and names:
                os.truncate(r.choice(names), r.randrange(0,300000))
            elif k==5 and names:
                p=r.choice(names); os.unlink(p); names.remove(p)
            elif k==6 and names:
                p=r.choice(names); os.rename(p,name); names.remove(p); names.append(name)
            elif k==7 and names:
                p=r.choice(names)
                with open(p,'rb') as s, open(name,'wb') as d: fcntl.ioctl(d.fileno(),FICLONE,s.fileno())
                names.append(name)
            elif k==8 and names:
                p=r.choice(names)
                os.setxattr(p,f"user.{r.randrange(9)}".encode(),os.urandom(r.choice([3,200,3000,9000])))
            elif k==9 and names:
                p=r.choice(names); fd=os.open(p,os.O_RDWR)
                mode=r.choice([0,1,3]); libc.fallocate(fd,mode,ctypes.c_long(r.randrange(0,500000)),ctypes.c_long(r.randrange(1,500000))); os.close(fd)
            elif k==10:
                d=f"{base}/d{r.randrange(20)}"; os.makedirs(d,exist_ok=True)
                for i in range(r.randrange(60)):
                    open(f"{d}/{i}"+"x"*r.randrange(100),'w').close()
            elif k==11:
                d=f"{base}/d{r.randrange(20)}"
                if os.path.isdir(d):
                    for e in os.listdir(d)[:40]: os.unlink(f"{d}/{e}")
            if r.randrange(often)==0 and names:
                fd=os.open(r.choice(names),os.O_RDONLY); os.fsync(fd); os.close(fd)
        except OSError as e:
            pass
ts=[threading.Thread(target=worker,args=(n,)) for n in range(4)]
[t.start() for t in ts]
if len(sys.argv) > 4:
    time.sleep(seconds*0.8); os.system(f"xfs_io -x -c 'shutdown {sys.argv[4]}' {root}")
[t.join() for t in ts]
