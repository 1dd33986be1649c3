# A beacon of Kalyx: says which Python runs this, what is installed for it, and what becomes of some imports.
# It imports what is named in ASKED, reads names and metadata, and prints one block. It writes and sends nothing.
def kalyx_beacon():
    import os, sys, time
    ASKED = []
    def told(question, *about):  # an answer, or nothing where that ends in an error
        try: return question(*about)
        except Exception: return None
    own, path = sys._getframe().f_code.co_filename, [p for p in sys.path if isinstance(p, (str, type(u"")))]
    join, up, sep, cwd = os.path.join, os.path.dirname, os.sep, told(os.getcwd) or ""
    content = lambda file: (file.read(1 << 22), file.close())[0].decode("utf-8", "replace")
    text_of = lambda *parts: told(lambda: content(open(join(*parts), "rb"))) or ""
    hidden = lambda text: "://".join("***" + p[p.split("/")[0].rindex("@"):] if n and "@" in p.split("/")[0] else p
                                     for n, p in enumerate(text.split("://")))  # no names and passwords of addresses
    never, links = ("TOKEN", "PASS", "SECRET", "KEY", "CRED"), (".pth", ".egg-link", "pyvenv.cfg")
    plain = lambda text: "" if any(n in text.upper() for n in never) else hidden(text)  # nothing where it may be one
    def described(error, trace, link):  # an exception, and the code that it went through
        at = []
        while trace is not None:
            code, line, trace = trace.tb_frame.f_code, trace.tb_lineno, trace.tb_next
            if code.co_filename not in (own, "<string>") and "importlib._bootstrap" not in code.co_filename:
                at.append([code.co_filename, line, code.co_name])
        name, path, line, file, says = (told(getattr, error, k) for k in ("name", "path", "lineno", "filename", "msg"))
        at = at[:10] + at[10:][-40:] + ([[file, line, "<module>"]] if line and isinstance(error, SyntaxError) else [])
        return {"type": type(error).__name__, "message": hidden(told(str, says or error) or "")[:4000], "name":
                told(str, name or ""), "path": path and told(str, path), "lineno": line, "link": link, "frames": [
                    [f, n, w, told(lambda: plain(text_of(f).split("\n")[n - 1].strip()[:200]))] for f, n, w in at]}
    def attempt(asked):  # import something; say what happened, and which modules came in
        module, _, name = asked.partition(":")
        before, chain, link, error, trace = set(sys.modules), [], "", None, None
        try:
            exec("from %s import %s" % (module, name) if name else "import " + module, {"__name__": "__main__"})
        except BaseException:
            error, trace = sys.exc_info()[1:]
        while error is not None and len(chain) < 8:
            chain.append(described(error, trace, link))
            cause, context = getattr(error, "__cause__", None), getattr(error, "__context__", None)
            kept = ("suppressed" if getattr(error, "__suppress_context__", False) else "context", context)
            link, error = kept if cause is None else ("cause", cause)
            trace = getattr(error, "__traceback__", None)
        came = [(k, object.__getattribute__(m, "__dict__")) for k, m in list(sys.modules.items()) if isinstance(
            m, type(sys)) and (module.startswith(k) or ("." not in k and k not in before))]  # does not wake a lazy one
        loaded = dict((k, [own.get("__file__"), list(map(str, own.get("__path__") or ()))]) for k, own in came)
        return {"module": module, "name": name or None, "chain": chain, "loaded": loaded}
    def distribution(place):  # what the metadata of something installed says; of what was asked for, which files it has
        heads = (text_of(place, "METADATA") or text_of(place, "PKG-INFO") or text_of(place)).replace("\r", "")
        rows = [row.strip().rsplit(",", 2) for row in text_of(place, "RECORD").split("\n") if row.count(",") > 1]
        tops = text_of(place, "top_level.txt").split() or [r[0].split("/")[0] for r in rows if "-info/" not in r[0]]
        rows = rows[:3000] if mine.intersection(top.split(".")[0] for top in tops) else []
        heads = [hidden(x) for x in heads.split("\n\n")[0].split("\n") if x[:4] in "Name Vers Requ Prov Impo"]
        return {"at": place, "by": text_of(place, "INSTALLER"), "tops": sorted({t for t in tops if t[:1] not in "./_"}),
                "heads": heads, "rows": [[r[0], r[2], told(os.path.getsize, join(place, "..", r[0]))] for r in rows],
                "url": hidden(text_of(place, "direct_url.json")), "in": told(os.listdir, place)}
    def dump(value):  # JSON in ASCII, without a module for it, in whose place a file of this folder may stand
        if isinstance(value, dict): return "{%s}" % ",".join(dump(k) + ":" + dump(v) for k, v in value.items())
        if isinstance(value, (list, tuple)): return "[%s]" % ",".join(map(dump, value))
        if value is None or isinstance(value, (bool, int)): return repr(value).replace("None", "null").lower()
        text = value.decode("utf-8", "replace") if isinstance(value, bytes) else told(type(u""), value) or u""
        return '"%s"' % "".join(c if " " <= c <= "~" and c not in '"\\' else "\\u%04x" % ord(c) if ord(c) < 65536 else
                                "\\u%04x\\u%04x" % (55232 + (ord(c) >> 10), 56320 + (ord(c) & 1023)) for c in text)
    seen, zlib = [attempt(asked) for asked in ASKED], __import__("zlib")
    base, errors = getattr(sys, "base_prefix", sys.prefix), sum([one["chain"] for one in seen], [])
    some = ("PYTHON", "PIP_", "LD_", "DYLD_", "CONDA_", "VIRTUAL_ENV", "PATH", "HOME", "LOADEDMODULES", "_LMFILES_")
    env = dict((k, hidden(v)) for k, v in os.environ.items() if k.startswith(some) and plain(k))
    facts = {"host": getattr(os, "uname", lambda: ("", os.environ.get("COMPUTERNAME")))()[1], "imports": seen,
             "version": sys.version, "implementation": getattr(getattr(sys, "implementation", None), "name", ""),
             "platform": sys.platform, "builtin": sys.builtin_module_names, "env": env, "path": path, "cwd": cwd,
             "executable": sys.executable, "prefix": sys.prefix, "base_prefix": base, "flags": str(sys.flags),
             "stdlib": list(getattr(sys, "stdlib_module_names", ())), "home": os.path.expanduser("~"),
             "user_site": getattr(sys.modules.get("site"), "USER_SITE", None)}
    entries = [join(cwd, p) if p else cwd for p in path] + [facts["user_site"] or cwd]
    names, above = ASKED + [e["name"] or "src" for e in errors], [up(cwd), up(up(cwd)), up(up(up(cwd)))]
    tops = [join(f, n.split(".")[0].split(":")[0] + end) for f in entries + above for n in names + [
        "pip", "ensurepip", "src"] for end in ("", ".py")]
    folders = [sys.prefix, base, up(sys.executable or cwd)] + entries + tops + [
        join(cwd, n) for n in sorted(told(os.listdir, cwd) or ())[:99]]
    folders += [p for one in seen for _, at in one["loaded"].values() for p in at] + [f(p) for p in path if "ython" in p
                for f in (up, lambda p: up(up(p)), lambda p: p.replace(sys.prefix, base))]
    facts["folders"] = dict((f, os.path.exists(f) if not os.path.isdir(f) else told(lambda: [
        n + "/" if "." not in n and os.path.isdir(join(f, n)) else n for n in os.listdir(f)])) for f in folders)
    facts["real"] = dict((p, os.path.realpath(p)) for p in folders + [sys.executable or cwd])
    places = [join(f, n) for f, names in facts["folders"].items() if isinstance(names, list) for n in names]
    mine = set(n.split("-packages" + sep)[-1].split(".")[0].split(":")[0].split(sep)[0] for n in ASKED + [
        at[0] for e in errors for at in e["frames"]]) - {""}
    facts["files"] = dict((p, hidden(text_of(p)[:9999])) for p in places if p.endswith(links))
    installed = [distribution(p.rstrip("/")) for p in places if p.rstrip("/").endswith((".dist-info", ".egg-info"))]
    for left in ("", "rows", "rows heads", "rows heads tops", "rows heads tops files folders"):  # until it is short
        kept = [dict((k, v) for k, v in d.items() if k not in left.split()) for d in [facts] + installed]
        data = bytearray(zlib.compress(dump(dict(kept[0], left=left, installed=kept[1:])).encode("ascii"), 9))
        if len(data) < 40000: break  # which makes 64 kB of text
    signs = [chr(n) for n in range(33, 127) if chr(n) not in "&<>\"'\\`*."]  # 85, which no mail or page changes
    quads = [int("".join("%02x" % byte for byte in data[n:n + 4]).ljust(8, "0"), 16) for n in range(0, len(data), 4)]
    text = "".join(signs[quad // 85 ** power % 85] for quad in quads for power in (4, 3, 2, 1, 0))
    tag = "k%05x" % (hash(str([cwd, os.getpid(), time.time()])) % 1048576)
    rows = ["%s.%04d.%s" % (tag, n // 55, text[n:n + 55]) for n in range(0, len(text), 55)]
    sums = [sum(n * ord(char) for n, char in enumerate(row, 1)) % 7225 for row in rows]  # shows what came over whole
    rows = ["[kalyx beacon 1: %s begins, %d lines, %d bytes]" % (tag, len(sums), len(data))] + [
        "%s.%s%s" % (r, signs[n // 85], signs[n % 85]) for r, n in zip(rows, sums)] + ["[kalyx beacon %s ends]" % tag]
    for n in range(0, len(rows), 50): sys.stdout.write("\n".join(rows[n:n + 50] + [""])), sys.stdout.flush()
kalyx_beacon(); del kalyx_beacon
