# Answers questions about root folders, one JSON object a line. It runs in a
# mount namespace of its own: what it mounts, nobody else sees.
import ctypes, json, logging, os, shutil, signal, subprocess, sys, tempfile

libc = ctypes.CDLL(None, use_errno=True)
MS_BIND, MS_REC, MNT_DETACH = 4096, 16384, 2

def mount(source, target):
    os.makedirs(target, exist_ok=True)
    if libc.mount(source.encode(), target.encode(), None, MS_BIND | MS_REC, None):
        raise OSError(ctypes.get_errno(), target)

def prepare(root):
    for link in ("bin", "sbin", "lib", "lib64"):
        if os.path.islink("/" + link) and not os.path.lexists(root + "/" + link):
            os.symlink(os.readlink("/" + link), root + "/" + link)
    mounted = []
    for folder in ("usr", "dev", "proc"):
        if not os.path.islink(root + "/" + folder):
            mount("/" + folder, root + "/" + folder)
            mounted.append(root + "/" + folder)
    for folder in ("tmp", "root", "run", "var/tmp", "var/lib", "var/cache", "var/log", "etc"):
        try:
            os.makedirs(root + "/" + folder, exist_ok=True)
        except OSError:
            pass
    return mounted

def ask_dnf():
    base = dnf.Base()
    conf = base.conf
    conf.read(priority=dnf.conf.PRIO_MAINCONFIG)
    conf.substitutions.update_from_etc("/", varsdir=conf._get_value("varsdir"))
    if conf.releasever is None:
        with open("/etc/dnf-releasever-of-the-test") as f:
            conf.releasever = f.read()
    said = []
    class Keep(logging.Handler):
        def emit(self, record):
            said.append(record.getMessage())
    logging.getLogger("dnf").handlers = [Keep()]
    logging.getLogger("dnf").setLevel(1)
    base.read_all_repos()
    position = {r.id: n + 1 for n, r in enumerate(base.repos.iter_enabled())}
    repos = []
    for r in dict.values(base.repos):
        repos.append({
            "id": r.id, "name": r.name, "enabled": bool(r.enabled), "urls": list(r.baseurl), "mirrorlist": r.mirrorlist or "", "metalink": r.metalink or "",
            "gpgkey": list(r.gpgkey), "packages": bool(r.gpgcheck), "metadata": bool(r.repo_gpgcheck), "priority": r.priority, "file": r.repofile,
            "position": position.get(r.id, 0), "exclude": list(r.excludepkgs), "include": list(r.includepkgs),
        })
    main = dict(line.split(" = ", 1) for line in conf.dump().split("\n") if " = " in line)
    print(json.dumps({"repos": repos, "said": said, "main": main, "exclude": list(conf.excludepkgs), "include": list(conf.includepkgs)}))

def ask_dnf_keys():
    import dnf.crypto
    out = {}
    for name in sorted(os.listdir("/keys")):
        with open("/keys/" + name, "rb") as f:
            try:
                out[name] = [info.fingerprint for info in dnf.crypto.rawkey2infos(f)]
            except Exception as e:
                out[name] = ["error " + type(e).__name__]
    print(json.dumps(out))

asks = {"dnf": ask_dnf, "dnf-keys": ask_dnf_keys}

def end_what_is_left():
    """Ends what a program has left running, such as gpg's agent: all other processes of the cell."""
    if os.getpid() != 1:
        return
    try:
        os.kill(-1, signal.SIGKILL)
        while os.waitpid(-1, 0)[0]:
            pass
    except (ProcessLookupError, ChildProcessError):
        pass

def answer(q):
    mounted = []
    try:
        mounted = prepare(q["root"])
        out, err = tempfile.TemporaryFile(), tempfile.TemporaryFile()
        pid = os.fork()
        if pid == 0:
            code = 98
            try:
                signal.alarm(60)
                os.dup2(os.open("/dev/null", os.O_RDONLY), 0)
                os.dup2(out.fileno(), 1)
                os.dup2(err.fileno(), 2)
                os.chroot(q["root"])
                os.chdir("/")
                if q["ask"]:
                    asks[q["ask"]]()
                    sys.stdout.flush()
                    code = 0
                else:
                    os.execve(q["argv"][0], q["argv"], dict(os.environ, XDG_CACHE_HOME="/tmp", XDG_DATA_HOME="/tmp"))
            except BaseException as e:
                print(type(e).__name__, e, file=sys.stderr, flush=True)
                code = 97
            finally:
                os._exit(code)
        _, status = os.waitpid(pid, 0)
        end_what_is_left()
        out.seek(0)
        err.seek(0)
        return {"out": out.read().decode("utf-8", "replace"), "err": err.read().decode("utf-8", "replace"), "code": os.waitstatus_to_exitcode(status)}
    finally:
        for m in mounted:
            libc.umount2(m.encode(), MNT_DETACH)

for line in sys.stdin:
    q = json.loads(line)
    if q["ask"] and "dnf" not in sys.modules:
        import dnf, dnf.conf, dnf.rpm, libdnf
    print(json.dumps(answer(q)), flush=True)
